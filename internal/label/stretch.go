package label

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// LabelStretch gives a verdict on a stretch of a series where no alert was: a
// fault becomes an incident that nobody was told of, what is planned is left out
// of learning, and noise says that all was well.
func (d *Desk) LabelStretch(ctx context.Context, v record.Stretch) (record.Stretch, error) {
	if v.Verdict == "" {
		return v, record.Invalid{Field: "verdict", Given: "", Allowed: "fault, noise or planned"}
	}
	l, err := d.dated(record.Label{Verdict: v.Verdict, At: v.At})
	if err != nil {
		return v, err
	}
	v.At = l.At
	if !v.To.After(v.From) {
		return v, record.Invalid{Field: "to", Given: v.To.Format(time.RFC3339), Allowed: "a time after from, " +
			v.From.Format(time.RFC3339)}
	}
	series, err := d.store.SeriesByID(ctx, v.SeriesID)
	if err != nil {
		return v, err
	}
	metric, err := d.store.MetricByID(ctx, series.MetricID)
	if err != nil {
		return v, err
	}
	var incident *record.Incident
	if v.Verdict == record.Fault {
		title := v.Note
		if title == "" {
			title = "seen on the chart of " + strings.TrimSpace(series.Segment+" "+strings.ReplaceAll(metric.Measure, "_", " "))
		}
		end := v.To
		incident = &record.Incident{Dataset: metric.Dataset, Measure: metric.Measure, Segment: series.Segment, StartedAt: v.From,
			EndedAt: &end,
			Title:   title, Cause: v.Cause, Note: v.Note, Author: v.Author}
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		if incident != nil {
			added, err := d.incidents.AddIn(ctx, tx, *incident)
			if err != nil {
				return err
			}
			v.Incident = added.Reference
		}
		if v.ID, err = store.AddStretch(ctx, tx, v); err != nil {
			return err
		}
		return d.stretched(ctx, tx, metric.Dataset)
	})
	return v, err
}

// AnswerPast gives the same verdict on a stretch of several series.
func (d *Desk) AnswerPast(ctx context.Context, series []int64, v record.Stretch) ([]record.Stretch, error) {
	list := []record.Stretch{}
	for _, id := range series {
		v.ID, v.SeriesID, v.Incident = 0, id, ""
		given, err := d.LabelStretch(ctx, v)
		if err != nil {
			return list, err
		}
		list = append(list, given)
	}
	return list, nil
}

// TakeStretchBack removes a verdict on a stretch, and the incident it became.
func (d *Desk) TakeStretchBack(ctx context.Context, id int64) error {
	all, err := d.store.Stretches(ctx, nil)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(s record.Stretch) bool { return s.ID == id })
	if i < 0 {
		return record.NotFound{Kind: "stretch", Name: fmt.Sprint(id)}
	}
	if all[i].Incident != "" {
		if err := d.incidents.Drop(ctx, all[i].Incident); err != nil {
			return err
		}
	}
	series, err := d.store.SeriesByID(ctx, all[i].SeriesID)
	if err != nil {
		return err
	}
	metric, err := d.store.MetricByID(ctx, series.MetricID)
	if err != nil {
		return err
	}
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.DropStretch(ctx, tx, id); err != nil {
			return err
		}
		return d.stretched(ctx, tx, metric.Dataset)
	})
}

func (d *Desk) stretched(ctx context.Context, tx pgx.Tx, dataset string) error {
	monitors, err := store.MonitorsOfDatasets(ctx, tx, []string{dataset})
	if err != nil {
		return err
	}
	if err := d.setup.LearnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}
