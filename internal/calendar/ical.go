package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"
	"github.com/google/uuid"
	"github.com/teambition/rrule-go"

	"tinbell/internal/contain"
	"tinbell/internal/record"
)

const (
	maxOccurrences = 2000
	horizon        = 2 * 365 * 24 * time.Hour
)

// Properties of events that are our own.
const (
	propertyDataset = "X-TINBELL-DATASET"
	propertyEffect  = "X-TINBELL-EFFECT"
)

// readICal gives the events of an iCalendar file (RFC 5545), those that recur one
// by one up to two years ahead, with their exceptions: EXDATE, RDATE, and events
// that stand for one occurrence (RECURRENCE-ID). The category HOLIDAY marks
// holidays, LASTING what does not go back afterwards; X-TINBELL-DATASET limits an
// event to a dataset, X-TINBELL-EFFECT says what it does, and CREATED or DTSTAMP
// since when it was known.
func (d *Desk) readICal(c record.Calendar) ([]record.PlannedEvent, error) {
	parsed, err := contain.Get(func() (*ical.Calendar, error) { return ical.ParseCalendar(strings.NewReader(c.ICal)) })
	if err != nil {
		return nil, record.Invalid{Field: "iCalendar file", Given: c.Name, Allowed: "it cannot be read: " + err.Error()}
	}
	var events []record.PlannedEvent
	var instead []*ical.VEvent
	for _, e := range parsed.Events() {
		if e.GetProperty(ical.ComponentPropertyRecurrenceId) != nil {
			instead = append(instead, e)
			continue
		}
		occurrences, err := d.occurrences(c, e)
		if err != nil {
			return nil, err
		}
		events = append(events, occurrences...)
	}
	if events, err = d.replace(c, events, instead); err != nil {
		return nil, err
	}
	if events == nil {
		events = []record.PlannedEvent{}
	}
	return events, nil
}

func text(e *ical.VEvent, p ical.ComponentProperty) string {
	if property := e.GetProperty(p); property != nil {
		return property.Value
	}
	return ""
}

// single reads an event as it first happens.
func (d *Desk) single(c record.Calendar, e *ical.VEvent) (v record.PlannedEvent, start time.Time, err error) {
	v = record.PlannedEvent{Calendar: c.Name, UID: e.Id(), Summary: text(e, ical.ComponentPropertySummary), Dataset: c.Dataset,
		Effect: c.Effect, KnownAt: d.now().UTC()}
	if named := text(e, propertyDataset); named != "" {
		v.Dataset = named
	}
	bad := func(why string) error {
		return record.Invalid{Field: "event", Given: v.Summary, Allowed: why}
	}
	if effect := strings.ReplaceAll(strings.ToLower(text(e, propertyEffect)), "-", " "); effect != "" {
		if v.Effect = record.Effect(effect); !v.Effect.Valid() {
			return v, start, bad(fmt.Sprintf("%s is %q; allowed are MUTE, WIDEN and LEAVE-OUT", propertyEffect, effect))
		}
	}
	categories := strings.Split(strings.ToUpper(text(e, ical.ComponentPropertyCategories)), ",")
	v.Holiday, v.Lasting = slices.Contains(categories, "HOLIDAY"), slices.Contains(categories, "LASTING")
	if start, err = e.GetStartAt(); err != nil {
		return v, start, bad("DTSTART cannot be read: " + err.Error())
	}
	end, err := e.GetEndAt()
	switch {
	case err == nil:
	case text(e, ical.ComponentPropertyDuration) != "":
		if end, err = after(start, text(e, ical.ComponentPropertyDuration)); err != nil {
			return v, start, bad("DURATION cannot be read: " + err.Error())
		}
	case errors.Is(err, ical.ErrorPropertyNotFound):
		end = start.AddDate(0, 0, 1)
	default:
		return v, start, bad("DTEND cannot be read: " + err.Error())
	}
	if y := start.Year(); y < 1970 || y > 2200 || end.Year() > 2300 {
		return v, start, bad("it lies at " + start.Format(time.DateOnly) + "; events of 1970 to 2200 are taken")
	}
	if !end.After(start) {
		return v, start, bad(fmt.Sprintf("it ends at %s, not after its start", end.Format(time.RFC3339)))
	}
	for _, p := range []ical.ComponentProperty{ical.ComponentPropertyDtstamp, ical.ComponentPropertyCreated} {
		if at, err := time.Parse("20060102T150405Z", text(e, p)); err == nil {
			v.KnownAt = at
		}
	}
	v.StartedAt, v.EndedAt = start.UTC(), end.UTC()
	return v, start, nil
}

// after reads a duration of RFC 5545, such as P1DT2H30M, from a start.
func after(start time.Time, duration string) (time.Time, error) {
	rest, found := strings.CutPrefix(strings.TrimPrefix(duration, "+"), "P")
	if !found {
		return start, fmt.Errorf("%q", duration)
	}
	for n := 0; rest != ""; rest = rest[1:] {
		switch c := rest[0]; {
		case c >= '0' && c <= '9' && n < 1e6:
			n = 10*n + int(c-'0')
			continue
		case c == 'W':
			start = start.AddDate(0, 0, 7*n)
		case c == 'D':
			start = start.AddDate(0, 0, n)
		case c == 'H':
			start = start.Add(time.Duration(n) * time.Hour)
		case c == 'M':
			start = start.Add(time.Duration(n) * time.Minute)
		case c == 'S':
			start = start.Add(time.Duration(n) * time.Second)
		case c != 'T':
			return start, fmt.Errorf("%q", duration)
		}
		n = 0
	}
	return start, nil
}

// occurrences gives an event each time it happens. Times go by the clocks of the
// zone it is in, so that a night's maintenance stays at night when clocks change.
func (d *Desk) occurrences(c record.Calendar, e *ical.VEvent) ([]record.PlannedEvent, error) {
	v, start, err := d.single(c, e)
	if err != nil {
		return nil, err
	}
	bad := func(why string) error {
		return record.Invalid{Field: "event", Given: v.Summary, Allowed: why}
	}
	starts := []time.Time{start}
	if rule := text(e, ical.ComponentPropertyRrule); rule != "" {
		r, err := rrule.StrToRRule(rule)
		if err != nil {
			return nil, bad("RRULE cannot be read: " + err.Error())
		}
		r.DTStart(start)
		// Counted as they come: an endless rule is not written out first.
		starts = starts[:0]
		until := d.now().Add(horizon)
		next := r.Iterator()
		for at, more := next(); more && !at.After(until); at, more = next() {
			if starts = append(starts, at); len(starts) > maxOccurrences {
				return nil, bad(fmt.Sprintf("it recurs more than %d times until two years from now: give it an UNTIL or a longer INTERVAL", maxOccurrences))
			}
		}
	}
	if starts, err = exceptions(e, start, starts); err != nil {
		return nil, bad(err.Error())
	}
	length := v.EndedAt.Sub(v.StartedAt)
	wholeDays := slices.Contains(e.GetProperty(ical.ComponentPropertyDtStart).ICalParameters["VALUE"], "DATE")
	days := int((length + 12*time.Hour) / (24 * time.Hour))
	list := make([]record.PlannedEvent, len(starts))
	for i, at := range starts {
		end := at.Add(length)
		if wholeDays && days > 0 {
			end = at.AddDate(0, 0, days) // a day may have 23 hours
		}
		list[i] = v
		list[i].StartedAt, list[i].EndedAt = at.UTC(), end.UTC()
	}
	return list, nil
}

// exceptions takes out what EXDATE names and adds what RDATE does.
func exceptions(e *ical.VEvent, start time.Time, starts []time.Time) ([]time.Time, error) {
	for _, p := range e.Properties {
		name := ical.ComponentProperty(p.IANAToken)
		if name != ical.ComponentPropertyExdate && name != ical.ComponentPropertyRdate {
			continue
		}
		for _, one := range strings.Split(p.Value, ",") {
			at, err := moment(one, p.ICalParameters["TZID"], start.Location())
			if err != nil {
				return nil, fmt.Errorf("%s cannot be read: %w", p.IANAToken, err)
			}
			if name == ical.ComponentPropertyRdate {
				starts = append(starts, at)
				continue
			}
			starts = slices.DeleteFunc(starts, func(s time.Time) bool {
				return s.Equal(at) || len(one) == 8 && s.Format("20060102") == one
			})
		}
	}
	return starts, nil
}

// moment reads a date or time of iCalendar in the zone of its TZID, else in the
// event's own.
func moment(value string, tzid []string, zone *time.Location) (time.Time, error) {
	value = strings.TrimSpace(value)
	if len(tzid) > 0 {
		named, err := time.LoadLocation(tzid[0])
		if err != nil {
			return time.Time{}, err
		}
		zone = named
	}
	switch {
	case len(value) == 8:
		return time.ParseInLocation("20060102", value, zone)
	case strings.HasSuffix(value, "Z"):
		return time.Parse("20060102T150405Z", value)
	}
	return time.ParseInLocation("20060102T150405", value, zone)
}

// replace puts events in the places of the occurrences that they stand for; one that
// is cancelled takes its own out.
func (d *Desk) replace(c record.Calendar, events []record.PlannedEvent, instead []*ical.VEvent) ([]record.PlannedEvent, error) {
	type occurrence struct {
		uid string
		at  int64
	}
	gone := map[occurrence]bool{}
	var moved []record.PlannedEvent
	for _, e := range instead {
		v, start, err := d.single(c, e)
		if err != nil {
			return nil, err
		}
		p := e.GetProperty(ical.ComponentPropertyRecurrenceId)
		at, err := moment(p.Value, p.ICalParameters["TZID"], start.Location())
		if err != nil {
			return nil, record.Invalid{Field: "event", Given: v.Summary, Allowed: "RECURRENCE-ID cannot be read: " + err.Error()}
		}
		gone[occurrence{v.UID, at.Unix()}] = true
		if !strings.EqualFold(text(e, ical.ComponentPropertyStatus), "CANCELLED") {
			moved = append(moved, v)
		}
	}
	if len(gone) == 0 {
		return events, nil
	}
	events = slices.DeleteFunc(events, func(x record.PlannedEvent) bool { return gone[occurrence{x.UID, x.StartedAt.Unix()}] })
	return append(events, moved...), nil
}

// written makes a VEVENT of what a person adds.
func (d *Desk) written(e NewEvent) (string, *ical.VEvent, error) {
	if strings.TrimSpace(e.Summary) == "" {
		return "", nil, record.Invalid{Field: "summary", Given: e.Summary, Allowed: "a few words that say what it is"}
	}
	if !e.To.After(e.From) {
		return "", nil, record.Invalid{Field: "to", Given: e.To.Format(time.RFC3339),
			Allowed: "a time after " + e.From.Format(time.RFC3339)}
	}
	if e.Effect != "" && !e.Effect.Valid() {
		return "", nil, record.Invalid{Field: "effect", Given: string(e.Effect), Allowed: record.Effects}
	}
	if e.Zone == "" {
		e.Zone = "UTC"
	}
	zone, err := time.LoadLocation(e.Zone)
	if err != nil {
		return "", nil, record.Invalid{Field: "zone", Given: e.Zone, Allowed: "a name of the tz database, such as America/Halifax"}
	}
	if e.Repeat != "" {
		if _, err := rrule.StrToRRule(e.Repeat); err != nil {
			return "", nil, record.Invalid{Field: "repeat", Given: e.Repeat,
				Allowed: "a rule of iCalendar's RRULE, such as FREQ=WEEKLY;BYDAY=TU: " + err.Error()}
		}
	}
	c := ical.NewCalendar()
	uid := uuid.NewString()
	v := c.AddEvent(uid)
	v.SetSummary(e.Summary)
	v.SetDtStampTime(d.now().UTC())
	v.SetProperty(ical.ComponentPropertyDtStart, e.From.In(zone).Format("20060102T150405"), ical.WithTZID(e.Zone))
	v.SetProperty(ical.ComponentPropertyDtEnd, e.To.In(zone).Format("20060102T150405"), ical.WithTZID(e.Zone))
	if e.Dataset != "" {
		v.SetProperty(propertyDataset, e.Dataset)
	}
	if e.Effect != "" {
		v.SetProperty(propertyEffect, strings.ToUpper(strings.ReplaceAll(string(e.Effect), " ", "-")))
	}
	if e.Repeat != "" {
		v.SetProperty(ical.ComponentPropertyRrule, e.Repeat)
	}
	if e.Holiday {
		v.SetProperty(ical.ComponentPropertyCategories, "HOLIDAY")
	}
	return uid, v, nil
}

// withEvent adds an event to a calendar's file, which may be empty.
func withEvent(file string, e *ical.VEvent) (string, error) {
	c := ical.NewCalendar()
	c.SetProductId("-//Tin Bell//planned events//EN")
	if file != "" {
		var err error
		if c, err = ical.ParseCalendar(strings.NewReader(file)); err != nil {
			return "", fmt.Errorf("read calendar: %w", err)
		}
	}
	c.AddVEvent(e)
	return c.Serialize(), nil
}

// withoutEvent takes an event out of a calendar's file, and tells whether it was
// there.
func withoutEvent(file, uid string) (string, bool, error) {
	c, err := ical.ParseCalendar(strings.NewReader(file))
	if err != nil {
		return "", false, fmt.Errorf("read calendar: %w", err)
	}
	before := len(c.Events())
	c.RemoveEvent(uid)
	return c.Serialize(), len(c.Events()) < before, nil
}
