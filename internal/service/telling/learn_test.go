package telling_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// counts declares a metric of rows by round and gives it nine weeks of samples.
func counts(d *desk, dataset string, value func(hour int, round string) float64) {
	d.t.Helper()
	m, err := d.Parts.Collector.Declare(d.t.Context(), collect.Declaration{Metric: dataset, Dataset: dataset,
		Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h", SegmentBy: record.Strings{"round"}})
	dbtest.Must(d.t, err)
	ids, err := d.Parts.Store.EnsureSeries(d.t.Context(), m.ID, []string{"west", "east"})
	dbtest.Must(d.t, err)
	var samples []record.Sample
	for hour := range 9 * 168 {
		for round, id := range ids {
			v := value(hour, round)
			samples = append(samples, record.Sample{SeriesID: id, At: now.Add(time.Duration(hour-9*168) * time.Hour), Value: &v})
		}
	}
	dbtest.Must(d.t, d.Parts.Store.InTx(d.t.Context(), func(tx pgx.Tx) error {
		_, err := store.PutSamples(d.t.Context(), tx, samples, store.RecentFrom(now))
		return err
	}))
}

func TestLagsAndSharesAreLearnedFromWhatHasCome(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	rng := rand.New(rand.NewPCG(5, 1))
	sorted := map[string][]float64{}
	wobble := 0.0
	for hour := range 9 * 168 {
		wobble = 0.8*wobble + 0.07*rng.NormFloat64()
		for round, share := range map[string]float64{"west": 0.75, "east": 0.25} {
			sorted[round] = append(sorted[round], math.Round(share*800*(1.2+math.Sin(float64(hour%24)/12*math.Pi))*math.Exp(wobble)))
		}
	}
	counts(d, "ops.sorted", func(hour int, round string) float64 { return sorted[round][hour] })
	counts(d, "ops.delivered", func(hour int, round string) float64 { return math.Round(0.9 * sorted[round][max(hour-3, 0)]) })
	counts(d, "ops.weather", func(hour int, _ string) float64 { return math.Round(100 + 5*rng.NormFloat64()) })
	d.made("ops.sorted", "ops.delivered")
	d.made("ops.weather", "ops.delivered")
	dbtest.Must(t, d.Parts.Faults.Learn(t.Context()))
	var lags []store.LineageLag
	dbtest.Must(t, d.Admin.Get(t.Context(), "/lineage/lags", nil, &lags))
	if len(lags) != 1 || lags[0].From != "ops.sorted" || lags[0].Learned != "rows" || lags[0].Low > 3*3600 ||
		lags[0].High < 3*3600 || lags[0].High-lags[0].Low > 3600 || lags[0].Pass < 0.8 {
		t.Errorf("lags: %+v", lags)
	}
	shares, err := d.Parts.Store.SegmentShares(t.Context(), []string{"ops.sorted"})
	dbtest.Must(t, err)
	if len(shares) != 2 {
		t.Fatalf("shares: %+v", shares)
	}
	for _, s := range shares {
		if want := map[string]float64{"west": 0.75, "east": 0.25}[s.Value]; math.Abs(s.Share-want) > 0.01 || s.Column != "round" {
			t.Errorf("share of %s %s: %.3f", s.Column, s.Value, s.Share)
		}
	}
}

// Nothing critical is swallowed by growth: what a told fault comes to reach is told.
func TestAFaultThatReachesAnotherDatasetCriticallyIsToldAgain(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("raw.orders")
	d.monitor("ops.sales")
	d.made("raw.orders", "ops.sales")
	d.webhook("pager")
	d.ring("raw.orders", critical, func(a *record.Alert) { a.Since = a.Since.Add(-time.Hour) })
	same(t, "a fault", said(t, d.settle("/pager")), "opened: Critical: raw.orders sends too little")
	d.ring("ops.sales", critical)
	came := d.settle("/pager")[1:]
	same(t, "reaches what is made from it", said(t, came), "changed: Changed: raw.orders sends too little (and 1 more)")
	if len(came) == 1 && !strings.Contains(came[0].Text, "It has reached ops.sales: ops.sales sends too little.") {
		t.Errorf("what it has reached: %s", came[0].Text)
	}
	if open := d.groups("?state=open"); len(open) != 1 || open[0].Place != "raw.orders" {
		t.Errorf("groups: %+v", open)
	}
}

// A load stalls: its segments are silent one after another before the whole is known to
// be late. That is one fault, told once, and what comes later corrects nothing.
func TestSegmentsSilentBeforeTheirLateLoadAreToldOnce(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.delivered") // the whole is watched too
	d.monitor("ops.scans")
	d.made("ops.delivered", "ops.scans")
	ctx := t.Context()
	m, err := d.Parts.Collector.Declare(ctx, collect.Declaration{Metric: "delivered by round", Dataset: "ops.delivered",
		Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h", SegmentBy: record.Strings{"round"}})
	dbtest.Must(t, err)
	rounds := []string{"1", "2", "3", "4", "5", "6", "7", "8", "9"}
	ids, err := d.Parts.Store.EnsureSeries(ctx, m.ID, rounds)
	dbtest.Must(t, err)
	dbtest.Must(t, d.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "rounds", Metric: m.Name}, nil))
	d.webhook("pager", func(r *httpapi.NewRoute) { w := int64(2); r.WaitSeconds = &w })
	silent := func(rounds []string) {
		for _, round := range rounds {
			d.series["rounds"] = ids[round]
			d.ring("rounds", critical, func(a *record.Alert) { a.Cause, a.Sentence = "silence", "round "+round+" is silent" })
		}
	}
	silent(rounds[:4])
	d.quiet()
	d.later(5 * time.Second)
	d.quiet()
	silent(rounds[4:])
	d.quiet()
	d.later(20 * time.Second)
	d.ring("ops.delivered", critical, func(a *record.Alert) { a.Cause, a.Direction = "overdue", "high" })
	same(t, "told", said(t, d.settle("/pager")), "opened: Critical: round 4 is silent (and 3 more)")
	if open := d.groups("?state=open"); len(open) != 1 || open[0].Place != "ops.delivered" || open[0].Alerts != 10 {
		t.Errorf("groups: %+v", open)
	}
}

// Where rows say nothing of a lag, faults that people confirmed do.
func TestALagIsLearnedFromConfirmedFaults(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("raw.orders")
	d.monitor("ops.sales")
	d.made("raw.orders", "ops.sales")
	var rung []int64
	for i := range 4 {
		began := now.AddDate(0, 0, -5*i-6)
		for name, lag := range map[string]time.Duration{"raw.orders": 0, "ops.sales": 2 * time.Hour} {
			rung = append(rung, d.ring(name, func(a *record.Alert) {
				a.Since, a.RaisedAt = began.Add(lag), began.Add(3*time.Hour)
				closed := began.Add(9 * time.Hour)
				a.EndedAt, a.ClosedAt = &closed, &closed
			}))
		}
	}
	d.quiet()
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/labels", map[string]any{"alerts": rung, "verdict": "fault"}, nil))
	dbtest.Must(t, d.Parts.Faults.Learn(t.Context()))
	var lags []store.LineageLag
	dbtest.Must(t, d.Admin.Get(t.Context(), "/lineage/lags", nil, &lags))
	if len(lags) != 1 || lags[0].Learned != "faults" || lags[0].Low != 7200 || lags[0].High != 7200 || lags[0].Spread < 900 ||
		lags[0].Spread > 3600 {
		t.Errorf("lags: %+v", lags)
	}
}
