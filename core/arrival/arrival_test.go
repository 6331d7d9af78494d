package arrival

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tinbell/core/detect"
)

func halifax(t testing.TB) *time.Location {
	t.Helper()
	z, err := time.LoadLocation("America/Halifax")
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// weekdays makes one load each weekday at about 06:30 local time.
func weekdays(zone *time.Location, rng *rand.Rand, weeks int) []int64 {
	var loads []int64
	for d := range 7 * weeks {
		at := time.Date(2026, 2, 2+d, 6, 30, 0, 0, zone)
		if at.Weekday() != time.Saturday && at.Weekday() != time.Sunday {
			loads = append(loads, at.Unix()+int64(600*rng.ExpFloat64()))
		}
	}
	return loads
}

func TestAScheduleKnowsWeekendsAndClockChanges(t *testing.T) {
	zone := halifax(t)
	loads := weekdays(zone, rand.New(rand.NewPCG(1, 1)), 12)
	p, err := Learn(loads, zone)
	if err != nil {
		t.Fatal(err)
	}
	if !p.Scheduled {
		t.Fatal("one load a weekday is a schedule")
	}
	friday := time.Date(2026, 4, 24, 6, 40, 0, 0, zone)
	expected, deadline := p.Due(friday.Unix(), 0.99)
	want := time.Date(2026, 4, 27, 6, 30, 0, 0, zone).Unix()
	if expected < want-600 || expected > want+1800 {
		t.Errorf("after Friday the next load is expected %s, want Monday 06:30", time.Unix(expected, 0).In(zone))
	}
	if deadline <= expected || deadline > want+3*3600 {
		t.Errorf("deadline %s", time.Unix(deadline, 0).In(zone))
	}
}

func TestNightsWithoutLoadsStopTheClock(t *testing.T) {
	zone := halifax(t)
	rng := rand.New(rand.NewPCG(2, 1))
	var loads []int64
	for d := range 56 {
		for minute := 8 * 60; minute < 18*60; minute += 10 {
			loads = append(loads, time.Date(2026, 2, 2+d, 0, minute, rng.IntN(60), 0, zone).Unix())
		}
	}
	p, err := Learn(loads, zone)
	if err != nil {
		t.Fatal(err)
	}
	last := loads[len(loads)-1] // about 17:50
	_, deadline := p.Due(last, 0.999)
	morning := time.Date(2026, 3, 30, 8, 0, 0, 0, zone).Unix()
	if deadline < morning || deadline > morning+2*3600 {
		t.Errorf("after the last load of the day the next is overdue at %s, want after 08:00", time.Unix(deadline, 0).In(zone))
	}
	noon := time.Date(2026, 3, 29, 12, 0, 30, 0, zone).Unix()
	if _, deadline := p.Due(noon, 0.999); deadline > noon+45*60 {
		t.Errorf("at noon a load every ten minutes is overdue only after %d min", (deadline-noon)/60)
	}
}

func TestStatedConfidenceIsKept(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	late, gaps := 0, 0
	for range 20 {
		var loads []int64
		for at := int64(1_770_000_000); len(loads) < 3000; at += int64(1200 * rng.ExpFloat64()) {
			loads = append(loads, at)
		}
		p, err := Learn(loads[:2000], time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		for i := 2000; i < len(loads)-1; i++ {
			gaps++
			if _, deadline := p.Due(loads[i], 0.99); loads[i+1] > deadline {
				late++
			}
		}
	}
	if got := float64(late) / float64(gaps); got < 0.005 || got > 0.02 {
		t.Errorf("at 99 %% confidence %.4f of random loads were called overdue", got)
	}
}

func TestAStalledLoaderIsOverdueUntilItsNextLoad(t *testing.T) {
	zone := halifax(t)
	loads := weekdays(zone, rand.New(rand.NewPCG(3, 1)), 14)
	n := len(loads) - 8
	missing := append(append([]int64{}, loads[:n]...), loads[n+1:]...)
	alerts := Walk(missing, zone, detect.Rule{}, loads[40], loads[len(loads)-1], 7*24*time.Hour, func(int64) bool { return false })
	if len(alerts) != 1 {
		t.Fatalf("want one overdue load, got %+v", alerts)
	}
	a := alerts[0]
	if a.Raised < loads[n] || a.Raised > loads[n]+6*3600 || a.Closed != loads[n+1] || a.Cause != detect.Overdue {
		t.Errorf("raised %s, closed %s: %+v", time.Unix(a.Raised, 0), time.Unix(a.Closed, 0), a)
	}
	waits := Waits(missing, zone, detect.Rule{}, loads[40], loads[len(loads)-1], 7*24*time.Hour)
	if k := slices.IndexFunc(waits, func(w Awaited) bool { return w.Last == loads[n-1] }); k < 0 || waits[k].Deadline != a.Raised ||
		waits[k].Expected != a.Since || waits[k+1].Last != loads[n+1] {
		t.Errorf("the wait after the last load before the stall is not what the alert says: %+v", waits[max(k, 0)])
	}
	if waits[0].Last != loads[39] {
		t.Errorf("the first wait is that of the last load before the stretch, not of %s", time.Unix(waits[0].Last, 0))
	}
	muted := Walk(missing, zone, detect.Rule{}, loads[40], loads[len(loads)-1], 7*24*time.Hour, func(at int64) bool { return true })
	if len(muted) != 0 {
		t.Errorf("a planned pause is not overdue: %+v", muted)
	}
}

func TestFilesOfOneDeliveryMaySwapPlaces(t *testing.T) {
	zone := halifax(t)
	rng := rand.New(rand.NewPCG(6, 1))
	var loads []int64
	for d := range 84 {
		for file := range 5 {
			loads = append(loads, time.Date(2026, 2, 2+d, 6, 4*file, 0, 0, zone).Unix()+int64(rng.IntN(600)))
		}
	}
	slices.Sort(loads)
	alerts := Walk(loads, zone, detect.Rule{}, loads[100], loads[len(loads)-1], 7*24*time.Hour, func(int64) bool { return false })
	if len(alerts) != 0 {
		t.Errorf("five files a morning in any order raised %d alerts, first %+v", len(alerts), alerts[0])
	}
}

func TestTooFewLoadsAreSaidPlainly(t *testing.T) {
	_, err := Learn([]int64{1, 2, 3}, time.UTC)
	var few TooFew
	if !errors.As(err, &few) || few.Have != 3 {
		t.Errorf("got %v", err)
	}
}

// Deadlines are tried on a part of the past they were not learned from: loads that came late again
// and again there move them, but for what was known to be a fault.
func TestDeadlinesAreTriedOnTheLastThirdOfThePast(t *testing.T) {
	zone := halifax(t)
	made := func(late map[int]bool) (loads []int64, spans [][2]int64) {
		for i, at := range weekdays(zone, rand.New(rand.NewPCG(3, 9)), 12) {
			if late[i] {
				spans = append(spans, [2]int64{at, at + 9*3600})
				at += 9 * 3600
			}
			loads = append(loads, at)
		}
		return loads, spans
	}
	none := func(int64, int64) bool { return false }
	rule := detect.Rule{Warn: detect.Year}
	calm, _ := made(nil)
	if got := Try(calm, zone, rule, 24*time.Hour, none); got.Rung > 1 || got.From <= calm[0] || got.To != calm[len(calm)-1] {
		t.Errorf("loads that are in time: %+v", got)
	}
	loads, spans := made(map[int]bool{43: true, 47: true, 51: true, 55: true})
	got := Try(loads, zone, rule, 24*time.Hour, none)
	if got.Rung < 2 || got.Logs < 1 { // the first teaches what comes after
		t.Errorf("four loads were nine hours late: %+v", got)
	}
	called := Try(loads, zone, rule, 24*time.Hour, func(from, to int64) bool {
		return slices.ContainsFunc(spans, func(s [2]int64) bool { return from < s[1]+3600 && to > s[0] })
	})
	if called.Rung > 1 {
		t.Errorf("called faults, they count: %+v", called)
	}
	p, err := Learn(calm, zone)
	if err != nil {
		t.Fatal(err)
	}
	last := calm[len(calm)-1]
	expected, deadline := p.Wait(last, rule)
	rule.Caution = detect.Caution{}.With(detect.Overdue, 2)
	same, later := p.Wait(last, rule)
	if same != expected || later-same != 2*(deadline-expected) {
		t.Errorf("a caution of two: %d and %d, before %d and %d", same, later, expected, deadline)
	}
	if Try(nil, zone, rule, time.Hour, none) != (Trial{}) || Try(calm[:1], zone, rule, time.Hour, none) != (Trial{}) {
		t.Error("no loads tell nothing")
	}
}
