package demo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// Table is one table of the demo's warehouse. Its first column is id, its last
// two are event and load time.
type Table struct {
	Name     string
	DDL      string
	Columns  []string
	Segment  string // the column faults can be limited to
	Segments []string
	Every    time.Duration // between loads
	hour     func(w *World, rng *rand.Rand, at time.Time, emit func(segment int, event time.Time, values ...any))
}

// Event and load time columns.
func (t *Table) eventColumn() string { return t.Columns[len(t.Columns)-2] }

func hourly(segments int, name string, values func(rng *rand.Rand, segment int) []any) func(*World, *rand.Rand, time.Time,
	func(int, time.Time, ...any)) {
	return func(w *World, rng *rand.Rand, at time.Time, emit func(int, time.Time, ...any)) {
		for s := range segments {
			for range draw(rng, w.rate(name, s, at)*w.volume(name, s, at)) {
				emit(s, at.Add(time.Duration(rng.Float64()*3600*float64(time.Second))).Truncate(time.Millisecond), values(rng, s)...)
			}
		}
	}
}

func passenger(rng *rand.Rand, nulls float64) any {
	if rng.Float64() < nulls {
		return nil
	}
	return kinds[rng.IntN(len(kinds))]
}

// Tables are the warehouse, upstream first.
var Tables = []Table{
	{
		Name: "raw.gate_events", Segment: "port", Segments: ports, Every: 5 * time.Minute,
		DDL:     "port text, gate int, kind text, happened_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "port", "gate", "kind", "happened_at", "loaded_at"},
		hour: hourly(len(ports), "raw.gate_events", func(rng *rand.Rand, s int) []any {
			kind := "scan"
			if rng.Float64() < 0.07 {
				kind = "reject"
			}
			return []any{ports[s], rng.IntN(4) + 1, kind}
		}),
	},
	{
		Name: "raw.web_orders", Every: 5 * time.Minute,
		DDL:     "passenger_type text, amount_minor int, ordered_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "passenger_type", "amount_minor", "ordered_at", "loaded_at"},
		hour: hourly(1, "raw.web_orders", func(rng *rand.Rand, _ int) []any {
			return []any{passenger(rng, 0.004), 900 + rng.IntN(4000)}
		}),
	},
	{
		Name: "ops.boarding_scans", Segment: "port", Segments: ports, Every: 10 * time.Minute,
		DDL:     "port text, gate int, passenger_type text, route text, scanned_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "port", "gate", "passenger_type", "route", "scanned_at", "loaded_at"},
		hour: hourly(len(ports), "ops.boarding_scans", func(rng *rand.Rand, s int) []any {
			return []any{ports[s], rng.IntN(4) + 1, passenger(rng, 0.008), routes[rng.IntN(len(routes))]}
		}),
	},
	{
		Name: "ops.ticket_sales", Segment: "channel", Segments: channels, Every: 15 * time.Minute,
		DDL:     "channel text, passenger_type text, fare_minor int, sold_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "channel", "passenger_type", "fare_minor", "sold_at", "loaded_at"},
		hour: hourly(len(channels), "ops.ticket_sales", func(rng *rand.Rand, s int) []any {
			return []any{channels[s], passenger(rng, 0.012), 900 + rng.IntN(4000)}
		}),
	},
	{
		Name: "ops.vessel_positions", Segment: "vessel", Segments: vessels, Every: 5 * time.Minute,
		DDL:     "vessel text, latitude real, longitude real, reported_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "vessel", "latitude", "longitude", "reported_at", "loaded_at"},
		hour:    positions,
	},
	{
		Name: "ops.refunds", Every: time.Hour,
		DDL:     "channel text, amount_minor int, refunded_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "channel", "amount_minor", "refunded_at", "loaded_at"},
		hour: hourly(1, "ops.refunds", func(rng *rand.Rand, _ int) []any {
			return []any{channels[rng.IntN(4)], 500 + rng.IntN(5000)}
		}),
	},
	{
		Name: "ml.noshow_features", Every: time.Hour,
		DDL: `booking int, lead_time_hours real, fare_minor int, party_size int, sales_channel text, route text, passenger_type text, days_since_last_trip real,
			prior_noshows int, weather text, sailing_at timestamptz, has_vehicle boolean, score real, model_version text, no_show boolean, scored_at timestamptz, loaded_at timestamptz`,
		Columns: []string{"id", "booking", "lead_time_hours", "fare_minor", "party_size", "sales_channel", "route",
			"passenger_type", "days_since_last_trip",
			"prior_noshows", "weather", "sailing_at", "has_vehicle", "score", "model_version", "no_show", "scored_at", "loaded_at"},
		hour: bookings,
	},
	{
		Name: "ops.parcel_manifests", Segment: "partner", Segments: partners, Every: 24 * time.Hour,
		DDL:     "partner text, parcels int, weight_kg real, listed_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "partner", "parcels", "weight_kg", "listed_at", "loaded_at"},
		hour:    manifests,
	},
	{
		Name: "ops.crew_rosters", Every: 24 * time.Hour,
		DDL:     "vessel text, crew_role text, valid_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "vessel", "crew_role", "valid_at", "loaded_at"},
		hour: daily("ops.crew_rosters", 3, 220, func(rng *rand.Rand) []any {
			return []any{vessels[rng.IntN(len(vessels))], []string{"deck", "engine", "bridge", "purser"}[rng.IntN(4)]}
		}),
	},
	{
		Name: "mart.daily_load_factor", Every: 24 * time.Hour,
		DDL:     "route text, load_factor real, day_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "route", "load_factor", "day_at", "loaded_at"},
		hour: daily("mart.daily_load_factor", 12, 132, func(rng *rand.Rand) []any {
			return []any{routes[rng.IntN(len(routes))], float32(0.4 + 0.5*rng.Float64())}
		}),
	},
	{
		Name: "mart.daily_revenue", Every: 24 * time.Hour,
		DDL:     "channel text, route text, revenue_minor bigint, day_at timestamptz, loaded_at timestamptz",
		Columns: []string{"id", "channel", "route", "revenue_minor", "day_at", "loaded_at"},
		hour: daily("mart.daily_revenue", 12, 176, func(rng *rand.Rand) []any {
			return []any{channels[rng.IntN(4)], routes[rng.IntN(len(routes))], int64(50000 + rng.IntN(900000))}
		}),
	},
}

// TableNamed gives a table of the warehouse, nil if there is none.
func TableNamed(name string) *Table {
	i := slices.IndexFunc(Tables, func(t Table) bool { return t.Name == name })
	if i < 0 {
		return nil
	}
	return &Tables[i]
}

func positions(w *World, rng *rand.Rand, at time.Time, emit func(int, time.Time, ...any)) {
	h := at.In(w.Zone).Hour()
	if h < 5 || h >= 23 {
		return
	}
	for s, vessel := range vessels {
		volume := w.volume("ops.vessel_positions", s, at)
		for minute := 0; minute < 60; minute += 5 {
			if rng.Float64() < 0.02 || rng.Float64() > volume {
				continue
			}
			event := at.Add(time.Duration(minute)*time.Minute + time.Duration(rng.IntN(9000))*time.Millisecond)
			phase := float64(event.Unix()%21600) / 21600 * 2 * math.Pi
			emit(s, event, vessel, float32(44.6+0.2*math.Sin(phase+float64(s))), float32(-63.5+0.3*math.Cos(phase)))
		}
	}
}

func manifests(w *World, rng *rand.Rand, at time.Time, emit func(int, time.Time, ...any)) {
	local := at.In(w.Zone)
	day := w.weekday(local)
	if local.Hour() != 5 || day == time.Saturday || day == time.Sunday {
		return
	}
	for s, partner := range partners {
		for range draw(rng, (42+6*float64(s))*w.wander(partner, at, 0.04)*w.volume("ops.parcel_manifests", s, at)) {
			emit(s, at.Add(time.Duration(rng.IntN(3000))*time.Second), partner, 1+rng.IntN(12), float32(2+30*rng.Float64()))
		}
	}
}

// daily makes a batch once a day whose rows are about the local hour given.
func daily(name string, hour int, rows float64, values func(*rand.Rand) []any) func(*World, *rand.Rand, time.Time,
	func(int, time.Time, ...any)) {
	return func(w *World, rng *rand.Rand, at time.Time, emit func(int, time.Time, ...any)) {
		if at.In(w.Zone).Hour() != hour {
			return
		}
		mu := rows * (1 + 0.02*rng.NormFloat64()) * w.volume(name, 0, at)
		for i := range int(math.Round(mu)) {
			emit(0, at.Add(time.Duration(i)*time.Second), values(rng)...)
		}
	}
}

// Row is one generated row: its values in column order.
type Row struct {
	Values []any
	Loaded time.Time
}

// Rows gives the rows of a table whose events lie in the hour at, in a fixed
// order, with faults in force.
func (w *World) Rows(t *Table, at time.Time) []Row {
	hour := at.Unix() / 3600
	rng := rand.New(rand.NewPCG(w.hash(t.Name, hour), 5))
	var rows []Row
	n := int64(0)
	t.hour(w, rng, at, func(segment int, event time.Time, values ...any) {
		id := hour*100000 + n
		n++
		for _, copy := range w.damage(t, segment, event, id, values) {
			loaded := w.loaded(t, segment, event)
			full := append(append([]any{id + copy*50000}, values...), event, loaded)
			rows = append(rows, Row{full, loaded})
		}
	})
	return rows
}

// loaded is when a row arrives: with the next batch, a little late, or when a
// stalled loader is mended.
func (w *World) loaded(t *Table, segment int, event time.Time) time.Time {
	batch := event.Truncate(t.Every).Add(t.Every)
	switch t.Name {
	case "ops.parcel_manifests":
		// One file a partner, between 05:55 and 06:20.
		local := event.In(w.Zone)
		batch = time.Date(local.Year(), local.Month(), local.Day(), 5, 57+4*segment, 0, 0, w.Zone)
	case "ops.crew_rosters":
		local := event.In(w.Zone)
		batch = time.Date(local.Year(), local.Month(), local.Day(), 3, 10, 0, 0, w.Zone)
	case "mart.daily_load_factor", "mart.daily_revenue":
		local := event.In(w.Zone)
		batch = time.Date(local.Year(), local.Month(), local.Day()+1, 4, 30, 0, 0, w.Zone)
	}
	jitter := 20 + 25*math.Abs(w.normal(t.Name+" load", batch.Unix()))
	if t.Every >= time.Hour {
		jitter *= 6
	}
	at := batch.Add(time.Duration(jitter * float64(time.Second))).Truncate(time.Second).UTC()
	for _, e := range w.on(t.Name) {
		if e.Kind == Stall && e.touches(segment, t) && !at.Before(e.From) && at.Before(e.To) {
			at = e.To.Add(time.Duration(5+5*(at.Unix()%4)) * time.Second)
		}
	}
	return at
}

func (t *Table) create() string {
	return fmt.Sprintf("create table %s (id bigint, %s)", t.Name, t.DDL)
}
