// Package calendar keeps what is planned: calendars as files or fetched by address,
// holidays of countries, events that people add, and what they seem to plan again and again.
package calendar

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/duty"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
)

// Desk is where calendars are kept.
type Desk struct {
	store *store.Store
	setup *setup.Desk
	now   func() time.Time
}

// New makes a desk.
func New(s *store.Store, u *setup.Desk, now func() time.Time) *Desk { return &Desk{s, u, now} }

// ByHand is the calendar that holds the events which people add one by one.
const ByHand = "by hand"

// Import replaces a calendar with the events of an iCalendar file. The
// dataset and the effect are those of events that name none themselves. A file
// without events takes those there are away only if empty says so: more often it
// is one that was cut off.
func (d *Desk) Import(ctx context.Context, c record.Calendar, body io.Reader, empty bool) ([]record.PlannedEvent, error) {
	text, err := io.ReadAll(io.LimitReader(body, longestCalendar+1))
	switch {
	case err != nil:
		return nil, record.Invalid{Field: "iCalendar file", Given: c.Name, Allowed: "a whole file: " + err.Error()}
	case len(text) > longestCalendar:
		return nil, record.Invalid{Field: "iCalendar file", Given: c.Name, Allowed: fmt.Sprintf("at most %d MB", longestCalendar>>20)}
	case !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0:
		return nil, record.Invalid{Field: "iCalendar file", Given: c.Name, Allowed: "text in UTF-8, without NULs"}
	}
	c.ICal, c.Country = string(text), ""
	events, err := d.Read(&c)
	if err != nil {
		return nil, err
	}
	return events, d.store.InTx(ctx, func(tx pgx.Tx) error {
		if len(events) == 0 && !empty {
			n, err := d.store.In(tx).CountPlannedEvents(ctx, c.Name)
			if err == nil && n > 0 {
				err = record.Invalid{Field: "iCalendar file", Given: "no event in it",
					Allowed: fmt.Sprintf("a file with events: %s has %d, and they would all be gone; to empty it, say so (empty=true, or --empty)", c.Name, n)}
			}
			if err != nil {
				return err
			}
		}
		return d.Put(ctx, tx, c, events)
	})
}

// longestCalendar is how many bytes a file may have.
const longestCalendar = 64 << 20

// AddHolidays makes a calendar of a country's holidays.
func (d *Desk) AddHolidays(ctx context.Context, c record.Calendar) ([]record.PlannedEvent, error) {
	c.Country, c.ICal = strings.ToUpper(strings.TrimSpace(c.Country)), ""
	if c.Name == "" {
		c.Name = "holidays " + c.Country
	}
	if c.Zone == "" {
		zone, err := d.store.UsualZone(ctx, c.Dataset)
		if err != nil {
			return nil, err
		}
		c.Zone = zone
	}
	return d.set(ctx, c)
}

func (d *Desk) set(ctx context.Context, c record.Calendar) ([]record.PlannedEvent, error) {
	events, err := d.Read(&c)
	if err != nil {
		return nil, err
	}
	return events, d.store.InTx(ctx, func(tx pgx.Tx) error { return d.Put(ctx, tx, c, events) })
}

// Read gives the events of a calendar, those that recur one by one, and
// fills in what is usual.
func (d *Desk) Read(c *record.Calendar) ([]record.PlannedEvent, error) {
	if c.Effect == "" {
		c.Effect = record.EffectMute
	}
	switch {
	case strings.TrimSpace(c.Name) == "":
		return nil, record.Invalid{Field: "calendar", Given: c.Name, Allowed: "a name for the calendar"}
	case !c.Effect.Valid():
		return nil, record.Invalid{Field: "effect", Given: string(c.Effect), Allowed: record.Effects}
	case c.Country != "":
		return d.holidays(*c)
	}
	return d.readICal(*c)
}

// Put keeps a calendar and its events, and has everything fitted again
// that they concern.
func (d *Desk) Put(ctx context.Context, tx pgx.Tx, c record.Calendar, events []record.PlannedEvent) error {
	if err := store.PutCalendar(ctx, tx, c); err != nil {
		return err
	}
	changed, err := store.PutPlannedEvents(ctx, tx, c.Name, events)
	if err != nil || !changed {
		return err
	}
	datasets := []string{""}
	if c.Dataset != "" {
		datasets = []string{c.Dataset}
	}
	return d.setup.ExplainAgain(ctx, tx, datasets)
}

// Drop removes a calendar with its events.
func (d *Desk) Drop(ctx context.Context, name string) error {
	return d.store.InTx(ctx, func(tx pgx.Tx) error { return d.DropIn(ctx, tx, name) })
}

// DropIn is Drop in the caller's transaction.
func (d *Desk) DropIn(ctx context.Context, tx pgx.Tx, name string) error {
	if err := store.DropCalendar(ctx, tx, name); err != nil {
		return err
	}
	return d.setup.ExplainAgain(ctx, tx, []string{""})
}

// NewEvent is an event that a person adds.
type NewEvent struct {
	Summary string        `json:"summary" minLength:"1"`
	From    time.Time     `json:"from"`
	To      time.Time     `json:"to"`
	Dataset string        `json:"dataset,omitempty" doc:"empty: all datasets"`
	Effect  record.Effect `json:"effect,omitempty" enum:"mute,widen,leave out," doc:"mute if left out"`
	Repeat  string        `json:"repeat,omitempty" doc:"a rule of iCalendar's RRULE, such as FREQ=WEEKLY;BYDAY=TU"`
	Zone    string        `json:"zone,omitempty" doc:"by whose clocks it repeats; UTC if left out"`
	Holiday bool          `json:"holiday,omitempty" doc:"a day like a Sunday, rather than an event"`
}

// AddEvent adds an event to the calendar of those added by hand, and gives its
// occurrences.
func (d *Desk) AddEvent(ctx context.Context, e NewEvent) ([]record.PlannedEvent, error) {
	var added []record.PlannedEvent
	err := d.changeByHand(ctx, func(c *record.Calendar) error {
		uid, event, err := d.written(e)
		if err != nil {
			return err
		}
		if c.ICal, err = withEvent(c.ICal, event); err != nil {
			return err
		}
		events, err := d.Read(c)
		for _, one := range events {
			if one.UID == uid {
				added = append(added, one)
			}
		}
		if err == nil && len(added) == 0 {
			err = record.Invalid{Field: "repeat", Given: e.Repeat, Allowed: "a rule that has an occurrence within the next two years"}
		}
		return err
	})
	return added, err
}

// DropEvent removes an event that was added by hand, with all its occurrences.
func (d *Desk) DropEvent(ctx context.Context, uid string) error {
	return d.changeByHand(ctx, func(c *record.Calendar) error {
		text, found, err := withoutEvent(c.ICal, uid)
		if err != nil && c.ICal != "" {
			return err
		}
		if !found {
			return record.NotFound{Kind: "planned event added by hand", Name: uid}
		}
		c.ICal = text
		return nil
	})
}

func (d *Desk) changeByHand(ctx context.Context, change func(*record.Calendar) error) error {
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		c, err := store.CalendarForUpdate(ctx, tx, ByHand)
		if err != nil {
			return err
		}
		if err := change(&c); err != nil {
			return err
		}
		events, err := d.Read(&c)
		if err != nil {
			return err
		}
		return d.Put(ctx, tx, c, events)
	})
}

// Extend writes out the occurrences that have come within reach since calendars
// were last read.
func (d *Desk) Extend(ctx context.Context) error {
	calendars, err := d.store.Calendars(ctx)
	if err != nil {
		return err
	}
	named := func(c record.Calendar) string { return "calendar " + c.Name }
	return duty.Each(ctx, calendars, named, func(c record.Calendar) error {
		if c.ICal == "" && c.Country == "" {
			return nil
		}
		events, err := d.Read(&c)
		if err != nil {
			return err
		}
		return d.store.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutPlannedEvents(ctx, tx, c.Name, events)
			return err
		})
	})
}

// Suggestion is an event that people seem to plan again and again.
type Suggestion struct {
	Dataset string    `json:"dataset"`
	Summary string    `json:"summary" doc:"what people called it most"`
	Repeat  string    `json:"repeat" doc:"as iCalendar's RRULE has it"`
	Zone    string    `json:"zone"`
	From    time.Time `json:"from" doc:"the next time"`
	To      time.Time `json:"to"`
	Seen    int       `json:"seen" doc:"how many times people called it planned"`
	Due     int       `json:"due" doc:"how many times it would have come since the first"`
}

// Suggestions finds events that recur among alerts and stretches that people
// called planned, and that no calendar holds.
func (d *Desk) Suggestions(ctx context.Context) ([]Suggestion, error) {
	planned, err := d.store.PlannedSpans(ctx)
	if err != nil {
		return nil, err
	}
	events, err := d.store.PlannedEvents(ctx, "")
	if err != nil {
		return nil, err
	}
	byDataset := map[string][]store.PlannedSpan{}
	var datasets []string
	for _, p := range planned {
		if byDataset[p.Dataset] == nil {
			datasets = append(datasets, p.Dataset)
		}
		byDataset[p.Dataset] = append(byDataset[p.Dataset], p)
	}
	found := []Suggestion{}
	for _, dataset := range datasets {
		list := byDataset[dataset]
		zone, err := time.LoadLocation(list[0].Zone)
		if err != nil {
			return nil, err
		}
		var spans []timeline.Span
		for _, p := range list {
			spans = append(spans, timeline.Span{From: p.From.Unix(), To: p.To.Unix()})
		}
		// Segments that were called planned together are one happening.
		for _, r := range timeline.Recur(timeline.Join(spans), zone) {
			next := r.After(d.now())
			s := Suggestion{Dataset: dataset, Summary: called(list, r), Repeat: r.Rule, Zone: list[0].Zone, From: next.UTC(),
				To: next.Add(r.Length).UTC(), Seen: r.Seen, Due: r.Due}
			if !slices.ContainsFunc(events, func(e record.PlannedEvent) bool {
				return (e.Dataset == "" || e.Dataset == dataset) && e.StartedAt.Before(s.To) && e.EndedAt.After(s.From)
			}) {
				found = append(found, s)
			}
		}
	}
	return found, nil
}

// called is what people called a recurring happening most.
func called(list []store.PlannedSpan, r timeline.Recurrence) string {
	n := map[string]int{}
	best := "planned, as labelled"
	for _, p := range list {
		if p.Cause == "" {
			continue
		}
		if n[p.Cause]++; n[p.Cause] > n[best] {
			best = p.Cause
		}
	}
	return best
}
