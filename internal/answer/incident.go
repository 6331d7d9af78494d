package answer

import (
	"context"
	"encoding/csv"
	"errors"
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
	if v.Reference == "" {
		n, err := d.store.NextReference(ctx)
		if err != nil {
			return v, err
		}
		v.Reference = fmt.Sprintf("I-%d", n)
	} else if _, err := d.store.Incident(ctx, v.Reference); err == nil {
		return v, record.Conflict{What: fmt.Sprintf("incident %s exists already", v.Reference)}
	}
	if err := d.complete(ctx, &v); err != nil {
		return v, err
	}
	if _, err := d.putIncidents(ctx, []record.Incident{v}); err != nil {
		return v, err
	}
	return d.store.Incident(ctx, v.Reference)
}

// complete checks an incident and fills in what follows from it.
func (d *Desk) complete(ctx context.Context, v *record.Incident) error {
	dataset, err := d.store.Dataset(ctx, v.Dataset)
	if err != nil {
		return err
	}
	v.DatasetID = dataset.ID
	switch {
	case strings.TrimSpace(v.Title) == "":
		return record.Invalid{Field: "title", Given: v.Title, Allowed: "a few words that say what happened"}
	case v.StartedAt.IsZero():
		return record.Invalid{Field: "started_at", Given: "", Allowed: "when the fault began, RFC 3339"}
	case v.EndedAt != nil && !v.EndedAt.After(v.StartedAt):
		return record.Invalid{Field: "ended_at", Given: v.EndedAt.Format(time.RFC3339), Allowed: "a time after started_at, " + v.StartedAt.Format(time.RFC3339)}
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

func (d *Desk) putIncidents(ctx context.Context, list []record.Incident) (added int, err error) {
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		var datasets []string
		for _, v := range list {
			_, fresh, err := store.PutIncident(ctx, tx, v)
			if err != nil {
				return err
			}
			if fresh {
				added++
			}
			if !slices.Contains(datasets, v.Dataset) {
				datasets = append(datasets, v.Dataset)
			}
		}
		monitors, err := store.MonitorsOfDatasets(ctx, tx, datasets)
		if err != nil {
			return err
		}
		if err := d.learnAgain(ctx, tx, monitors); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "incidents")
	})
	return added, err
}

// Import tells what became of an imported catalogue.
type Import struct {
	Added    int           `json:"added"`
	Replaced int           `json:"replaced"`
	Refused  int           `json:"refused"`
	Problems []LineProblem `json:"problems"`
}

// LineProblem names a line that was refused.
type LineProblem struct {
	Line   int    `json:"line"`
	Reason string `json:"reason"`
}

// IncidentColumns are the columns of an incident catalogue; the first five are
// needed. Times are RFC 3339, so each carries its own zone.
var IncidentColumns = []string{"reference", "dataset", "title", "started_at", "ended_at", "measure", "segment", "cause", "severity", "note", "author", "known_at"}

// ImportIncidents reads a catalogue as CSV. Lines with a known reference
// replace that incident; bad lines are named and the good ones kept.
func (d *Desk) ImportIncidents(ctx context.Context, body io.Reader) (Import, error) {
	result := Import{Problems: []LineProblem{}}
	r := csv.NewReader(body)
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return result, record.Invalid{Field: "catalogue", Given: "", Allowed: "CSV with the columns " + strings.Join(IncidentColumns, ", ")}
	}
	for i, column := range head {
		head[i] = strings.TrimSpace(strings.TrimPrefix(column, "\ufeff"))
		if !slices.Contains(IncidentColumns, head[i]) {
			return result, record.Invalid{Field: "CSV column", Given: head[i], Allowed: strings.Join(IncidentColumns, ", ")}
		}
	}
	for _, needed := range IncidentColumns[:5] {
		if !slices.Contains(head, needed) {
			return result, record.Invalid{Field: "CSV head", Given: strings.Join(head, ","), Allowed: "the column " + needed + " is needed"}
		}
	}
	var list []record.Incident
	for {
		fields, err := r.Read()
		if err == io.EOF {
			break
		}
		line, _ := r.FieldPos(0)
		v, problem := record.Incident{}, err
		var parse *csv.ParseError
		if errors.As(err, &parse) {
			line = parse.Line
		}
		if problem == nil {
			v, problem = readIncident(head, fields)
		}
		if problem == nil {
			problem = d.complete(ctx, &v)
		}
		if problem != nil {
			result.Refused++
			result.Problems = append(result.Problems, LineProblem{line, problem.Error()})
			continue
		}
		list = append(list, v)
	}
	if result.Added, err = d.putIncidents(ctx, list); err != nil {
		return Import{Problems: []LineProblem{}}, err
	}
	result.Replaced = len(list) - result.Added
	return result, nil
}

func readIncident(head, fields []string) (v record.Incident, err error) {
	if len(fields) != len(head) {
		return v, fmt.Errorf("%d fields where the head has %d", len(fields), len(head))
	}
	for i, column := range head {
		text := strings.TrimSpace(fields[i])
		switch column {
		case "reference":
			v.Reference = text
		case "dataset":
			v.Dataset = text
		case "title":
			v.Title = text
		case "measure":
			v.Measure = text
		case "segment":
			v.Segment = text
		case "cause":
			v.Cause = text
		case "severity":
			v.Severity = text
		case "note":
			v.Note = text
		case "author":
			v.Author = text
		default:
			if text == "" {
				continue
			}
			at, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return v, record.Invalid{Field: column, Given: text, Allowed: "RFC 3339 with its zone, for example 2026-06-18T09:00:00-03:00"}
			}
			at = at.UTC()
			switch column {
			case "started_at":
				v.StartedAt = at
			case "ended_at":
				v.EndedAt = &at
			case "known_at":
				v.KnownAt = at
			}
		}
	}
	if v.Reference == "" {
		return v, record.Invalid{Field: "reference", Given: "", Allowed: "a name of its own for each incident"}
	}
	return v, nil
}

// DropIncident removes an incident.
func (d *Desk) DropIncident(ctx context.Context, reference string) error {
	v, err := d.store.Incident(ctx, reference)
	if err != nil {
		return err
	}
	if err := d.store.DropIncident(ctx, reference); err != nil {
		return err
	}
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		monitors, err := store.MonitorsOfDatasets(ctx, tx, []string{v.Dataset})
		if err != nil {
			return err
		}
		if err := d.learnAgain(ctx, tx, monitors); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "incidents")
	})
}
