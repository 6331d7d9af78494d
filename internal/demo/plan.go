package demo

import (
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/rickar/cal/v2/ca"
)

// Fault is an incident of the catalogue: what people found out and wrote down.
type Fault struct {
	Reference string
	Dataset   string
	Measure   string
	Segment   string
	From, To  time.Time
	Title     string
	Cause     string
	Severity  string
	Known     time.Time
}

// Event is a planned event of the calendar.
type Event struct {
	Summary  string
	From, To time.Time
	Dataset  string
	Holiday  bool
	Known    time.Time
}

// script is a fault before it has a date: the day counts from the start of the
// past, the hour is local.
type script struct {
	day     int
	hour    int
	hours   int
	table   string
	segment int // −1 for all, −2 for any one that the seed picks
	kind    EffectKind
	size    float64
	column  string
	measure string
	title   string
	cause   string
	worse   bool
}

var scripts = []script{
	{9, 8, 9, "ops.boarding_scans", -2, Drop, 0.6, "", "rows", "Card readers offline at two gates", "hardware", false},
	{13, 7, 8, "ops.ticket_sales", 1, Drop, 1, "", "rows", "Kiosk sales not delivered", "network", true},
	{18, 10, 6, "raw.web_orders", -1, Stall, 0, "", "freshness", "Order stream stopped", "loader", true},
	{24, 9, 30, "ops.boarding_scans", -2, Nulls, 0.3, "passenger_type", "null_share",
		"Passenger type empty after a reader update", "software", false},
	{29, 6, 10, "ops.vessel_positions", -2, Drop, 1, "", "rows", "Transponder silent", "hardware", false},
	{36, 5, 42, "ops.boarding_scans", 5, Drop, 0.4, "", "rows", "Gate firmware 4.1 drops scans", "software", true},
	{36, 5, 42, "raw.gate_events", 5, Drop, 0.38, "", "rows", "Gate firmware 4.1 drops events", "software", true},
	{38, 9, 7, "ops.ticket_sales", -1, Stall, 0, "", "freshness", "Sales loader stalled", "loader", true},
	{40, 5, 20, "ops.parcel_manifests", 3, Double, 0, "", "rows", "Norrland Haul's file loaded twice", "partner", false},
	{42, 12, 6, "ops.ticket_sales", -1, Scale, 0, "fare_minor", "mean_fare", "Fares loaded in whole dollars", "software", true},
	{44, 8, 14, "ops.ticket_sales", 1, Nulls, 0.35, "passenger_type", "null_share", "Passenger type empty after a kiosk update",
		"software", false},
	{46, 6, 8, "ops.vessel_positions", -1, Stall, 0, "", "freshness", "Position feed stalled", "network", true},
	{48, 0, 72, "raw.web_orders", -1, Leak, 0.4, "", "rows", "Web orders leak away slowly", "software", true},
	{48, 0, 72, "ops.ticket_sales", 0, Leak, 0.38, "", "rows", "Web sales leak away with the orders", "upstream", true},
	{51, 1, 30, "ops.crew_rosters", -1, Stall, 0, "", "freshness", "Crew roster a day late", "loader", true},
	{53, 7, 11, "ops.boarding_scans", -2, Drop, 0.75, "", "rows", "Port router down for a morning", "network", true},
	{55, 9, 5, "ops.boarding_scans", -1, Stall, 0, "", "freshness", "Boarding loader stalled", "loader", true},
	{57, 2, 22, "mart.daily_revenue", -1, Stall, 0, "", "freshness", "Revenue waited for late sales", "upstream", true},
	{59, 8, 10, "ml.noshow_features", -1, Nulls, 0.25, "lead_time_hours", "null_share", "Lead time not computed", "software", false},
	{61, 0, 24, "mart.daily_load_factor", -1, Drop, 0.3, "", "rows", "Load factor computed before sales arrived", "upstream", false},
	{63, 6, 12, "raw.gate_events", -2, Double, 0, "", "rows", "Gate buffer sent twice", "hardware", false},
	{65, 10, 9, "ops.ticket_sales", 2, Drop, 0.8, "", "rows", "Agent desk cut off", "partner", false},
	{67, 7, 16, "ops.vessel_positions", -2, Frozen, 0, "", "position", "Position stuck at one spot", "hardware", false},
	{69, 5, 20, "ops.parcel_manifests", -2, Drop, 0.7, "", "rows", "Partner sent half a file", "partner", false},
	{71, 8, 12, "ops.boarding_scans", -2, Double, 0, "", "rows", "Scans loaded twice", "loader", true},
	{73, 9, 6, "ml.noshow_features", -1, Stall, 0, "", "freshness", "Scoring job hung", "software", false},
	{75, 0, 24, "ops.crew_rosters", -1, Double, 0, "", "rows", "Roster loaded twice", "loader", false},
	{77, 11, 30, "ops.ticket_sales", 3, Drop, 1, "", "rows", "Telephone sales not transferred", "software", true},
	{79, 6, 9, "raw.web_orders", -1, Drop, 0.5, "", "rows", "One of two web servers not collected", "software", true},
	{81, 8, 8, "raw.gate_events", -1, Stall, 0, "", "freshness", "Gate stream stopped", "network", true},
	{83, 7, 24, "ops.boarding_scans", -1, Nulls, 0.12, "passenger_type", "null_share", "New passenger type not mapped", "software", false},
	{85, 2, 26, "mart.daily_load_factor", -1, Stall, 0, "", "freshness", "Daily mart did not run", "loader", true},
	{87, 8, 10, "ops.ticket_sales", 1, Double, 0, "", "rows", "Kiosk batch loaded twice", "loader", false},
	{89, 6, 10, "ops.vessel_positions", -2, Drop, 0.6, "", "rows", "Transponder loses every other report", "hardware", false},
	{91, 7, 9, "raw.gate_events", -2, Drop, 0.9, "", "rows", "Gate controller restarts all morning", "hardware", true},
	{93, 0, 24, "mart.daily_revenue", -1, Double, 0, "", "rows", "Revenue computed twice", "loader", false},
	{95, 9, 34, "ops.boarding_scans", -2, Drop, 0.35, "", "rows", "Half the gates not reporting", "hardware", false},
	{98, 12, 8, "ml.noshow_features", -1, Drop, 0.7, "", "rows", "Bookings missing from scoring", "upstream", false},
	{100, 8, 12, "raw.web_orders", -1, Nulls, 0.2, "passenger_type", "null_share", "Order form lost a field", "software", false},
	{102, 10, 8, "ops.refunds", -1, Surge, 4, "", "rows", "Refund job ran again and again", "software", false},
	{104, 6, 5, "ops.boarding_scans", -1, Stall, 0, "", "freshness", "Boarding loader out of disk", "loader", true},
	{106, 7, 10, "ops.ticket_sales", 1, Nulls, 0.5, "passenger_type", "null_share", "Kiosk sends empty passenger types", "software", true},
}

// plan draws the dates of faults, harmless artifacts and planned events.
func (w *World) plan() {
	rng := rand.New(rand.NewPCG(w.Seed, 41))
	local := w.Start().In(w.Zone)
	dayAt := func(day, hour int) time.Time {
		return time.Date(local.Year(), local.Month(), local.Day()+day, hour, 0, 0, 0, w.Zone)
	}
	w.planEvents(rng, dayAt)
	for i, s := range scripts {
		if rng.Float64() < 0.3 {
			s.day += rng.IntN(3) - 1
		}
		w.addFault(rng, i, s, dayAt)
	}
	w.planArtifacts(rng, dayAt)
	w.planToday(rng)
}

func (w *World) addFault(rng *rand.Rand, i int, s script, dayAt func(int, int) time.Time) {
	t := TableNamed(s.table)
	if s.segment == -2 {
		s.segment = rng.IntN(len(t.Segments))
	}
	if i == 6 { // the firmware hits the same gates in both tables
		s.segment = 5
	}
	if t.Every >= 24*time.Hour && s.kind != Stall {
		s.hour, s.hours = 0, 24 // batches go wrong as a whole
	}
	from := dayAt(s.day, s.hour)
	if t.Name == "ops.parcel_manifests" {
		for day := w.weekday(from.In(w.Zone)); day == time.Saturday || day == time.Sunday; day = w.weekday(from.In(w.Zone)) {
			from = from.AddDate(0, 0, 1)
		}
	}
	to := from.Add(time.Duration(s.hours) * time.Hour)
	if to.After(w.AsOf.Add(-36 * time.Hour)) {
		return
	}
	w.Effects = append(w.Effects, Effect{s.kind, s.table, s.segment, from.UTC(), to.UTC(), s.size, s.column})
	f := Fault{
		Reference: fmt.Sprintf("VF-%03d", i+1), Dataset: s.table, Measure: s.measure, From: from.UTC(), To: to.UTC(),
		Title: s.title, Cause: s.cause, Severity: "warning",
		Known: to.Add(time.Duration(2+rng.IntN(30)) * time.Hour).UTC(),
	}
	if s.segment >= 0 && len(t.Segments) > 0 {
		f.Segment = t.Segments[s.segment]
	}
	if s.worse {
		f.Severity = "critical"
	}
	if s.measure == "freshness" {
		f.Segment = ""
	}
	w.Faults = append(w.Faults, f)
}

// planArtifacts scatters what looks odd for one period and means nothing.
func (w *World) planArtifacts(rng *rand.Rand, dayAt func(int, int) time.Time) {
	for range 40 {
		at := dayAt(rng.IntN(110), 9+rng.IntN(10)).UTC()
		e := Effect{Kind: Surge, From: at, To: at.Add(time.Hour)}
		switch rng.IntN(6) {
		case 0, 1: // a gate reboot sends its buffer, or a school trip boards
			e.Table, e.Segment, e.Size = "ops.boarding_scans", rng.IntN(len(ports)), 1.8+1.5*rng.Float64()
		case 2:
			e.Table, e.Segment, e.Size = "raw.gate_events", rng.IntN(len(ports)), 0.2+0.3*rng.Float64()
		case 3: // a coach party pays at the desk
			e.Table, e.Segment, e.Size = "ops.ticket_sales", rng.IntN(len(channels)), 2+rng.Float64()
		case 4:
			e.Table, e.Segment, e.Size = "raw.web_orders", -1, 0.3+0.2*rng.Float64()
		case 5:
			e.Table, e.Segment, e.Size = "ops.refunds", -1, 3
		}
		w.Effects = append(w.Effects, e)
	}
}

// planEvents fills the calendar and what its events do to the rows.
func (w *World) planEvents(rng *rand.Rand, dayAt func(int, int) time.Time) {
	add := func(summary string, day, hours int, dataset string, notice time.Duration) (time.Time, time.Time) {
		from := dayAt(day, 6).UTC()
		to := from.Add(time.Duration(hours) * time.Hour)
		w.Events = append(w.Events, Event{summary, from, to, dataset, false, from.Add(-notice)})
		return from, to
	}
	everywhere := func(from, to time.Time, size float64, tables ...string) {
		for _, t := range tables {
			w.Effects = append(w.Effects, Effect{Surge, t, -1, from, to, size, ""})
		}
	}
	from, to := add("Gullstone regatta", 60+rng.IntN(3), 40, "", 30*24*time.Hour)
	for _, t := range []string{"ops.boarding_scans", "raw.gate_events"} {
		w.Effects = append(w.Effects, Effect{Surge, t, 5, from, to, 1.7, ""})
	}
	for _, day := range []int{43, 94} {
		from, to := add("Storm, sailings cancelled", day, 15, "", 12*time.Hour)
		everywhere(from, to, 0.3, "ops.boarding_scans", "raw.gate_events", "ops.vessel_positions")
		everywhere(from, to, 0.6, "ops.ticket_sales", "raw.web_orders")
	}
	ahead := dayAt(int(History/(24*time.Hour))+19, 5).UTC()
	w.Events = append(w.Events, Event{Summary: "Winter timetable begins", From: ahead, To: ahead.Add(48 * time.Hour),
		Dataset: "ops.boarding_scans", Known: w.Start()})
	night := dayAt(72, 1).UTC()
	w.Events = append(w.Events, Event{"Warehouse maintenance night", night, night.Add(3 * time.Hour), "", false, night.AddDate(0, 0, -10)})
	for i := range Tables {
		if Tables[i].Every < time.Hour {
			w.Effects = append(w.Effects, Effect{Stall, Tables[i].Name, -1, night, night.Add(3 * time.Hour), 0, ""})
		}
	}
	for at := w.Start().AddDate(0, 0, -1); at.Before(w.AsOf.AddDate(1, 0, 0)); at = at.AddDate(0, 0, 1) {
		local := at.In(w.Zone)
		for _, h := range ca.Holidays {
			actual, _ := h.Calc(local.Year())
			if actual.Year() == local.Year() && actual.YearDay() == local.YearDay() {
				start := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, w.Zone)
				w.Events = append(w.Events, Event{h.Name, start, start.AddDate(0, 0, 1), "", true, start.AddDate(-1, 0, 0)})
			}
		}
	}
}

// planToday leaves something wrong right now: it is in no catalogue yet.
func (w *World) planToday(rng *rand.Rand) {
	far := w.AsOf.AddDate(1, 0, 0)
	w.Effects = append(w.Effects,
		Effect{Drop, "ops.boarding_scans", 5, w.AsOf.Add(-29 * time.Hour), far, 0.38, ""},
		Effect{Drop, "raw.gate_events", 5, w.AsOf.Add(-29 * time.Hour), far, 0.38, ""},
		Effect{Leak, "raw.web_orders", -1, w.AsOf.Add(-40 * time.Hour), w.AsOf.Add(8 * time.Hour), 0.45, ""},
		Effect{Stall, "ops.crew_rosters", -1, w.AsOf.Add(-31 * time.Hour), far, 0, ""},
		Effect{Nulls, "ops.ticket_sales", 1, w.AsOf.Add(-16 * time.Hour), far, 0.3 + 0.1*rng.Float64(), "passenger_type"},
	)
}

func (w *World) holidays() map[int]Event {
	if w.events == nil {
		w.events = map[int]Event{}
		for _, e := range w.Events {
			if e.Holiday {
				w.events[dateOf(e.From.In(w.Zone))] = e
			}
		}
	}
	return w.events
}
