package demo

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/flat"
	"tinbell/internal/httpapi"
	"tinbell/internal/incident"
	"tinbell/internal/reconcile"
	"tinbell/internal/record"
)

const (
	hour = int64(3600)
	day  = 24 * hour
)

var owners = map[string]string{
	"raw.gate_events": "Harbour data", "ops.boarding_scans": "Harbour data", "raw.web_orders": "Sales data",
	"ops.ticket_sales":     "Sales data",
	"ops.vessel_positions": "Fleet", "ops.parcel_manifests": "Freight", "ops.refunds": "Sales data", "ops.crew_rosters": "Crew desk",
	"ml.noshow_features": "Models", "mart.daily_load_factor": "Reporting", "mart.daily_revenue": "Reporting",
}

// tags are what two audiences care about: who gets on board, and what is earned.
var tags = map[string]record.Strings{
	"raw.gate_events": {"boarding"}, "ops.boarding_scans": {"boarding"}, "mart.daily_load_factor": {"boarding"},
	"raw.web_orders": {"money"}, "ops.ticket_sales": {"money"}, "ops.refunds": {"money"}, "mart.daily_revenue": {"money"},
}

// metrics are what the demo measures, each with a monitor.
func metrics() []httpapi.NewMetric {
	rows := func(dataset, event, unit string, period int64, by ...string) httpapi.NewMetric {
		m := httpapi.NewMetric{Dataset: dataset, Name: short(dataset) + "-rows", Measure: record.MeasureRows, TimeColumn: event, Unit: unit,
			SegmentBy: by, PeriodSeconds: period, EverySeconds: 15, LookbackSeconds: 12 * hour, SettleSeconds: 20 * 60}
		if period == day {
			m.SettleSeconds, m.LookbackSeconds = 6*hour, 2*day
		}
		return m
	}
	fresh := func(dataset, event string) httpapi.NewMetric {
		return httpapi.NewMetric{Dataset: dataset, Name: short(dataset) + "-freshness", Measure: record.MeasureFreshness, TimeColumn: event,
			Unit: "age of the newest row", PeriodSeconds: hour, EverySeconds: 10, LookbackSeconds: 6 * hour}
	}
	nulls := func(dataset, event, column string, by ...string) httpapi.NewMetric {
		return httpapi.NewMetric{Dataset: dataset, Name: short(dataset) + "-" + strings.ReplaceAll(column, "_", "-") + "-nulls",
			Measure: record.MeasureNullShare, Column: column, TimeColumn: event, SegmentBy: by,
			Unit:          "null " + strings.ReplaceAll(column, "_", " "),
			PeriodSeconds: hour, EverySeconds: 15, LookbackSeconds: 12 * hour, SettleSeconds: 20 * 60}
	}
	return []httpapi.NewMetric{
		rows("raw.gate_events", "happened_at", "gate events", hour, "port"), fresh("raw.gate_events", "happened_at"),
		rows("raw.web_orders", "ordered_at", "web orders", hour), fresh("raw.web_orders", "ordered_at"),
		nulls("raw.web_orders", "ordered_at", "passenger_type"),
		rows("ops.boarding_scans", "scanned_at", "boarding scans", hour, "port"), fresh("ops.boarding_scans", "scanned_at"),
		nulls("ops.boarding_scans", "scanned_at", "passenger_type"),
		rows("ops.ticket_sales", "sold_at", "ticket sales", hour, "channel"), fresh("ops.ticket_sales", "sold_at"),
		nulls("ops.ticket_sales", "sold_at", "passenger_type", "channel"),
		rows("ops.vessel_positions", "reported_at", "position reports", hour, "vessel"), fresh("ops.vessel_positions", "reported_at"),
		rows("ops.refunds", "refunded_at", "refunds", hour), fresh("ops.refunds", "refunded_at"),
		rows("ml.noshow_features", "scored_at", "scored bookings", hour), fresh("ml.noshow_features", "scored_at"),
		nulls("ml.noshow_features", "scored_at", "lead_time_hours"),
		rows("ops.parcel_manifests", "listed_at", "manifest lines", day, "partner"), fresh("ops.parcel_manifests", "listed_at"),
		rows("ops.crew_rosters", "valid_at", "roster lines", day), fresh("ops.crew_rosters", "valid_at"),
		rows("mart.daily_load_factor", "day_at", "load factors", day), fresh("mart.daily_load_factor", "day_at"),
		rows("mart.daily_revenue", "day_at", "revenue lines", day), fresh("mart.daily_revenue", "day_at"),
	}
}

func short(dataset string) string {
	_, name, _ := strings.Cut(dataset, ".")
	return strings.ReplaceAll(name, "_", "-")
}

// Setup tells the service, through its API, what to watch: source, datasets,
// metrics with their past, calendar, catalogue, monitors, labels.
func Setup(ctx context.Context, e *Emitter, warehouse string, say func(step string), progress func(done, total int)) error {
	c, w := e.Client, e.World
	say("adding the warehouse and its datasets")
	if err := c.Send(ctx, "POST", "/sources", httpapi.NewSource{Name: "vellamar", Address: warehouse}, nil); err != nil {
		return err
	}
	for _, t := range Tables {
		d := httpapi.NewDataset{Source: "vellamar", Name: t.Name, Owner: owners[t.Name], Zone: zoneName, LoadedBy: "loaded_at",
			Tags: tags[t.Name]}
		if err := c.Send(ctx, "POST", "/datasets", d, nil); err != nil {
			return err
		}
	}
	if err := c.Stream(ctx, "PUT", "/calendars/vellamar", "text/calendar", bytes.NewReader(w.Calendar()), nil); err != nil {
		return err
	}
	say("measuring sixteen weeks of history")
	if err := backfill(ctx, c, progress); err != nil {
		return err
	}
	say("telling of runs, files and gates")
	if err := e.past(ctx); err != nil {
		return err
	}
	var imported flat.Import
	if err := c.Stream(ctx, "POST", "/incidents/import", "text/csv", bytes.NewReader(w.Catalogue()), &imported); err != nil {
		return err
	}
	if imported.Refused > 0 {
		return fmt.Errorf("catalogue: %d lines refused: %v", imported.Refused, imported.Problems)
	}
	say("fitting baselines and walking through the past")
	if err := monitors(ctx, c, progress); err != nil {
		return err
	}
	say("comparing bookings and sales with their first weeks")
	if err := comparisons(ctx, c, progress); err != nil {
		return err
	}
	say("reconciling gate events with boarding scans")
	for _, n := range []httpapi.NewNote{
		{Dataset: "raw.gate_events", At: w.AsOf.Add(-46 * time.Hour).Truncate(time.Hour),
			Text: "Gate firmware 7.2 rolled out at Gullstone"},
		{Dataset: "ops.ticket_sales", At: w.AsOf.AddDate(0, 0, -5).Truncate(time.Hour), Text: "Kiosk screens updated"},
	} {
		if err := c.Send(ctx, "POST", "/notes", n, nil); err != nil {
			return err
		}
	}
	if err := c.Send(ctx, "POST", "/reconciliations", reconcile.Order{Name: "scans-against-gates", Up: "raw.gate_events",
		Down:      "ops.boarding_scans",
		Tolerance: 0.02, Owner: owners["ops.boarding_scans"]}, nil); err != nil {
		return err
	}
	if err := c.Send(ctx, "PUT", "/datasets/ml.noshow_features/hidden", map[string][]string{"columns": {"booking"}}, nil); err != nil {
		return err
	}
	say("labelling, as three people did")
	return w.label(ctx, c)
}

// comparisons set what is looked at for drift: the bookings that are scored, by
// week, and ticket sales, by day.
func comparisons(ctx context.Context, c *client.Client, progress func(done, total int)) error {
	var tasks []int64
	for _, v := range []httpapi.NewComparison{
		{Name: "noshow", Dataset: "ml.noshow_features", ComparisonSettings: record.ComparisonSettings{TimeColumn: "scored_at",
			Period:   "week",
			LeaveOut: record.Strings{"booking", "sailing_at"}, Score: "score", Version: "model_version", Outcome: "no_show",
			Key: "booking"}},
		{Name: "sales", Dataset: "ops.ticket_sales", ComparisonSettings: record.ComparisonSettings{TimeColumn: "sold_at", Period: "day"}},
	} {
		if err := c.Send(ctx, "POST", "/drift", v, nil); err != nil {
			return err
		}
		var begun httpapi.Started
		if err := c.Send(ctx, "POST", "/drift/"+v.Name+"/run", httpapi.DriftOrder{}, &begun); err != nil {
			return err
		}
		tasks = append(tasks, begun.TaskID)
	}
	return follow(ctx, c, tasks, progress)
}

func backfill(ctx context.Context, c *client.Client, progress func(done, total int)) error {
	byDataset := map[string][]string{}
	for _, m := range metrics() {
		if err := c.Send(ctx, "POST", "/metrics", m, nil); err != nil {
			return err
		}
		byDataset[m.Dataset] = append(byDataset[m.Dataset], m.Name)
	}
	var tasks []int64
	for _, t := range Tables {
		var started httpapi.Started
		if err := c.Send(ctx, "POST", "/backfills", httpapi.Backfill{Metrics: byDataset[t.Name],
			SinceSeconds: int64(History/time.Second) - hour}, &started); err != nil {
			return err
		}
		tasks = append(tasks, started.TaskID)
	}
	return follow(ctx, c, tasks, progress)
}

// told are how many loads of each table the loaders' past is told of.
const told = 300

// past sets up what comes over open protocols, with its past: the last runs of
// all loaders, sixteen weeks of partners' files, and of the gates' figures.
func (e *Emitter) past(ctx context.Context) error {
	var files []Load
	for i := range Tables {
		t := &Tables[i]
		from := e.World.AsOf.Add(-min(told*t.Every, History-24*time.Hour))
		if err := e.Runs(ctx, e.World.Loads(t, from.Add(-30*time.Hour), from, e.World.AsOf)); err != nil {
			return err
		}
		if t.Name == "ops.parcel_manifests" {
			files = e.World.Loads(t, e.World.Start(), e.World.Start(), e.World.AsOf)
		}
	}
	if err := e.Land(files); err != nil {
		return err
	}
	if err := e.Client.Send(ctx, "POST", "/sources", httpapi.NewSource{Name: "landing", Address: e.Folder}, nil); err != nil {
		return err
	}
	d := httpapi.NewDataset{Source: "landing", Namespace: namespace, Name: "landing.parcels", Pattern: "parcels/{partner}/*",
		Owner: "Freight", Zone: zoneName}
	if err := e.Client.Send(ctx, "POST", "/datasets", d, nil); err != nil {
		return err
	}
	var names []string
	for _, m := range fileMetrics() {
		if err := e.Client.Send(ctx, "POST", "/metrics", m, nil); err != nil {
			return err
		}
		names = append(names, m.Name)
	}
	var started httpapi.Started
	if err := e.Client.Send(ctx, "POST", "/backfills", httpapi.Backfill{Metrics: names,
		SinceSeconds: int64(History/time.Second) - hour}, &started); err != nil {
		return err
	}
	if err := follow(ctx, e.Client, []int64{started.TaskID}, func(int, int) {}); err != nil {
		return err
	}
	for _, d := range gateMetrics {
		if err := e.Client.Send(ctx, "POST", "/metrics/declare", d, nil); err != nil {
			return err
		}
	}
	if err := e.written(ctx); err != nil {
		return err
	}
	if err := e.Client.Send(ctx, "POST", "/metrics/declare", freightInvoices, nil); err != nil {
		return err
	}
	if err := e.Books(ctx, e.World.AsOf); err != nil {
		return err
	}
	return e.GateLog(ctx, e.World.Start(), e.World.AsOf)
}

func fileMetrics() []httpapi.NewMetric {
	of := func(name, measure, unit string, period int64, by ...string) httpapi.NewMetric {
		return httpapi.NewMetric{Dataset: "landing.parcels", Name: "parcel-files-" + name, Measure: measure, Unit: unit, SegmentBy: by,
			PeriodSeconds: period, EverySeconds: 30, LookbackSeconds: 2 * day}
	}
	return []httpapi.NewMetric{of("rows", record.MeasureRows, "parcel lines", day, "partner"),
		of("freshness", record.MeasureFreshness, "age of the newest file", hour),
		of("count", record.MeasureDeliveries, "files", day), of("row-bytes", record.MeasureRowBytes, "bytes per line", day, "partner")}
}

var gateMetrics = []collect.Declaration{
	{Metric: "gate-queue", Dataset: "edge.gates", Namespace: namespace, Owner: "Harbour data", Measure: "queue_length",
		Kind: timeline.Value, Unit: "people waiting", Period: "15m", Zone: zoneName, OTLP: "gate.queue", SegmentBy: []string{"port"}},
	{Metric: "gate-wait", Dataset: "edge.gates", Namespace: namespace, Owner: "Harbour data", Measure: "wait",
		Kind: timeline.Duration, Unit: "wait at the gate", Period: "15m", Zone: zoneName, OTLP: "gate.wait", SegmentBy: []string{"port"}},
}

func follow(ctx context.Context, c *client.Client, tasks []int64, progress func(done, total int)) error {
	for i, id := range tasks {
		if err := c.Follow(ctx, id, func(done, total int) {
			part := 0
			if total > 0 {
				part = 100 * done / total
			}
			progress(100*i+part, 100*len(tasks))
		}); err != nil {
			return err
		}
	}
	progress(100*len(tasks), 100*len(tasks))
	return nil
}

// nervous are the metrics that somebody wanted to hear of too often, after a bad
// week: their monitors cry wolf, and people's labels say so.
var nervous = []string{"ticket-sales-rows", "web-orders-rows", "refunds-rows", "vessel-positions-rows", "noshow-features-rows", "gate-wait"}

func monitors(ctx context.Context, c *client.Client, progress func(done, total int)) error {
	var names []string
	watched := append(metrics(), fileMetrics()[:2]...)
	watched = append(watched, httpapi.NewMetric{Name: "gate-wait", Measure: "wait"})
	for _, m := range watched {
		settings := record.DefaultSettings()
		switch m.Measure {
		case record.MeasureFreshness:
			settings.Method, settings.Direction = "arrival", "high"
		case record.MeasureNullShare:
			settings.Direction = "high"
		}
		if slices.Contains(nervous, m.Name) {
			settings.WarnSeconds, settings.CriticalSeconds = 3*86400, 60*86400
		}
		name := strings.TrimSuffix(m.Name, "-rows") + map[bool]string{true: "-volume", false: ""}[m.Measure == record.MeasureRows]
		if err := c.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: m.Name, Settings: &settings}, nil); err != nil {
			return err
		}
		names = append(names, name)
	}
	books := bookMonitor()
	if err := c.Send(ctx, "POST", "/monitors", books, nil); err != nil {
		return err
	}
	names = append(names, books.Name)
	for n := 0; n < len(names); {
		var list []record.Monitor
		if err := c.Get(ctx, "/monitors", nil, &list); err != nil {
			return err
		}
		n = 0
		for _, m := range list {
			if m.LearnedAt != nil {
				n++
			}
		}
		progress(n, len(names))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
	}
	return nil
}

// Catalogue is the incident catalogue as CSV.
func (w *World) Catalogue() []byte {
	var b bytes.Buffer
	out := csv.NewWriter(&b)
	out.Write(incident.Columns[:12])
	for _, f := range w.Faults {
		measure := f.Measure
		out.Write([]string{f.Reference, f.Dataset, f.Title, stamp(f.From), stamp(f.To), measure, f.Segment, f.Cause, f.Severity,
			"", "Ines Vautrin", stamp(f.Known)})
	}
	out.Flush()
	return b.Bytes()
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// Calendar is the planned events as iCalendar.
func (w *World) Calendar() []byte {
	cal := ical.NewCalendar()
	cal.SetProductId("-//Vellamar Ferries//planned events//EN")
	for i, e := range w.Events {
		v := cal.AddEvent(fmt.Sprintf("event-%d@vellamar.example", i+1))
		v.SetSummary(e.Summary)
		v.SetDtStampTime(e.Known.UTC())
		v.SetCreatedTime(e.Known.UTC())
		if e.Holiday {
			v.AddProperty(ical.ComponentPropertyCategories, "HOLIDAY")
		}
		v.SetStartAt(e.From)
		v.SetEndAt(e.To)
		if e.Dataset != "" {
			v.AddProperty("X-TINBELL-DATASET", e.Dataset)
		}
	}
	return []byte(cal.Serialize())
}

var labellers = []string{"Ines Vautrin", "Tobin Achterberg", "Maud Okonjo"}

// Files writes calendar and catalogue for people to look at.
func (w *World) Files(write func(name string, content io.Reader) error) error {
	if err := write("incidents.csv", bytes.NewReader(w.Catalogue())); err != nil {
		return err
	}
	return write("planned-events.ics", bytes.NewReader(w.Calendar()))
}
