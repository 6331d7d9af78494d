package demo

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// freightInvoices are counted by month, and have been for six years: freight grows, most of it
// goes in July and August, and one month of last year a quarter of the invoices was lost.
var freightInvoices = collect.Declaration{Metric: "freight-invoices", Dataset: "books.freight_invoices", Namespace: namespace,
	Owner: "Finance", Measure: record.MeasureRows, Kind: timeline.Count, Unit: "invoices", Period: "1mo", Zone: zoneName}

// Books pushes what the book-keeping counted of every month that was closed before an instant:
// what was sent before is the same, and counts once.
func (e *Emitter) Books(ctx context.Context, until time.Time) error {
	return e.Client.Stream(ctx, "POST", "/samples", "application/x-ndjson", bytes.NewReader(e.World.books(until)), nil)
}

// books are the samples of all months that are closed by an instant: three days after their end.
func (w *World) books(until time.Time) []byte {
	var b bytes.Buffer
	today := w.AsOf.In(w.Zone)
	month := time.Date(today.Year(), today.Month(), 1, 0, 0, 0, 0, w.Zone)
	lost := month.AddDate(0, -14, 0)
	for n, at := 0, month.AddDate(-6, 0, 0); !at.AddDate(0, 1, 3).After(until); n, at = n+1, at.AddDate(0, 1, 0) {
		rng := rand.New(rand.NewPCG(w.Seed, uint64(at.Year()*12+int(at.Month()))))
		mean := 42 * at.AddDate(0, 1, 0).Sub(at).Hours() / 24 * math.Exp(0.004*float64(n)+0.025*rng.NormFloat64())
		switch {
		case at.Equal(lost):
			mean *= 0.75
		case at.Month() == time.July || at.Month() == time.August:
			mean *= 1.35
		}
		fmt.Fprintf(&b, "{\"metric\":%q,\"at\":%q,\"value\":%d}\n", freightInvoices.Metric, stamp(at), draw(rng, mean))
	}
	return b.Bytes()
}

// bookMonitor watches the invoices: at once a year one month in twelve would ring.
func bookMonitor() httpapi.NewMonitor {
	settings := record.DefaultSettings()
	settings.WarnSeconds, settings.CriticalSeconds = 5*365*86400, 20*365*86400
	return httpapi.NewMonitor{Name: freightInvoices.Metric, Metric: freightInvoices.Metric, Settings: &settings}
}
