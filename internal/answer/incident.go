package answer

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// AddIncident stores one incident; without a reference it gets a running one.
func (d *Desk) AddIncident(ctx context.Context, v record.Incident) (record.Incident, error) {
	var added record.Incident
	err := d.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		added, err = d.addIncident(ctx, tx, v)
		return err
	})
	return added, err
}

// addIncident is AddIncident in the caller's transaction.
func (d *Desk) addIncident(ctx context.Context, tx pgx.Tx, v record.Incident) (record.Incident, error) {
	in := d.in(tx)
	if err := in.complete(ctx, &v); err != nil {
		return v, err
	}
	reference, err := store.AddIncident(ctx, tx, v)
	if err != nil {
		return v, err
	}
	if err := d.explainAgain(ctx, tx, v.Datasets()); err != nil {
		return v, err
	}
	return d.store.In(tx).Incident(ctx, reference)
}

// explainAgain has everything fitted again that leaves out what incidents and
// planned events of some datasets explain.
func (d *Desk) explainAgain(ctx context.Context, tx pgx.Tx, datasets []string) error {
	monitors, err := store.MonitorsOfDatasets(ctx, tx, datasets)
	if err != nil {
		return err
	}
	if err := d.learnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicIncidents)
}

// complete checks an incident and fills in what follows from it.
func (d *Desk) complete(ctx context.Context, v *record.Incident) error {
	dataset, err := d.store.Dataset(ctx, v.Dataset)
	if err != nil {
		return err
	}
	v.DatasetID = dataset.ID
	also := record.Strings{}
	for _, name := range v.Also {
		if _, err := d.store.Dataset(ctx, name); err != nil {
			return err
		}
		if name != v.Dataset && !slices.Contains(also, name) {
			also = append(also, name)
		}
	}
	v.Also = also
	switch {
	case strings.TrimSpace(v.Title) == "":
		return record.Invalid{Field: "title", Given: v.Title, Allowed: "a few words that say what happened"}
	case v.StartedAt.IsZero():
		return record.Invalid{Field: "started_at", Given: "", Allowed: "when the fault began, RFC 3339"}
	case v.EndedAt != nil && !v.EndedAt.After(v.StartedAt):
		return record.Invalid{Field: "ended_at", Given: v.EndedAt.Format(time.RFC3339), Allowed: "a time after started_at, " +
			v.StartedAt.Format(time.RFC3339)}
	}
	if v.Severity == "" {
		v.Severity = "warning"
	}
	if v.Severity != "warning" && v.Severity != "critical" {
		return record.Invalid{Field: "severity", Given: v.Severity, Allowed: "warning or critical"}
	}
	if v.KnownAt.IsZero() {
		v.KnownAt = d.now().UTC()
	}
	return nil
}

// putIncidents writes incidents under their references, in the place of those there
// are.
func (d *Desk) putIncidents(ctx context.Context, tx pgx.Tx, list []record.Incident) (added int, err error) {
	var datasets []string
	for _, v := range list {
		_, fresh, err := store.PutIncident(ctx, tx, v)
		if err != nil {
			return 0, err
		}
		if fresh {
			added++
		}
		datasets = append(datasets, v.Datasets()...)
	}
	return added, d.explainAgain(ctx, tx, datasets)
}

// IncidentColumns are the columns of an incident catalogue; the first five are
// needed. Times are RFC 3339, so each carries its own zone.
var IncidentColumns = []string{"reference", "dataset", "title", "started_at", "ended_at", "measure", "segment", "cause",
	"severity", "note", "author", "known_at", "impact", "downstream", "also"}

// ImportIncidents reads a catalogue as CSV, NDJSON or a JSON array. Lines with a known reference
// replace that incident; bad lines are named and the good ones kept.
func (d *Desk) ImportIncidents(ctx context.Context, body io.Reader) (Import, error) {
	result := Import{Problems: []LineProblem{}}
	t, err := readTable(body, IncidentColumns, IncidentColumns[:5]...)
	if err != nil {
		return result, err
	}
	var list []record.Incident
	known, err := d.store.Incidents(ctx, "", time.Time{}, time.Time{})
	if err != nil {
		return result, err
	}
	err = t.each(func(line int, fields map[string]string) error {
		v, err := readIncident(fields)
		if err == nil {
			err = d.complete(ctx, &v)
		}
		if err != nil {
			return err
		}
		if other := overlapping(v, append(known, list...)); other != "" {
			result.Notes = append(result.Notes,
				LineProblem{line, fmt.Sprintf("%s overlaps %s on the same rows: both are kept and scored; to make them one, merge them", v.Reference, other)})
		}
		list = append(list, v)
		return nil
	}, &result)
	if err != nil {
		return result, err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		result.Added, err = d.putIncidents(ctx, tx, list)
		return err
	})
	if err != nil {
		return Import{Problems: []LineProblem{}}, err
	}
	result.Replaced = len(list) - result.Added
	return result, nil
}

// overlapping names another incident of the same dataset, measure and segment at
// the same time.
func overlapping(v record.Incident, among []record.Incident) string {
	for _, o := range among {
		if o.Reference != v.Reference && slices.ContainsFunc(o.Datasets(), v.On) && o.Measure == v.Measure && o.Segment == v.Segment &&
			(o.EndedAt == nil || v.StartedAt.Before(*o.EndedAt)) && (v.EndedAt == nil || o.StartedAt.Before(*v.EndedAt)) {
			return o.Reference
		}
	}
	return ""
}

func readIncident(fields map[string]string) (v record.Incident, err error) {
	v = record.Incident{Reference: fields["reference"], Dataset: fields["dataset"], Title: fields["title"],
		Measure: fields["measure"], Segment: fields["segment"],
		Cause: fields["cause"], Severity: fields["severity"], Note: fields["note"], Author: fields["author"], Impact: fields["impact"]}
	for name := range strings.SplitSeq(fields["also"], ";") {
		if name = strings.TrimSpace(name); name != "" {
			v.Also = append(v.Also, name)
		}
	}
	switch fields["downstream"] {
	case "", "false", "no":
	case "true", "yes":
		v.Downstream = true
	default:
		return v, record.Invalid{Field: "downstream", Given: fields["downstream"], Allowed: "true or false"}
	}
	for column, into := range map[string]*time.Time{"started_at": &v.StartedAt, "known_at": &v.KnownAt} {
		if text := fields[column]; text != "" {
			if *into, err = readTime(column, text); err != nil {
				return v, err
			}
		}
	}
	if text := fields["ended_at"]; text != "" {
		at, err := readTime("ended_at", text)
		if err != nil {
			return v, err
		}
		v.EndedAt = &at
	}
	if v.Reference == "" {
		return v, record.Invalid{Field: "reference", Given: "", Allowed: "a name of its own for each incident"}
	}
	return v, nil
}

// IncidentRow is an incident as it is written to files and imported.
type IncidentRow struct {
	Reference  string     `json:"reference"`
	Dataset    string     `json:"dataset"`
	Title      string     `json:"title"`
	StartedAt  time.Time  `json:"started_at"`
	EndedAt    *time.Time `json:"ended_at"`
	Measure    string     `json:"measure"`
	Segment    string     `json:"segment"`
	Cause      string     `json:"cause"`
	Severity   string     `json:"severity"`
	Note       string     `json:"note"`
	Author     string     `json:"author"`
	KnownAt    time.Time  `json:"known_at"`
	Impact     string     `json:"impact"`
	Downstream bool       `json:"downstream"`

	Also record.Strings `json:"also"`
}

// IncidentRows gives incidents as they are written to files.
func IncidentRows(list []record.Incident) []IncidentRow {
	rows := make([]IncidentRow, len(list))
	for i, v := range list {
		rows[i] = IncidentRow{v.Reference, v.Dataset, v.Title, v.StartedAt.UTC(), v.EndedAt, v.Measure, v.Segment, v.Cause,
			v.Severity, v.Note, v.Author, v.KnownAt.UTC(), v.Impact, v.Downstream, v.Also}
	}
	return rows
}

// FromAlerts makes an incident of alerts: from the first deviation to the last
// end, of the first one's dataset and the others', of a measure and segment where all
// have the same. The alerts are labelled faults.
func (d *Desk) FromAlerts(ctx context.Context, alerts []int64, v record.Incident) (record.Incident, error) {
	if len(alerts) == 0 {
		return v, record.Invalid{Field: "alerts", Given: "", Allowed: "at least one alert"}
	}
	open := false
	for i, id := range alerts {
		a, err := d.store.Alert(ctx, id)
		if err != nil {
			return v, err
		}
		if i == 0 {
			v.Dataset, v.Measure, v.Segment, v.StartedAt, v.Severity = a.Dataset, a.Measure, a.Segment, a.Since, a.Severity
		}
		if a.Dataset != v.Dataset {
			v.Also = append(v.Also, a.Dataset)
		}
		if a.Measure != v.Measure {
			v.Measure = ""
		}
		if a.Segment != v.Segment {
			v.Segment = ""
		}
		if a.Since.Before(v.StartedAt) {
			v.StartedAt = a.Since
		}
		if a.Severity == "critical" {
			v.Severity = "critical"
		}
		if a.EndedAt == nil {
			open = true
		} else if v.EndedAt == nil || a.EndedAt.After(*v.EndedAt) {
			end := *a.EndedAt
			v.EndedAt = &end
		}
		if v.Title == "" {
			v.Title = a.Sentence
		}
	}
	if open {
		v.EndedAt = nil
	} else if v.EndedAt != nil && !v.EndedAt.After(v.StartedAt) {
		end := v.StartedAt.Add(time.Minute)
		v.EndedAt = &end
	}
	slices.Sort(alerts)
	alerts = slices.Compact(alerts)
	var added record.Incident
	err := d.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		if added, err = d.addIncident(ctx, tx, v); err != nil {
			return err
		}
		l, err := d.dated(record.Label{Verdict: record.Fault, Cause: v.Cause, Note: "incident " + added.Reference, Author: v.Author})
		if err != nil {
			return err
		}
		return d.label(ctx, tx, alerts, l, nil)
	})
	return added, err
}

// ChangeIncident replaces an incident by what is given under its reference.
func (d *Desk) ChangeIncident(ctx context.Context, v record.Incident) (record.Incident, error) {
	before, err := d.store.Incident(ctx, v.Reference)
	if err != nil {
		return v, err
	}
	v.Author, v.KnownAt = before.Author, before.KnownAt
	if err := d.complete(ctx, &v); err != nil {
		return v, err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		_, err := d.putIncidents(ctx, tx, []record.Incident{v})
		return err
	})
	if err != nil {
		return v, err
	}
	return d.store.Incident(ctx, v.Reference)
}

// Merge makes one incident of several: it keeps its name, begins with the first,
// ends with the last, is of all their datasets, and loses measure and segment where they differ.
func (d *Desk) Merge(ctx context.Context, reference string, others []string) (record.Incident, error) {
	v, err := d.store.Incident(ctx, reference)
	if err != nil {
		return v, err
	}
	for _, other := range others {
		o, err := d.store.Incident(ctx, other)
		switch {
		case err != nil:
			return v, err
		case other == reference:
			return v, record.Invalid{Field: "others", Given: other, Allowed: "other incidents than " + reference}
		}
		for _, name := range o.Datasets() {
			if !v.On(name) {
				v.Also = append(v.Also, name)
			}
		}
		if o.Measure != v.Measure {
			v.Measure = ""
		}
		if o.Segment != v.Segment {
			v.Segment = ""
		}
		if o.StartedAt.Before(v.StartedAt) {
			v.StartedAt = o.StartedAt
		}
		if o.EndedAt == nil || v.EndedAt != nil && o.EndedAt.After(*v.EndedAt) {
			v.EndedAt = o.EndedAt
		}
		if o.KnownAt.Before(v.KnownAt) {
			v.KnownAt = o.KnownAt
		}
		v.Downstream = v.Downstream || o.Downstream
		v.Note = strings.TrimSpace(v.Note + "\nmerged with " + other + ": " + o.Title + " " + o.Note)
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		for _, other := range others {
			if err := d.store.In(tx).DropIncident(ctx, other); err != nil {
				return err
			}
		}
		_, err := d.putIncidents(ctx, tx, []record.Incident{v})
		return err
	})
	if err != nil {
		return v, err
	}
	return d.store.Incident(ctx, reference)
}

// Split ends an incident at a time and makes a second one of the rest.
func (d *Desk) Split(ctx context.Context, reference string, at time.Time) ([]record.Incident, error) {
	v, err := d.store.Incident(ctx, reference)
	if err != nil {
		return nil, err
	}
	if !at.After(v.StartedAt) || v.EndedAt != nil && !at.Before(*v.EndedAt) {
		return nil, record.Invalid{Field: "at", Given: at.Format(time.RFC3339),
			Allowed: "a time within the incident, which began " + v.StartedAt.Format(time.RFC3339)}
	}
	rest := v
	at = at.UTC()
	rest.Reference, rest.StartedAt, rest.Title = "", at, v.Title+" (after)"
	v.EndedAt = &at
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := d.putIncidents(ctx, tx, []record.Incident{v}); err != nil {
			return err
		}
		again := rest
		again.Reference = ""
		rest.Reference, err = store.AddIncident(ctx, tx, again)
		return err
	})
	if err != nil {
		return nil, err
	}
	return []record.Incident{v, rest}, nil
}

// DropIncident removes an incident.
func (d *Desk) DropIncident(ctx context.Context, reference string) error {
	v, err := d.store.Incident(ctx, reference)
	if err != nil {
		return err
	}
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := d.store.In(tx).DropIncident(ctx, reference); err != nil {
			return err
		}
		return d.explainAgain(ctx, tx, v.Datasets())
	})
}
