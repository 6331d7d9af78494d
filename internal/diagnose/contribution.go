package diagnose

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tinbell/core/diagnose"
	"tinbell/core/timeline"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// Contribution is which segments are behind a change.
type Contribution struct {
	Columns   []string      `json:"columns" doc:"that were looked at"`
	Measure   string        `json:"measure" enum:"rows,sum,share,mean"`
	Unit      string        `json:"unit"`
	Observed  float64       `json:"observed"`
	Expected  float64       `json:"expected" doc:"mean of the same stretch of earlier weeks"`
	Weeks     int           `json:"weeks" doc:"earlier weeks compared with"`
	Parts     []Contributor `json:"parts" doc:"the fewest segments that explain most; one without tags: the whole alike"`
	Explained float64       `json:"explained" doc:"what they have of all that changed in the alert's direction"`
	By        []ByColumn    `json:"by" doc:"the most telling column first"`
	Way       string        `json:"way" enum:"fell,rose" doc:"which changes are explained"`
	Sampled   float64       `json:"sampled" doc:"share of the rows that were counted; what is said is scaled up"`
	Took      float64       `json:"took_seconds"`
}

// Dimension is a column and its value.
type Dimension struct {
	Column string `json:"column"`
	Value  string `json:"value"`
}

// Contributor is a segment and what it contributes.
type Contributor struct {
	Tags     []Dimension `json:"tags"`
	Says     string      `json:"says"`
	Observed float64     `json:"observed"`
	Expected float64     `json:"expected"`
	Change   float64     `json:"change" doc:"in the figure of the whole"`
	Share    float64     `json:"share" doc:"of all that its column's values changed in the alert's direction"`
	Z        float64     `json:"z" doc:"standard deviations"`
	New      bool        `json:"new"`
	Gone     bool        `json:"gone"`
}

// ByColumn is what the values of a column contribute, the largest first.
type ByColumn struct {
	Column string        `json:"column"`
	Values []Contributor `json:"values"`
	Rate   float64       `json:"rate" doc:"of shares and means: part of the change from the values' own rates"`
	Mix    float64       `json:"mix" doc:"… and from how rows are spread over values"`
}

const (
	weeksBack  = 4
	weeksTried = 10
	mostBy     = 6 // columns
	shownBy    = 12
)

// measureOf says how a metric's figure is explained, and what it is called.
func measureOf(m record.Metric, stored bool) (diagnose.Measure, string) {
	named := map[bool]string{true: "share", false: "mean"}[m.Kind == timeline.Share]
	if stored {
		switch {
		case m.Measure == record.MeasureSum:
			return diagnose.Sum, "sum"
		case m.Kind == timeline.Count:
			return diagnose.Rows, "rows"
		case m.Kind == timeline.Share:
			return diagnose.Share, named
		}
		return diagnose.Mean, named
	}
	parts, err := warehouse.Apart(m)
	switch {
	case err != nil || parts.Ratio && !parts.Counts:
		return diagnose.Mean, named
	case parts.Ratio:
		return diagnose.Share, "share"
	case parts.Counts:
		return diagnose.Rows, "rows"
	}
	return diagnose.Sum, "sum"
}

// contribution counts the alert's stretch and the same of earlier weeks by every
// column of few values, in one pass where the data lie.
func (d *Diagnoser) contribution(ctx context.Context, q asked) (*Contribution, error) {
	if !q.Judged() {
		return nil, none("it is about no metric")
	}
	if q.metric.Comparison != "" {
		return nil, none("it is about a drift, which the comparison's own page takes apart")
	}
	begun := time.Now()
	spans, err := d.spans(ctx, q)
	if err != nil {
		return nil, err
	}
	stored := q.metric.Pushed() || q.metric.TimeColumn == "" || q.source.Kind != record.SourcePostgreSQL
	measure, named := measureOf(q.metric, stored)
	c := &Contribution{Measure: named, Unit: q.metric.Unit, Parts: []Contributor{}, By: []ByColumn{}, Columns: []string{}}
	var groups []warehouse.Grouped
	if stored {
		c.Sampled = 1
		c.Columns, groups, err = d.stored(ctx, q, spans)
	} else {
		c.Columns, groups, c.Sampled, err = d.counted(ctx, q, spans)
	}
	if err != nil {
		return nil, err
	}
	cells := cellsOf(groups, len(spans))
	if len(cells) == 0 {
		return nil, none("there are no rows in the stretch, nor in the weeks before")
	}
	c.Weeks = len(cells[0].Before)
	if c.Weeks < 2 {
		return nil, none("fewer than two earlier weeks have rows to compare with")
	}
	towards := map[string]int{"low": -1, "high": 1}[q.Direction]
	if q.Measure == record.MeasureFreshness { // late is few rows
		towards = -1
	}
	x := diagnose.Explain(measure, len(c.Columns), cells, towards)
	if c.Way = "fell"; towards > 0 || towards == 0 && x.Observed > x.Expected {
		c.Way = "rose"
	}
	c.Observed, c.Expected, c.Explained = x.Observed, x.Expected, x.Share
	for _, p := range x.Parts {
		c.Parts = append(c.Parts, c.say(p, q))
	}
	for _, by := range x.By {
		v := ByColumn{Column: c.Columns[by.Column], Rate: by.Rate, Mix: by.Mix}
		for _, p := range by.Values[:min(len(by.Values), shownBy)] {
			v.Values = append(v.Values, c.say(p, q))
		}
		c.By = append(c.By, v)
	}
	c.Took = time.Since(begun).Seconds()
	return c, nil
}

// spans are the alert's stretch and the same of the last weeks in which nothing was
// known to be wrong with its dataset.
func (d *Diagnoser) spans(ctx context.Context, q asked) ([]warehouse.Span, error) {
	first := q.from.AddDate(0, 0, -7*weeksTried)
	incidents, err := d.store.Incidents(ctx, q.Dataset, first, q.from)
	if err != nil {
		return nil, err
	}
	faults, err := d.store.Alerts(ctx, store.AlertFilter{Dataset: q.Dataset, Verdict: record.Fault, From: first, To: q.from})
	if err != nil {
		return nil, err
	}
	wrong := func(s warehouse.Span) bool {
		return slices.ContainsFunc(incidents, func(i record.Incident) bool {
			return i.StartedAt.Before(s.To) && (i.EndedAt == nil || i.EndedAt.After(s.From))
		}) || slices.ContainsFunc(faults, func(a record.Alert) bool {
			return a.Since.Before(s.To) && (a.EndedAt == nil || a.EndedAt.After(s.From))
		})
	}
	var clean, rest []warehouse.Span
	for week := 1; week <= weeksTried; week++ {
		s := warehouse.Span{From: q.from.AddDate(0, 0, -7*week), To: q.to.AddDate(0, 0, -7*week)}
		if wrong(s) {
			rest = append(rest, s)
		} else {
			clean = append(clean, s)
		}
	}
	if len(clean) < 2 { // better a past with faults than none
		clean = append(clean, rest...)
	}
	return append([]warehouse.Span{{From: q.from, To: q.to}}, clean[:min(len(clean), weeksBack)]...), nil
}

// counted asks the warehouse.
func (d *Diagnoser) counted(ctx context.Context, q asked, spans []warehouse.Span) ([]string, []warehouse.Grouped, float64, error) {
	// Of the whole, whatever segment rang: whether it is that one alone is the answer.
	m := warehouse.Narrowed{Metric: q.metric}
	columns, err := d.pools.Dimensions(ctx, q.source, m, q.dataset.Hidden, spans, mostBy)
	if err != nil {
		return nil, nil, 0, err
	}
	if len(columns) == 0 {
		return nil, nil, 0, none("no column has few enough values to explain it by")
	}
	groups, share, err := d.pools.Group(ctx, q.source, m, columns, spans)
	return columns, groups, share, err
}

// stored takes the segments that were sent.
func (d *Diagnoser) stored(ctx context.Context, q asked, spans []warehouse.Span) ([]string, []warehouse.Grouped, error) {
	list, err := d.store.SeriesOf(ctx, q.metric.ID)
	if err != nil {
		return nil, nil, err
	}
	columns := []string(q.metric.SegmentBy)
	if len(columns) == 0 {
		columns = []string{"segment"}
	}
	if len(list) < 2 {
		return nil, nil, none("its samples are sent as they are, without segments to explain it by")
	}
	values := map[int64][]string{}
	ids := make([]int64, 0, len(list))
	for _, s := range list {
		parts := strings.Split(s.Segment, " / ")
		if len(columns) == 1 {
			parts = []string{s.Segment}
		}
		if len(parts) == len(columns) {
			values[s.ID] = parts
			ids = append(ids, s.ID)
		}
	}
	var groups []warehouse.Grouped
	for i, span := range spans {
		err := d.store.EachSeries(ctx, ids, span.From, span.To, func(id int64, samples []timeline.Sample) error {
			g := warehouse.Grouped{Span: i, Values: values[id]}
			for _, x := range samples {
				switch {
				case math.IsNaN(x.Value):
				case q.metric.Kind == timeline.Count:
					g.Rows += x.Value
				default:
					rows := max(x.Rows, 1)
					g.Rows, g.Value = g.Rows+rows, g.Value+rows*x.Value
				}
			}
			groups = append(groups, g)
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return columns, groups, nil
}

// cellsOf puts the spans of each combination together. Weeks without any row are no
// past to compare with.
func cellsOf(groups []warehouse.Grouped, spans int) []diagnose.Cell {
	rows := make([]float64, spans)
	for _, g := range groups {
		rows[g.Span] += g.Rows
	}
	place := make([]int, spans) // of a span among the weeks that count
	weeks := 0
	for i := 1; i < spans; i++ {
		if place[i] = -1; rows[i] > 0 {
			place[i] = weeks
			weeks++
		}
	}
	at := map[string]int{}
	var cells []diagnose.Cell
	for _, g := range groups {
		key := strings.Join(g.Values, "\x00")
		i, known := at[key]
		if !known {
			i = len(cells)
			at[key] = i
			cells = append(cells, diagnose.Cell{Values: g.Values, Before: make([]diagnose.Amount, weeks)})
		}
		amount := diagnose.Amount{Rows: g.Rows, Value: g.Value}
		if g.Span == 0 {
			cells[i].Now = amount
		} else if place[g.Span] >= 0 {
			cells[i].Before[place[g.Span]] = amount
		}
	}
	return cells
}

// say puts a segment's part into words.
func (c *Contribution) say(p diagnose.Part, q asked) Contributor {
	v := Contributor{Tags: []Dimension{}, Observed: p.Observed, Expected: p.Expected, Change: p.Change, Share: p.Share, Z: p.Z,
		New: p.New, Gone: p.Gone}
	var names []string
	for _, pair := range p.Pairs {
		v.Tags = append(v.Tags, Dimension{c.Columns[pair.Column], pair.Value})
		names = append(names, c.Columns[pair.Column]+" = "+pair.Value)
	}
	who := strings.Join(names, " and ")
	if who == "" {
		who = "All alike"
	}
	unit := q.metric.Unit
	if unit == "" {
		unit = "rows"
	}
	switch {
	case p.Gone && c.Measure == "rows":
		v.Says = fmt.Sprintf("%s: gone, %s were expected", who, words.Number(p.Expected))
	case p.New:
		v.Says = fmt.Sprintf("%s: new, %s rows", who, words.Number(p.Rows))
	case c.Measure == "share" && p.Observed <= 1 && p.Expected <= 1:
		observed, expected := words.Apart(p.Observed, p.Expected)
		v.Says = fmt.Sprintf("%s: %s, expected %s", who, observed, expected)
	default:
		observed, expected := words.NumbersApart(p.Observed, p.Expected)
		v.Says = fmt.Sprintf("%s: %s %s, expected %s", who, observed, map[bool]string{true: unit, false: ""}[c.Measure == "rows"], expected)
		v.Says = strings.Join(strings.Fields(strings.ReplaceAll(v.Says, " ,", ",")), " ")
	}
	return v
}
