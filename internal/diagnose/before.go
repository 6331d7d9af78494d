package diagnose

import (
	"cmp"
	"context"
	"slices"
	"time"

	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Precedent is a past incident like the alert.
type Precedent struct {
	Reference string     `json:"reference" doc:"of an incident; empty: an alert that was called a fault"`
	Alert     int64      `json:"alert"`
	Title     string     `json:"title"`
	Cause     string     `json:"cause" doc:"what it turned out to be"`
	Dataset   string     `json:"dataset"`
	Segment   string     `json:"segment"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at"`
	Seconds   float64    `json:"seconds" doc:"how long it took; 0 if that is not known"`
	Alike     []string   `json:"alike" doc:"in what it is alike"`

	score float64
}

const shownPrecedents = 5

// precedents finds the past incidents most like an alert: about the same dataset,
// measure, segment, way and time of day. What is alike in one thing alone is none.
func (d *Diagnoser) precedents(ctx context.Context, q asked) ([]Precedent, error) {
	incidents, err := d.store.Incidents(ctx, "", time.Time{}, q.Since)
	if err != nil {
		return nil, err
	}
	found := []Precedent{}
	for _, i := range incidents {
		p := Precedent{Reference: i.Reference, Title: i.Title, Cause: i.Cause, Dataset: i.Dataset, Segment: i.Segment,
			StartedAt: i.StartedAt, EndedAt: i.EndedAt}
		p.like(i.On(q.Dataset), 2, "the same dataset")
		p.like(i.Measure != "" && i.Measure == q.Measure, 1, "the same measure")
		p.like(i.Segment != "" && i.Segment == q.Segment, 1.5, "the same segment")
		p.finish(&found)
	}
	faults, err := d.store.Alerts(ctx, store.AlertFilter{Verdict: record.Fault, To: q.RaisedAt, Limit: 400})
	if err != nil {
		return nil, err
	}
	for _, a := range faults {
		if a.ID == q.ID {
			continue
		}
		p := Precedent{Alert: a.ID, Title: a.Sentence, Dataset: a.Dataset, Segment: a.Segment, StartedAt: a.Since, EndedAt: a.EndedAt}
		p.like(a.SeriesID != 0 && a.SeriesID == q.SeriesID, 3.5, "the same series")
		p.like(a.Dataset == q.Dataset && a.SeriesID != q.SeriesID, 1.5, "the same dataset")
		p.like(a.Measure != "" && a.Measure == q.Measure && a.SeriesID != q.SeriesID, 1, "the same measure")
		p.like(a.Segment != "" && a.Segment == q.Segment && a.SeriesID != q.SeriesID, 1, "the same segment")
		p.like(a.Cause == q.Cause && a.Direction == q.Direction, 1, "the same way")
		if p.score >= 3 && len(found) < 40 {
			if labels, err := d.store.Labels(ctx, a.ID); err == nil && len(labels) > 0 {
				p.Cause = cmp.Or(labels[0].Cause, labels[0].Note)
			}
		}
		p.finish(&found)
	}
	slices.SortStableFunc(found, func(a, b Precedent) int {
		return cmp.Or(cmp.Compare(b.score, a.score), b.StartedAt.Compare(a.StartedAt))
	})
	// An incident and the alerts about it are one thing.
	var shown []Precedent
	for _, p := range found {
		if !slices.ContainsFunc(shown, func(o Precedent) bool {
			return o.Dataset == p.Dataset && o.StartedAt.Sub(p.StartedAt).Abs() < 36*time.Hour
		}) && len(shown) < shownPrecedents {
			shown = append(shown, p)
		}
	}
	if shown == nil {
		return []Precedent{}, none("nothing like it was called a fault so far")
	}
	return shown, nil
}

func (p *Precedent) like(is bool, worth float64, what string) {
	if is {
		p.score += worth
		p.Alike = append(p.Alike, what)
	}
}

func (p *Precedent) finish(found *[]Precedent) {
	if p.score < 3 {
		return
	}
	if p.EndedAt != nil {
		p.Seconds = p.EndedAt.Sub(p.StartedAt).Seconds()
	}
	*found = append(*found, *p)
}

// listings writes the SQL that finds the rows.
func (d *Diagnoser) listings(ctx context.Context, q asked) ([]warehouse.Listing, error) {
	switch {
	case !q.Judged():
		return []warehouse.Listing{}, none("it is about no rows of a table")
	case q.metric.Comparison != "":
		return d.drifted(ctx, q)
	case q.metric.Pushed() || q.source.Kind != record.SourcePostgreSQL:
		return []warehouse.Listing{}, none("its samples were sent: the rows are not in a warehouse that is known")
	case q.metric.TimeColumn == "":
		return []warehouse.Listing{}, none("its table is measured as it stands, without a time column")
	}
	columns, err := d.shown(ctx, q)
	if err != nil {
		return []warehouse.Listing{}, err
	}
	return warehouse.Offending(warehouse.Narrowed{Metric: q.metric, Segment: q.Segment}, q.Direction,
		warehouse.Span{From: q.from, To: q.to}, columns, q.dataset.LoadedBy), nil
}

// drifted writes the SQL that shows which values of a feature moved.
func (d *Diagnoser) drifted(ctx context.Context, q asked) ([]warehouse.Listing, error) {
	v, err := d.store.Comparison(ctx, q.metric.Comparison)
	if err != nil {
		return []warehouse.Listing{}, err
	}
	s := v.Settings
	shape, err := d.pools.Shape(ctx, warehouse.Distribution{Source: q.source, Table: q.Dataset})
	column := func(named string) int {
		return slices.IndexFunc(shape, func(c record.Column) bool { return c.Name == named })
	}
	switch {
	case q.source.Kind != record.SourcePostgreSQL || s.Query != "" || s.Elsewhere() || s.TimeColumn == "" || v.Referred.From.IsZero():
		return []warehouse.Listing{}, none("its reference and its periods are not rows of one table")
	case err != nil:
		return []warehouse.Listing{}, err
	case slices.Contains(q.dataset.Hidden, q.Segment):
		return []warehouse.Listing{}, none("the feature's values are never shown")
	case column(q.Segment) < 0 || column(s.TimeColumn) < 0:
		return []warehouse.Listing{}, none("it is about no single feature of the table")
	}
	kind, known := warehouse.TimeType(shape[column(s.TimeColumn)].Type)
	if !known {
		return []warehouse.Listing{}, none("its time column holds no time")
	}
	days := map[string]int{"day": 1, "week": 7, "month": 31}[s.Period]
	span := warehouse.Span{From: q.Since.AddDate(0, 0, 1-days), To: q.Since.AddDate(0, 0, 1)} // its series holds a period on its last day
	return warehouse.Drifted(q.Dataset, s.TimeColumn, kind, v.Zone, shape[column(q.Segment)],
		warehouse.Span{From: v.Referred.From, To: v.Referred.To}, span), nil
}

// shown are the columns of the alert's table that may be shown.
func (d *Diagnoser) shown(ctx context.Context, q asked) ([]string, error) {
	shape, err := d.pools.Shape(ctx, warehouse.Distribution{Source: q.source, Table: q.Dataset})
	if err != nil {
		return nil, err
	}
	var columns []string
	for _, c := range shape {
		if !slices.Contains(q.dataset.Hidden, c.Name) {
			columns = append(columns, c.Name)
		}
	}
	return columns, nil
}

// Rows runs one of an alert's listings for somebody: shown, not kept, and said in
// the audit trail.
func (d *Diagnoser) Rows(ctx context.Context, alert int64, listing string, limit int, who string) (warehouse.Found, error) {
	q, err := d.ask(ctx, alert)
	if err != nil {
		return warehouse.Found{}, err
	}
	list, err := d.listings(ctx, q)
	if err != nil {
		return warehouse.Found{}, record.Conflict{What: reason(err)}
	}
	i := slices.IndexFunc(list, func(l warehouse.Listing) bool { return l.Name == listing })
	if i < 0 {
		var names string
		for k, l := range list {
			if k > 0 {
				names += ", "
			}
			names += l.Name
		}
		return warehouse.Found{}, record.Invalid{Field: "listing", Given: listing, Allowed: names}
	}
	entry := record.Audit{At: d.now().UTC(), Who: who, What: "looked at rows", About: q.Dataset, Note: list[i].Title}
	if err := d.store.AddAudit(ctx, entry); err != nil {
		return warehouse.Found{}, err
	}
	found, err := d.pools.List(ctx, q.source, list[i], limit)
	if err != nil {
		return found, record.Conflict{What: reason(err)}
	}
	return found, nil
}
