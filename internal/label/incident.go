package label

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

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
		if added, err = d.incidents.AddIn(ctx, tx, v); err != nil {
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
