package answer

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"
	"github.com/jackc/pgx/v5"
	"github.com/teambition/rrule-go"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	maxOccurrences = 2000
	horizon        = 2 * 365 * 24 * time.Hour
)

// ImportCalendar replaces a calendar with the events of an iCalendar file.
func (d *Desk) ImportCalendar(ctx context.Context, name string, body io.Reader) ([]record.PlannedEvent, error) {
	text, err := io.ReadAll(body)
	if err != nil {
		return nil, err
	}
	c := record.Calendar{Name: name, ICal: string(text)}
	events, err := d.ReadCalendar(c)
	if err != nil {
		return nil, err
	}
	return events, d.store.InTx(ctx, func(tx pgx.Tx) error { return d.PutCalendar(ctx, tx, c, events) })
}

// ReadCalendar gives the events of a calendar's file, those that recur one by
// one. The category HOLIDAY marks holidays, LASTING what does not go back
// afterwards, the property X-TINBELL-DATASET limits an event to a dataset, and
// CREATED or DTSTAMP says since when it was known.
func (d *Desk) ReadCalendar(c record.Calendar) ([]record.PlannedEvent, error) {
	if strings.TrimSpace(c.Name) == "" {
		return nil, record.Invalid{Field: "calendar", Given: c.Name, Allowed: "a name for the calendar"}
	}
	parsed, err := ical.ParseCalendar(strings.NewReader(c.ICal))
	if err != nil {
		return nil, record.Invalid{Field: "iCalendar file", Given: c.Name, Allowed: "it cannot be read: " + err.Error()}
	}
	events := []record.PlannedEvent{}
	for _, e := range parsed.Events() {
		occurrences, err := d.occurrences(c.Name, e)
		if err != nil {
			return nil, err
		}
		events = append(events, occurrences...)
	}
	return events, nil
}

// PutCalendar keeps a calendar and its events, and has everything fitted again.
func (d *Desk) PutCalendar(ctx context.Context, tx pgx.Tx, c record.Calendar, events []record.PlannedEvent) error {
	if err := store.PutCalendar(ctx, tx, c); err != nil {
		return err
	}
	if err := store.PutPlannedEvents(ctx, tx, c.Name, events); err != nil {
		return err
	}
	monitors, err := store.MonitorsOfDatasets(ctx, tx, []string{""})
	if err != nil {
		return err
	}
	return d.learnAgain(ctx, tx, monitors)
}

func (d *Desk) occurrences(calendar string, e *ical.VEvent) ([]record.PlannedEvent, error) {
	text := func(p ical.ComponentProperty) string {
		if property := e.GetProperty(p); property != nil {
			return property.Value
		}
		return ""
	}
	v := record.PlannedEvent{
		Calendar: calendar, UID: e.Id(), Summary: text(ical.ComponentPropertySummary),
		Dataset: text("X-TINBELL-DATASET"), KnownAt: d.now().UTC(),
	}
	categories := strings.Split(strings.ToUpper(text(ical.ComponentPropertyCategories)), ",")
	v.Holiday, v.Lasting = slices.Contains(categories, "HOLIDAY"), slices.Contains(categories, "LASTING")
	bad := func(why string) error {
		return record.Invalid{Field: "event", Given: v.Summary, Allowed: why}
	}
	start, err := e.GetStartAt()
	if err != nil {
		return nil, bad("DTSTART cannot be read: " + err.Error())
	}
	end, err := e.GetEndAt()
	if err != nil {
		end = start.AddDate(0, 0, 1)
	}
	if !end.After(start) {
		return nil, bad(fmt.Sprintf("it ends at %s, not after its start", end.Format(time.RFC3339)))
	}
	for _, p := range []ical.ComponentProperty{ical.ComponentPropertyDtstamp, ical.ComponentPropertyCreated} {
		if at, err := time.Parse("20060102T150405Z", text(p)); err == nil {
			v.KnownAt = at
		}
	}
	starts := []time.Time{start}
	if rule := text(ical.ComponentPropertyRrule); rule != "" {
		r, err := rrule.StrToRRule(rule)
		if err != nil {
			return nil, bad("RRULE cannot be read: " + err.Error())
		}
		r.DTStart(start)
		starts = r.Between(start, d.now().Add(horizon), true)
		if len(starts) > maxOccurrences {
			return nil, bad(fmt.Sprintf("it recurs %d times in two years; at most %d are taken: give it an UNTIL or a longer INTERVAL", len(starts), maxOccurrences))
		}
	}
	list := make([]record.PlannedEvent, len(starts))
	for i, at := range starts {
		list[i] = v
		list[i].StartedAt, list[i].EndedAt = at.UTC(), at.Add(end.Sub(start)).UTC()
	}
	return list, nil
}
