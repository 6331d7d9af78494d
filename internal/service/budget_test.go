package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/replays"
)

// tides pushes sixty days of a metric's hours for some segments, of which each
// stops for half a day on the days that stops says, counted back from now.
func tides(t *testing.T, s *dbtest.Service, stops map[string][]int) {
	t.Helper()
	rng := rand.New(rand.NewPCG(5, 15))
	both := ""
	for _, segment := range []string{"north", "south"} {
		both += samples("queue", segment, now.AddDate(0, 0, -60), now, time.Hour, func(at time.Time) float64 {
			for _, day := range stops[segment] {
				if from := now.AddDate(0, 0, -day); !at.Before(from) && at.Before(from.Add(12*time.Hour)) {
					return 0
				}
			}
			mu := 120 * (1.3 + math.Sin(2*math.Pi*float64(at.Hour())/24))
			return math.Round(math.Max(0, mu+math.Sqrt(mu)*rng.NormFloat64()))
		})
	}
	pushed(t, s, both)
	s.Settle(t)
}

// What was told once and comes back is counted on the alert, and nobody is told
// again; the counting survives in storage and shows through the API.
func TestWhatComesBackIsCountedAndNotToldAgain(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	tides(t, s, nil)
	for day := range 3 {
		at := now.AddDate(0, 0, day)
		s.Clock.Set(at.Add(24 * time.Hour))
		both := ""
		for _, segment := range []string{"north", "south"} {
			both += samples("queue", segment, at, at.Add(24*time.Hour), time.Hour, func(at time.Time) float64 {
				if segment == "north" && at.Hour() >= 13 && at.Hour() < 19 {
					return 0
				}
				return math.Round(120 * (1.3 + math.Sin(2*math.Pi*float64(at.Hour())/24)))
			})
		}
		pushed(t, s, both)
		s.Settle(t)
	}
	list := alertsOf(t, s, "queue")
	if len(list) != 1 || list[0].Returns != 2 || list[0].ReturnedAt == nil || list[0].Strength <= 1 {
		t.Fatalf("three like mornings: %+v", list)
	}
	if last := list[0].ReturnedAt.Hour(); last < 17 || last > 21 {
		t.Errorf("it last came back at %s", list[0].ReturnedAt)
	}
}

// An extreme of the past that nobody labelled raises limits; the answer that it was
// a fault lowers them, and it is not asked about again.
func TestAnswersAboutThePastMoveLimits(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	tides(t, s, map[string][]int{"north": {12, 27, 41}})
	ctx := t.Context()
	ask := func() (q replays.PastQuestions) {
		dbtest.Must(t, s.Admin.Get(ctx, "/monitors/queue/questions", url.Values{"limit": {"7"}}, &q))
		return q
	}
	first := ask()
	if len(first.Questions) < 2 || first.Questions[0].Segment != "north" || first.Questions[0].Sentence == "" {
		t.Fatalf("asked: %+v", first)
	}
	shows := func() float64 {
		var losses []struct {
			Losses []struct{ Seconds, Sometimes float64 }
		}
		dbtest.Must(t, s.Admin.Get(ctx, "/monitors/queue/losses", nil, &losses))
		for _, l := range losses[0].Losses {
			if l.Seconds == 86400 {
				return l.Sometimes
			}
		}
		t.Fatal("no loss within a day")
		return 0
	}
	before := shows()
	answered := 0
	for range 6 {
		q := ask()
		i := 0
		for i < len(q.Questions) && q.Questions[i].Segment != "north" {
			i++
		}
		if i == len(q.Questions) {
			break
		}
		n, verdict := q.Questions[i], "noise"
		for _, day := range []int{12, 27, 41} {
			if stop := now.AddDate(0, 0, -day); n.From.Before(stop.Add(12*time.Hour)) && n.To.After(stop) {
				verdict = "fault"
			}
		}
		var given []record.Stretch
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors/queue/answers", httpapi.PastAnswer{Series: n.Series, From: n.From,
			To: n.To, Verdict: score.Verdict(verdict)}, &given))
		if verdict == "fault" && given[0].Incident == "" {
			t.Errorf("a fault of the past became no incident: %+v", given)
		}
		answered++
		s.Settle(t)
		for _, again := range ask().Questions {
			if again.SeriesID == n.SeriesID && again.From.Equal(n.From) {
				t.Errorf("asked again about %s", n.Sentence)
			}
		}
	}
	if after := shows(); answered == 0 || after > 0.8*before {
		t.Errorf("after %d answers losses from %.2f on show, before from %.2f", answered, after, before)
	}
	err := s.Admin.Send(ctx, "POST", "/monitors/queue/answers", httpapi.PastAnswer{Series: first.Questions[0].Series, From: now,
		To: now.Add(-time.Hour), Verdict: "fault"}, nil)
	if err == nil || !strings.Contains(err.Error(), "after from") {
		t.Errorf("a stretch that ends before it begins: %v", err)
	}
}

// A rule that tells more than is stated beyond chance has its limit raised, and it
// comes down again when labels say that the alerts were right.
func TestARuleThatRingsTooOftenIsRaisedUntilLabelsSayItWasRight(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	tides(t, s, nil)
	for day, factor := range []float64{2.6, 0.3, 3.4, 0.25} {
		at := now.AddDate(0, 0, 3*day)
		s.Clock.Set(at.AddDate(0, 0, 3))
		both := ""
		for _, segment := range []string{"north", "south"} {
			both += samples("queue", segment, at, at.AddDate(0, 0, 3), time.Hour, func(x time.Time) float64 {
				mu := math.Round(120 * (1.3 + math.Sin(2*math.Pi*float64(x.Hour())/24)))
				if x.Before(at.Add(time.Duration(9+day) * time.Hour)) {
					return math.Round(mu * factor)
				}
				return mu
			})
		}
		pushed(t, s, both)
		s.Settle(t)
	}
	told := alertsOf(t, s, "queue")
	if len(told) < 3 {
		t.Fatalf("told %d times", len(told))
	}
	deviation := func() record.BudgetRule {
		dbtest.Must(t, s.Parts.Watcher.Govern(t.Context()))
		var m record.Monitor
		dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/queue", nil, &m))
		if m.Budget == nil || m.Budget.Series < 1 {
			t.Fatalf("budget: %+v", m.Budget)
		}
		for _, r := range m.Budget.Rules {
			if r.Rule == "deviation" {
				return r
			}
		}
		t.Fatalf("no deviation rule: %+v", m.Budget)
		return record.BudgetRule{}
	}
	raised := deviation()
	var ids []int64
	for _, a := range told {
		ids = append(ids, a.ID)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids, Verdict: "fault"}, nil))
	s.Settle(t)
	if raised.Told < 3 || raised.Since >= 1 || raised.Factor < 1.1 {
		t.Errorf("told %d times where next to none are stated: %+v", len(told), raised)
	}
	if right := deviation(); right.Told != 0 {
		t.Errorf("called faults, they still count: %+v", right)
	}
}

// Deadlines of loads are held to the stated budget like every other limit: what they would have
// rung on the last third of the past moves them, but for what was known to be a fault.
func TestDeadlinesOfLoadsAreTriedOnTheirOwnPast(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h", Zone: "UTC"}, nil)
	pushed(t, s, samples("queue", "", now.AddDate(0, 0, -3), now, time.Hour, func(time.Time) float64 { return 4 }))
	rng := rand.New(rand.NewPCG(8, 30))
	late := map[int]bool{17: true, 13: true, 9: true, 5: true}
	var faults []time.Time
	for day := 50; day > 0; day-- {
		at := now.AddDate(0, 0, -day).Truncate(24 * time.Hour).Add(6 * time.Hour)
		if late[day] {
			faults = append(faults, at)
			at = at.Add(9 * time.Hour)
		}
		at = at.Add(time.Duration(600*rng.ExpFloat64()) * time.Second)
		dbtest.Must(t, s.Admin.Stream(t.Context(), "POST", "/lineage", "application/json", strings.NewReader(fmt.Sprintf(
			`{"eventType":"COMPLETE","eventTime":"%s","job":{"namespace":"n","name":"loader"},"run":{"runId":"0197a3c2-0000-7000-8000-%012d"},"outputs":[{"namespace":"pushed","name":"ops.queue"}]}`,
			at.Format(time.RFC3339), day)), nil))
	}
	settings := record.DefaultSettings()
	settings.Method = record.MethodArrival
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "late", Metric: "queue", Settings: &settings}, nil))
	s.Settle(t)
	tried := func() record.BudgetRule {
		t.Helper()
		var m record.Monitor
		dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/late", nil, &m))
		if m.Budget == nil || len(m.Budget.Rules) != 1 || m.Budget.Rules[0].Rule != "overdue" || m.Budget.Rules[0].Stated <= 0 {
			t.Fatalf("not tried: %+v", m.Budget)
		}
		return m.Budget.Rules[0]
	}
	if r := tried(); r.Rung < 2 || r.Factor < 1.2 {
		t.Errorf("loads nine hours late again and again: %+v", r)
	}
	for _, at := range faults {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.queue", Title: "loader down",
			StartedAt: at.Add(-time.Hour), EndedAt: new(at.Add(10 * time.Hour))}, nil))
	}
	s.Settle(t)
	if r := tried(); r.Rung != 0 || r.Factor != 1 {
		t.Errorf("known to be faults, they count: %+v", r)
	}
}

func TestArrivalsAreNotLearnedWhereNothingArrives(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	settings := record.DefaultSettings()
	settings.Method = record.MethodArrival
	err := s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "late", Metric: "queue", Settings: &settings}, nil)
	if status(err) != 422 || !strings.Contains(fmt.Sprint(err), "no load of") {
		t.Errorf("a monitor of arrivals without any: %v", err)
	}
}

// A stop that all segments share is one fault, however many alerts it raised: it does
// not raise the limits while people still look into it, nor much when it is over and
// nobody has said what it was, and the next fault is told.
func TestAStopOfAllSegmentsDoesNotDeafenTheMonitor(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	rng := rand.New(rand.NewPCG(5, 16))
	segments := []string{"ash", "birch", "cedar", "elm", "fir", "hazel", "larch", "oak"}
	push := func(from, to time.Time, share func(segment string) float64) {
		t.Helper()
		s.Clock.Set(to)
		all := ""
		for _, segment := range segments {
			all += samples("queue", segment, from, to, time.Hour, func(at time.Time) float64 {
				mu := share(segment) * 120 * (1.3 + math.Sin(2*math.Pi*float64(at.Hour())/24))
				return math.Round(math.Max(0, mu+math.Sqrt(mu)*rng.NormFloat64()))
			})
		}
		pushed(t, s, all)
		s.Settle(t)
	}
	usual := func(string) float64 { return 1 }
	push(now.AddDate(0, 0, -60), now, usual)
	raised := func() (most float64) {
		t.Helper()
		dbtest.Must(t, s.Parts.Watcher.Govern(t.Context()))
		var m record.Monitor
		dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/queue", nil, &m))
		if m.Budget == nil || m.Budget.Series != len(segments) {
			t.Fatalf("budget: %+v", m.Budget)
		}
		if k := m.Budget.Kin; k.Low.Worth <= 4 || k.Low.Slope <= 0 || k.High.Worth <= 4 { // eight series by one law
			t.Errorf("the series do not know each other: %+v", k)
		}
		for _, r := range m.Budget.Rules {
			most = max(most, r.Factor)
		}
		return most
	}
	before := raised()
	stop := now.Add(4 * time.Hour)
	push(now, stop, func(string) float64 { return 0 })
	told := alertsOf(t, s, "queue")
	if len(told) < len(segments) {
		t.Fatalf("%d alerts of %d segments that stopped", len(told), len(segments))
	}
	say := func(verdict string) {
		t.Helper()
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: []int64{told[0].ID}, Verdict: score.Verdict(verdict)}, nil))
		s.Settle(t)
	}
	say("fault") // the baselines are learned again
	if open := raised(); open > before+0.05 {
		t.Errorf("while it is looked into limits are raised %.2f times, before %.2f", open, before)
	}
	day := now.Add(36 * time.Hour)
	push(stop, day, usual)
	say("")
	for _, a := range alertsOf(t, s, "queue") {
		if a.ClosedAt == nil {
			t.Errorf("%s is still open a day after it was over", a.Segment)
		}
	}
	if over := raised(); over > before+0.15 {
		t.Errorf("when it is over limits are raised %.2f times, before %.2f", over, before)
	}
	known := len(alertsOf(t, s, "queue"))
	push(day, day.Add(8*time.Hour), func(segment string) float64 {
		if segment == "oak" {
			return 0.2
		}
		return 1
	})
	if len(alertsOf(t, s, "queue")) == known {
		t.Error("four fifths of a segment are lost and nobody is told")
	}
}
