package answer

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Label gives one verdict on one or many alerts; an empty verdict takes the
// label back. At is when it was given: now if zero, never in the future. seen
// holds, by alert, the label that the person had before their eyes: if somebody
// answered meanwhile, nothing is kept and they are told.
func (d *Desk) Label(ctx context.Context, alerts []int64, l record.Label, seen map[int64]int64) error {
	if len(alerts) == 0 {
		return record.Invalid{Field: "alerts", Given: "", Allowed: "at least one alert"}
	}
	l, err := d.dated(l)
	if err != nil {
		return err
	}
	slices.Sort(alerts)
	alerts = slices.Compact(alerts)
	return d.store.InTx(ctx, func(tx pgx.Tx) error { return d.label(ctx, tx, alerts, l, seen) })
}

func (d *Desk) dated(l record.Label) (record.Label, error) {
	switch l.Verdict {
	case record.Fault, record.Noise, record.Planned, "":
	default:
		return l, record.Invalid{Field: "verdict", Given: l.Verdict, Allowed: "fault, noise or planned; empty takes the label back"}
	}
	now := d.now().UTC()
	if l.At.IsZero() {
		l.At = now
	}
	if l.At.After(now.Add(time.Minute)) {
		return l, record.Invalid{Field: "at", Given: l.At.Format(time.RFC3339), Allowed: "the time the label was given, not in the future"}
	}
	return l, nil
}

func (d *Desk) label(ctx context.Context, tx pgx.Tx, alerts []int64, l record.Label, seen map[int64]int64) error {
	if err := store.StayOfAlerts(ctx, tx, alerts); err != nil {
		return err
	}
	if err := store.AddLabels(ctx, tx, alerts, l, seen); err != nil {
		return err
	}
	monitors, err := store.MonitorsOfAlerts(ctx, tx, alerts)
	if err != nil {
		return err
	}
	if err := d.learnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	if err := d.queue.Put(ctx, tx, work.Relearn{}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}

func (d *Desk) learnAgain(ctx context.Context, tx pgx.Tx, monitors []int64) error {
	for _, id := range monitors {
		if err := d.queue.Put(ctx, tx, work.Learn{MonitorID: id, Asked: d.now().UTC()}); err != nil {
			return err
		}
	}
	return nil
}

// LabelColumns are the columns of labels as CSV. An alert is named by its id, or
// by monitor, segment and the time it was raised.
var LabelColumns = []string{"alert", "monitor", "segment", "raised_at", "verdict", "cause", "note", "author", "at"}

// ImportLabels reads labels as CSV, NDJSON or a JSON array; bad lines are named and the good ones kept.
// A label that an alert has already, of the same author, verdict and time, is
// not given twice; contradicting lines are all kept, the last in force.
func (d *Desk) ImportLabels(ctx context.Context, body io.Reader, author string) (Import, error) {
	result := Import{Problems: []LineProblem{}}
	table, err := readTable(body, LabelColumns, "verdict")
	if err != nil {
		return result, err
	}
	known, err := d.store.AllLabels(ctx)
	if err != nil {
		return result, err
	}
	given := map[string]bool{}
	for _, l := range known {
		given[fmt.Sprint(l.AlertID, l.Verdict, l.Author, l.At.Unix())] = true
	}
	type one struct {
		alert int64
		label record.Label
	}
	var list []one
	err = table.each(func(line int, fields map[string]string) error {
		alert, l, err := d.readLabel(ctx, fields, author)
		if err != nil {
			return err
		}
		key := fmt.Sprint(alert, l.Verdict, l.Author, l.At.Unix())
		if given[key] {
			result.Replaced++
			return nil
		}
		given[key] = true
		list = append(list, one{alert, l})
		return nil
	}, &result)
	if err != nil {
		return result, err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		for _, v := range list {
			if err := d.label(ctx, tx, []int64{v.alert}, v.label, nil); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return Import{Problems: []LineProblem{}}, err
	}
	result.Added = len(list)
	return result, nil
}

func (d *Desk) readLabel(ctx context.Context, fields map[string]string, author string) (alert int64, l record.Label, err error) {
	l = record.Label{Verdict: fields["verdict"], Cause: fields["cause"], Note: fields["note"], Author: fields["author"]}
	if l.Author == "" {
		l.Author = author
	}
	if l.Verdict == "" {
		return 0, l, record.Invalid{Field: "verdict", Given: "", Allowed: "fault, noise or planned"}
	}
	if text := fields["at"]; text != "" {
		if l.At, err = readTime("at", text); err != nil {
			return 0, l, err
		}
	}
	if l, err = d.dated(l); err != nil {
		return 0, l, err
	}
	if text := fields["alert"]; text != "" {
		if alert, err = strconv.ParseInt(text, 10, 64); err != nil {
			return 0, l, record.Invalid{Field: "alert", Given: text, Allowed: "the number of an alert"}
		}
		_, err = d.store.Alert(ctx, alert)
		return alert, l, err
	}
	raised, err := readTime("raised_at", fields["raised_at"])
	if err != nil {
		return 0, l, err
	}
	alert, err = d.store.AlertAt(ctx, fields["monitor"], fields["segment"], raised)
	if err == nil && alert == 0 {
		err = record.NotFound{Kind: "alert", Name: strings.Join([]string{fields["monitor"], fields["segment"], fields["raised_at"]}, ", ")}
	}
	return alert, l, err
}

func readTime(column, text string) (time.Time, error) {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, record.Invalid{Field: column, Given: text, Allowed: "RFC 3339 with its zone, for example 2026-06-18T09:00:00-03:00"}
	}
	return at.UTC(), nil
}

// LabelRow is a label as it is written to files and imported.
type LabelRow struct {
	Alert    int64     `json:"alert"`
	Monitor  string    `json:"monitor"`
	Segment  string    `json:"segment"`
	RaisedAt time.Time `json:"raised_at"`
	Verdict  string    `json:"verdict"`
	Cause    string    `json:"cause"`
	Note     string    `json:"note"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}

// LabelRows gives every label that was given and not taken back.
func (d *Desk) LabelRows(ctx context.Context) ([]LabelRow, error) {
	list, err := d.store.AllLabels(ctx)
	var rows []LabelRow
	for _, l := range list {
		if l.Verdict != "" {
			rows = append(rows, LabelRow{l.AlertID, l.Monitor, l.Segment, l.RaisedAt.UTC(), l.Verdict, l.Cause, l.Note, l.Author,
				l.At.UTC()})
		}
	}
	return rows, err
}

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
			added, err := d.addIncident(ctx, tx, *incident)
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
		if err := d.DropIncident(ctx, all[i].Incident); err != nil {
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
	if err := d.learnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}
