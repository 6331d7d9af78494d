// Package label takes what people say of alerts and of stretches of series: verdicts,
// imported and given by hand, and that a level is the new normal. What changes what a
// baseline or the filter may learn from asks for them to be fitted again.
package label

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/score"
	"tinbell/internal/flat"
	"tinbell/internal/incident"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Desk is where labels are given.
type Desk struct {
	store     *store.Store
	queue     *work.Queue
	setup     *setup.Desk
	incidents *incident.Desk
	now       func() time.Time
}

// New makes a desk.
func New(s *store.Store, q *work.Queue, u *setup.Desk, i *incident.Desk, now func() time.Time) *Desk {
	return &Desk{s, q, u, i, now}
}

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
		return l, record.Invalid{Field: "verdict", Given: string(l.Verdict), Allowed: "fault, noise or planned; empty takes the label back"}
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
	if err := d.setup.LearnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	if err := d.queue.Put(ctx, tx, work.Relearn{}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}

// Columns are the columns of labels as CSV. An alert is named by its id, or
// by monitor, segment and the time it was raised.
var Columns = []string{"alert", "monitor", "segment", "raised_at", "verdict", "cause", "note", "author", "at"}

// Import reads labels as CSV, NDJSON or a JSON array; bad lines are named and the good ones kept.
// A label that an alert has already, of the same author, verdict and time, is
// not given twice; contradicting lines are all kept, the last in force.
func (d *Desk) Import(ctx context.Context, body io.Reader, author string) (flat.Import, error) {
	result := flat.Import{Problems: []flat.LineProblem{}}
	table, err := flat.NewReader(body, Columns, "verdict")
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
	err = table.Each(func(line int, fields map[string]string) error {
		alert, l, err := d.read(ctx, fields, author)
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
		return flat.Import{Problems: []flat.LineProblem{}}, err
	}
	result.Added = len(list)
	return result, nil
}

func (d *Desk) read(ctx context.Context, fields map[string]string, author string) (alert int64, l record.Label, err error) {
	l = record.Label{Verdict: score.Verdict(fields["verdict"]), Cause: fields["cause"], Note: fields["note"], Author: fields["author"]}
	if l.Author == "" {
		l.Author = author
	}
	if l.Verdict == "" {
		return 0, l, record.Invalid{Field: "verdict", Given: "", Allowed: "fault, noise or planned"}
	}
	if text := fields["at"]; text != "" {
		if l.At, err = flat.Time("at", text); err != nil {
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
	raised, err := flat.Time("raised_at", fields["raised_at"])
	if err != nil {
		return 0, l, err
	}
	alert, err = d.store.AlertAt(ctx, fields["monitor"], fields["segment"], raised)
	if err == nil && alert == 0 {
		err = record.NotFound{Kind: "alert", Name: strings.Join([]string{fields["monitor"], fields["segment"], fields["raised_at"]}, ", ")}
	}
	return alert, l, err
}

// Row is a label as it is written to files and imported.
type Row struct {
	Alert    int64         `json:"alert"`
	Monitor  string        `json:"monitor"`
	Segment  string        `json:"segment"`
	RaisedAt time.Time     `json:"raised_at"`
	Verdict  score.Verdict `json:"verdict"`
	Cause    string        `json:"cause"`
	Note     string        `json:"note"`
	Author   string        `json:"author"`
	At       time.Time     `json:"at"`
}

// Rows gives every label that was given and not taken back.
func (d *Desk) Rows(ctx context.Context) ([]Row, error) {
	list, err := d.store.AllLabels(ctx)
	var rows []Row
	for _, l := range list {
		if l.Verdict != "" {
			rows = append(rows, Row{l.AlertID, l.Monitor, l.Segment, l.RaisedAt.UTC(), l.Verdict, l.Cause, l.Note, l.Author,
				l.At.UTC()})
		}
	}
	return rows, err
}
