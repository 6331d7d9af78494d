package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/study"
)

// Bills go out on the 1st and 15th, whatever day that is. Nobody is told of them once they are
// known; what falls short on such a day and after it is told; and people read what is expected why.
func TestBillsOnTheFirstAndFifteenthAreExpected(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 9, 12, 3, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "bills", Kind: timeline.Count, Period: "1d"}, seasonal())
	rng := rand.New(rand.NewPCG(15, 1))
	rows := func(at time.Time) float64 {
		mean := 400.0
		if d := at.Day(); d == 1 || d == 15 {
			mean = 3000
		}
		return math.Round(mean * math.Exp(0.04*rng.NormFloat64()))
	}
	began := now.AddDate(-1, 0, 0).Truncate(24 * time.Hour)
	lost := now.Truncate(24 * time.Hour)
	pushed(t, s, samples("bills", "", began, lost, 24*time.Hour, rows))
	s.Settle(t)
	known := began.AddDate(0, 4, 0)
	for _, a := range alertsOf(t, s, "bills") {
		if a.Since.Before(known) {
			continue // the first of them are news
		}
		t.Errorf("told of a past in which nothing is wrong: %s, since %s", a.Sentence, a.Since.Format(time.DateOnly))
	}
	m, err := s.Parts.Store.Metric(t.Context(), "bills")
	dbtest.Must(t, err)
	list, err := s.Parts.Store.SeriesOf(t.Context(), m.ID)
	dbtest.Must(t, err)
	of := fmt.Sprintf("/series/%d", list[0].ID)

	// From the 12th on a third comes: of the bills of the 15th too.
	s.Clock.Set(now.AddDate(0, 0, 5))
	pushed(t, s, samples("bills", "", lost, lost.AddDate(0, 0, 5), 24*time.Hour, func(at time.Time) float64 {
		return math.Round(rows(at) / 3)
	}))
	s.Settle(t)
	told := alertsOf(t, s, "bills")
	if len(told) == 0 || told[0].Direction != "low" || !told[0].Since.Equal(lost) {
		t.Errorf("told: %+v", told)
	}

	var why chart.Explanation
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/explain", url.Values{"at": {"2026-09-01T00:00:00Z"}}, &why))
	if n := len(why.Parts); math.Abs(why.Expected/3000-1) > 0.15 || n == 0 || why.Parts[n-1].Name != "calendar" || why.Parts[n-1].Amount < 2000 {
		t.Errorf("expected on the 1st: %+v", why)
	}
	var like study.CharacterStudy
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/character", nil, &like))
	if said := strings.Join(like.Sentences, " "); !strings.Contains(said, "On the 1st and 15th of a month it is 7.") {
		t.Errorf("it is said to be: %s", said)
	}
	var ahead study.Forecast
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/forecast", url.Values{"days": {"20"}}, &ahead))
	var foretold []int
	for i, at := range ahead.At {
		if ahead.Expected[i] > 1800 {
			foretold = append(foretold, at.Day())
		}
	}
	if !slices.Equal(foretold, []int{1}) {
		t.Errorf("bills are foretold for %v of the next 20 days", foretold)
	}
}
