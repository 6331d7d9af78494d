package service_test

import (
	"errors"
	"fmt"
	"math"
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
	"tinbell/internal/watch"
)

// rush is a day's shape of counts.
func rush(at time.Time) float64 {
	return math.Round(300 + 200*math.Sin(float64(at.Hour())/24*2*math.Pi) + float64((at.Unix()/3600*7919)%23))
}

func open(list []record.Alert) (n int) {
	for _, a := range list {
		if a.ClosedAt == nil {
			n++
		}
	}
	return n
}

// A monitor that is older than its first sample judges that sample, and one of a
// segment that comes later, as soon as it can.
func TestTheFirstSampleUnderFixedBoundsIsJudged(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(10))
	s.Settle(t)
	for i, segment := range []string{"first", "later"} {
		pushed(t, s, fmt.Sprintf(`{"metric":"queue","segment":%q,"at":"2026-06-18T11:00:00Z","value":3}`, segment))
		s.Settle(t)
		list := alertsOf(t, s, "queue")
		if len(list) != i+1 || list[0].Segment != segment || list[0].FromHistory {
			t.Fatalf("after the first sample of %s: %+v", segment, list)
		}
	}
}

// A process ends after it has walked through a new monitor's past and before it could say so: the
// walk is ordered again, and begins when a sample has come meanwhile. Whichever of that walk and the
// judging comes first, the sample is news, and is told once.
func TestAWalkThatIsMadeAgainTellsWhatCameMeanwhileOnce(t *testing.T) {
	t.Parallel()
	for name, judgedFirst := range map[string]bool{"walked first": false, "judged first": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := dbtest.Start(t, now)
			declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(10))
			s.Settle(t)
			monitor, err := s.Parts.Store.Monitor(t.Context(), "queue")
			dbtest.Must(t, err)
			ids, err := s.Parts.Store.EnsureSeries(t.Context(), monitor.MetricID, []string{""})
			dbtest.Must(t, err)
			low, at := 3.0, now.Add(-time.Hour)
			dbtest.Must(t, s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
				_, err := store.PutSamples(t.Context(), tx, []record.Sample{{SeriesID: ids[""], At: at, Value: &low}}, store.RecentFrom(now))
				return err
			}))
			judge := func() {
				if err := s.Parts.Watcher.Evaluate(t.Context(), monitor.MetricID, watch.Changed{From: at}); err != nil &&
					!errors.As(err, new(watch.Outdated)) {
					t.Fatal(err)
				}
			}
			if judgedFirst {
				judge()
			}
			_, err = s.Parts.Watcher.Learn(t.Context(), watch.Order{Monitor: monitor.ID, History: true}, func(int, int) {})
			dbtest.Must(t, err)
			judge()
			list := alertsOf(t, s, "queue")
			if len(list) != 1 || list[0].FromHistory || list[0].ClosedAt != nil {
				t.Errorf("alerts: %+v", list)
			}
		})
	}
}

// A series that waits for history says so and since when, and is judged from the
// first sample on that can be.
func TestANewSegmentIsJudgedOnceItCanBe(t *testing.T) {
	t.Parallel()
	begin := now.AddDate(0, 0, -6)
	s := dbtest.Start(t, begin.Add(24*time.Hour))
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	s.Settle(t)
	pushed(t, s, samples("queue", "new", begin, begin.Add(24*time.Hour), time.Hour, rush))
	s.Settle(t)
	var states []record.SeriesState
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/queue/states", nil, &states))
	if len(states) != 1 || states[0].State != record.SeriesWaiting || !strings.Contains(states[0].Message,
		"of the 72 samples") || !states[0].Since.Equal(s.Clock.Now()) {
		t.Fatalf("%+v", states)
	}
	fitted := time.Time{}
	const turn = 4 * time.Hour
	for at := begin.Add(24 * time.Hour); at.Before(now); at = at.Add(turn) {
		s.Clock.Set(at.Add(turn))
		pushed(t, s, samples("queue", "new", at, at.Add(turn), time.Hour, func(at time.Time) float64 {
			if at.Sub(begin) >= 100*time.Hour {
				return 0 // from the hundredth hour on nothing comes
			}
			return rush(at)
		}))
		s.Settle(t)
		if fitted.IsZero() {
			dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/queue/states", nil, &states))
			if len(states) == 0 {
				fitted = at
			}
		}
		if at.Sub(begin) > 110*time.Hour {
			break
		}
	}
	if fitted.IsZero() || fitted.Sub(begin) > 72*time.Hour {
		t.Errorf("it was fitted at %s, %s after its first sample", fitted, fitted.Sub(begin))
	}
	if list := alertsOf(t, s, "queue"); len(list) != 1 || list[0].FromHistory {
		t.Errorf("its silence rings: %+v", list)
	}
}

// A correction of what a baseline was fitted to raises what a backtest of the same
// past does, and takes it back when it is taken back.
func TestACorrectionFromBeforeTheFitIsJudged(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	from := now.AddDate(0, 0, -60)
	pushed(t, s, samples("queue", "", from, now, time.Hour, rush))
	s.Settle(t)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors/queue/learn", struct{}{}, nil))
	s.Settle(t)
	if list := alertsOf(t, s, "queue"); len(list) != 0 {
		t.Fatalf("before: %+v", list)
	}
	begin := now.AddDate(0, 0, -8)
	pushed(t, s, samples("queue", "", begin, begin.Add(9*time.Hour), time.Hour,
		func(at time.Time) float64 { return math.Round(rush(at) / 4) }))
	s.Settle(t)
	var tested struct{ Alerts []record.Alert }
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/backtests", httpapi.BacktestOrder{Monitors: []string{"queue"},
		From: begin.AddDate(0, 0, -1)}, &tested))
	list := alertsOf(t, s, "queue")
	if len(list) != 1 || len(tested.Alerts) != 1 || !list[0].Since.Equal(tested.Alerts[0].Since) || list[0].FromHistory {
		t.Errorf("kept %+v, by the backtest %+v", list, tested.Alerts)
	}
	if open(list) != 0 {
		t.Error("a fault that was over a week ago is open")
	}
}

// Another method judges what is open again: what no longer follows is closed, and
// what does goes on.
func TestAlertsCloseWhenTheirMonitorsMethodChanges(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(400))
	from := now.AddDate(0, 0, -30)
	var all strings.Builder
	for i := range 42 {
		all.WriteString(samples("queue", fmt.Sprint("s", i), from, now, time.Hour, rush))
	}
	pushed(t, s, all.String())
	// One segment is broken by any measure.
	pushed(t, s, samples("queue", "s7", now.Add(-12*time.Hour), now, time.Hour, func(time.Time) float64 { return 0 }))
	s.Settle(t)
	before := open(alertsOf(t, s, "queue"))
	if before <= 40 {
		t.Fatalf("%d alerts are open, want more than forty", before)
	}
	m, err := s.Parts.Store.Monitor(t.Context(), "queue")
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/monitors/queue", httpapi.ChangedMonitor{Version: m.Version,
		Settings: *seasonal()}, nil))
	s.Settle(t)
	var left []record.Alert
	for _, a := range alertsOf(t, s, "queue") {
		if a.ClosedAt == nil {
			left = append(left, a)
		}
	}
	if len(left) != 1 || left[0].Segment != "s7" {
		t.Errorf("of %d open alerts %d are left: %+v", before, len(left), left)
	}
	m, err = s.Parts.Store.Monitor(t.Context(), "queue")
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/monitors/queue", httpapi.ChangedMonitor{Version: m.Version,
		Settings: m.Settings, Paused: true}, nil))
	s.Settle(t)
	list := alertsOf(t, s, "queue")
	if open(list) != 0 {
		t.Errorf("paused, with %d open alerts", open(list))
	}
}

// The order in which samples arrive makes no difference to what is judged.
func TestSamplesInAnyOrderAreJudgedAlike(t *testing.T) {
	t.Parallel()
	var found []string
	for _, order := range []string{"in order", "backwards"} {
		s := dbtest.Start(t, now)
		declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
		pushed(t, s, samples("queue", "", now.AddDate(0, 0, -50), now.Add(-12*time.Hour), time.Hour, rush))
		s.Settle(t)
		for i := range 12 {
			if order == "backwards" {
				i = 11 - i
			}
			at := now.Add(time.Duration(i-12) * time.Hour)
			pushed(t, s, samples("queue", "", at, at.Add(time.Hour), time.Hour,
				func(at time.Time) float64 { return math.Round(rush(at) / 3) }))
			if i%4 == 0 {
				s.Settle(t)
			}
		}
		s.Settle(t)
		var said []string
		for _, a := range alertsOf(t, s, "queue") {
			if a.ClosedAt == nil {
				said = append(said, fmt.Sprint(a.Cause, a.Direction, a.Since.Format(time.RFC3339), a.Severity))
			}
		}
		found = append(found, strings.Join(said, "; "))
	}
	if found[0] == "" || found[0] != found[1] {
		t.Errorf("in order: %s\nbackwards: %s", found[0], found[1])
	}
}

// Minutes that always come after they were judged as missing are judged like those that
// come in time: from the state that is kept, and what follows from it stays.
func TestMinutesThatComeLateAreJudgedAlike(t *testing.T) {
	t.Parallel()
	value := func(at time.Time) float64 {
		v := rush(at) + float64(at.Unix()/60*7919%17)
		if since := at.Sub(now.Add(3 * time.Minute)); since >= 0 && since < 20*time.Minute {
			v /= 20
		}
		return math.Round(v)
	}
	var found []string
	for _, late := range []time.Duration{0, 2 * time.Minute} {
		s := dbtest.Start(t, now)
		declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1m"}, seasonal())
		pushed(t, s, samples("queue", "", now.AddDate(0, 0, -5), now, time.Minute, value))
		s.Settle(t)
		raised := map[int64]time.Time{}
		for at := now; at.Before(now.Add(34 * time.Minute)); at = at.Add(time.Minute) {
			s.Clock.Set(at.Add(time.Minute + late))
			if late > 0 {
				dbtest.Must(t, s.Duty("pushed").Round(t.Context()))
				s.Settle(t)
			}
			pushed(t, s, samples("queue", "", at, at.Add(time.Minute), time.Minute, value))
			for _, a := range alertsOf(t, s, "queue") {
				if was, known := raised[a.ID]; known && !was.Equal(a.RaisedAt) {
					t.Errorf("%s late: alert %d was raised at %s, and then at %s", late, a.ID, was, a.RaisedAt)
				}
				raised[a.ID] = a.RaisedAt
			}
		}
		s.Settle(t)
		var said []string
		for _, a := range alertsOf(t, s, "queue") {
			said = append(said, fmt.Sprint(a.Cause, a.Direction, a.Since.Format(time.TimeOnly), a.Severity, a.CloseReason, a.EndedAt))
		}
		found = append(found, strings.Join(said, "; "))
	}
	t.Log(found[0])
	if found[0] == "" || found[0] != found[1] {
		t.Errorf("in time: %s\nlate: %s", found[0], found[1])
	}
}

func TestTenThousandNewSegmentsInOnePush(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h", MaxSegments: 20_000}, nil)
	var b strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&b, `{"metric":"queue","segment":"gate %d","at":"2026-06-18T08:00:00Z","value":%d}`+"\n", i, i)
	}
	began := time.Now()
	pushed(t, s, b.String())
	t.Logf("10,000 new segments in one push: %s", time.Since(began))
	if n := count(t, s); n != 10_000 {
		t.Errorf("%d samples", n)
	}
}

// Segments beyond a pushed metric's limit are counted together, however often they
// are sent.
func TestSegmentsBeyondTheLimitAreCountedTogether(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h", MaxSegments: 3}, nil)
	var b strings.Builder
	for i := range 10 {
		fmt.Fprintf(&b, `{"metric":"queue","segment":"gate %d","at":"2026-06-18T08:00:00Z","value":10}`+"\n", i)
	}
	for range 2 {
		if r := pushed(t, s, b.String()); r.Accepted != 10 || r.Together != 7 {
			t.Fatalf("%+v", r)
		}
	}
	dbtest.Must(t, s.Parts.Collector.SettlePoints(t.Context()))
	var sum []float64
	dbtest.Must(t, s.Parts.Store.DB.Select(&sum,
		`select value from sample join series on series.id = sample.series_id where segment = '(other)'`))
	if len(sum) != 1 || sum[0] != 70 || count(t, s) != 4 {
		t.Errorf("the others together: %v, %d samples", sum, count(t, s))
	}
}
