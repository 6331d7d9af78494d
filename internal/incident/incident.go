// Package incident keeps the catalogue of faults that truly happened: added, imported,
// changed, merged, split and taken away. What it explains leaves the training data.
package incident

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/internal/flat"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
)

// Desk is where the catalogue is kept.
type Desk struct {
	store *store.Store
	setup *setup.Desk
	now   func() time.Time
}

// New makes a desk.
func New(s *store.Store, u *setup.Desk, now func() time.Time) *Desk { return &Desk{s, u, now} }

// Add stores one incident; without a reference it gets a running one.
func (d *Desk) Add(ctx context.Context, v record.Incident) (record.Incident, error) {
	var added record.Incident
	err := d.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		added, err = d.AddIn(ctx, tx, v)
		return err
	})
	return added, err
}

// AddIn is Add in the caller's transaction.
func (d *Desk) AddIn(ctx context.Context, tx pgx.Tx, v record.Incident) (record.Incident, error) {
	in := &Desk{d.store.In(tx), d.setup, d.now}
	if err := in.complete(ctx, &v); err != nil {
		return v, err
	}
	reference, err := store.AddIncident(ctx, tx, v)
	if err != nil {
		return v, err
	}
	if err := d.setup.ExplainAgain(ctx, tx, v.Datasets()); err != nil {
		return v, err
	}
	return d.store.In(tx).Incident(ctx, reference)
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
		v.Severity = detect.Warning
	}
	if v.Severity != detect.Warning && v.Severity != detect.Critical {
		return record.Invalid{Field: "severity", Given: string(v.Severity), Allowed: "warning or critical"}
	}
	if v.KnownAt.IsZero() {
		v.KnownAt = d.now().UTC()
	}
	return nil
}

// put writes incidents under their references, in the place of those there
// are.
func (d *Desk) put(ctx context.Context, tx pgx.Tx, list []record.Incident) (added int, err error) {
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
	return added, d.setup.ExplainAgain(ctx, tx, datasets)
}

// Columns are the columns of an incident catalogue; the first five are
// needed. Times are RFC 3339, so each carries its own zone.
var Columns = []string{"reference", "dataset", "title", "started_at", "ended_at", "measure", "segment", "cause",
	"severity", "note", "author", "known_at", "impact", "downstream", "also"}

// Import reads a catalogue as CSV, NDJSON or a JSON array. Lines with a known reference
// replace that incident; bad lines are named and the good ones kept.
func (d *Desk) Import(ctx context.Context, body io.Reader) (flat.Import, error) {
	result := flat.Import{Problems: []flat.LineProblem{}}
	t, err := flat.NewReader(body, Columns, Columns[:5]...)
	if err != nil {
		return result, err
	}
	var list []record.Incident
	known, err := d.store.Incidents(ctx, "", time.Time{}, time.Time{})
	if err != nil {
		return result, err
	}
	err = t.Each(func(line int, fields map[string]string) error {
		v, err := read(fields)
		if err == nil {
			err = d.complete(ctx, &v)
		}
		if err != nil {
			return err
		}
		if other := overlapping(v, append(known, list...)); other != "" {
			result.Notes = append(result.Notes,
				flat.LineProblem{Line: line, Reason: fmt.Sprintf("%s overlaps %s on the same rows: both are kept and scored; to make them one, merge them", v.Reference, other)})
		}
		list = append(list, v)
		return nil
	}, &result)
	if err != nil {
		return result, err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		result.Added, err = d.put(ctx, tx, list)
		return err
	})
	if err != nil {
		return flat.Import{Problems: []flat.LineProblem{}}, err
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

func read(fields map[string]string) (v record.Incident, err error) {
	v = record.Incident{Reference: fields["reference"], Dataset: fields["dataset"], Title: fields["title"],
		Measure: fields["measure"], Segment: fields["segment"],
		Cause: fields["cause"], Severity: detect.Severity(fields["severity"]), Note: fields["note"], Author: fields["author"], Impact: fields["impact"]}
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
			if *into, err = flat.Time(column, text); err != nil {
				return v, err
			}
		}
	}
	if text := fields["ended_at"]; text != "" {
		at, err := flat.Time("ended_at", text)
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

// Row is an incident as it is written to files and imported.
type Row struct {
	Reference  string          `json:"reference"`
	Dataset    string          `json:"dataset"`
	Title      string          `json:"title"`
	StartedAt  time.Time       `json:"started_at"`
	EndedAt    *time.Time      `json:"ended_at"`
	Measure    string          `json:"measure"`
	Segment    string          `json:"segment"`
	Cause      string          `json:"cause"`
	Severity   detect.Severity `json:"severity"`
	Note       string          `json:"note"`
	Author     string          `json:"author"`
	KnownAt    time.Time       `json:"known_at"`
	Impact     string          `json:"impact"`
	Downstream bool            `json:"downstream"`

	Also record.Strings `json:"also"`
}

// Rows gives incidents as they are written to files.
func Rows(list []record.Incident) []Row {
	rows := make([]Row, len(list))
	for i, v := range list {
		rows[i] = Row{v.Reference, v.Dataset, v.Title, v.StartedAt.UTC(), v.EndedAt, v.Measure, v.Segment, v.Cause,
			v.Severity, v.Note, v.Author, v.KnownAt.UTC(), v.Impact, v.Downstream, v.Also}
	}
	return rows
}

// Change replaces an incident by what is given under its reference.
func (d *Desk) Change(ctx context.Context, v record.Incident) (record.Incident, error) {
	before, err := d.store.Incident(ctx, v.Reference)
	if err != nil {
		return v, err
	}
	v.Author, v.KnownAt = before.Author, before.KnownAt
	if err := d.complete(ctx, &v); err != nil {
		return v, err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		_, err := d.put(ctx, tx, []record.Incident{v})
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
		_, err := d.put(ctx, tx, []record.Incident{v})
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
		if _, err := d.put(ctx, tx, []record.Incident{v}); err != nil {
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

// Drop removes an incident.
func (d *Desk) Drop(ctx context.Context, reference string) error {
	v, err := d.store.Incident(ctx, reference)
	if err != nil {
		return err
	}
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := d.store.In(tx).DropIncident(ctx, reference); err != nil {
			return err
		}
		return d.setup.ExplainAgain(ctx, tx, v.Datasets())
	})
}
