package replay

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

func series(n int, value func(rng *rand.Rand, i int) float64) []timeline.Sample {
	rng := rand.New(rand.NewPCG(23, 2))
	list := make([]timeline.Sample, n)
	for i := range list {
		list[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix(), Value: value(rng, i)}
	}
	return list
}

func TestSuitabilitySaysWhyAndWhatInstead(t *testing.T) {
	walk := 100.0
	for name, c := range map[string]struct {
		kind  timeline.Kind
		n     int
		value func(*rand.Rand, int) float64
		want  Fitness
	}{
		"a daily rhythm": {timeline.Count, 2000, func(r *rand.Rand, i int) float64 {
			return math.Round(200*(1.2+math.Sin(float64(i)/24*2*math.Pi)) + 8*r.NormFloat64())
		}, Suits},
		"two days":        {timeline.Count, 48, func(*rand.Rand, int) float64 { return 3 }, Unsuitable},
		"always the same": {timeline.Value, 2000, func(*rand.Rand, int) float64 { return 12 }, Unsuitable},
		"a reference table": {timeline.Count, 2000,
			func(_ *rand.Rand, i int) float64 { return 5000 + 10*math.Floor(float64(i)/300) }, Weak},
		"hardly ever a row": {timeline.Count, 2000, func(r *rand.Rand, _ int) float64 {
			if r.Float64() < 0.1 {
				return 1
			}
			return 0
		}, Weak},
		"often missing": {timeline.Value, 2000, func(r *rand.Rand, i int) float64 {
			if r.Float64() < 0.4 {
				return math.NaN()
			}
			return 50*math.Sin(float64(i)/24*2*math.Pi) + r.NormFloat64()
		}, Weak},
		"pure noise":    {timeline.Value, 2000, func(r *rand.Rand, _ int) float64 { return 40 + 9*r.NormFloat64() }, Weak},
		"a random walk": {timeline.Value, 2000, func(r *rand.Rand, _ int) float64 { walk += r.NormFloat64(); return walk }, Suits},
	} {
		s := Suit(Job{Config: baseline.Config{Kind: c.kind, Grid: grid}, History: series(c.n, c.value)})
		if s.Fitness != c.want || len(s.Reasons) == 0 || (s.Instead == "") != (c.want == Suits) {
			t.Errorf("%s: %+v", name, s)
		}
	}
}

func TestTheSmoothingBenchShowsWhatAWindowCosts(t *testing.T) {
	h := series(11*168, func(r *rand.Rand, i int) float64 {
		mu := 300 * (1.1 + math.Sin(2*math.Pi*float64(i%24)/24))
		if i >= 9*168+60 && i%77 < 2 { // a gate begins to hiccup for two hours now and then
			mu *= 6
		}
		return math.Round(math.Max(0, mu+math.Sqrt(mu)*r.NormFloat64()))
	})
	fault := timeline.Span{From: h[9*168+30].At, To: h[9*168+46].At}
	for i := 9*168 + 30; i < 9*168+46; i++ {
		h[i].Value = math.Round(h[i].Value / 5)
	}
	rows, err := SmoothingBench(Job{Config: baseline.Config{Kind: timeline.Count, Grid: grid}, Rule: detect.Rule{Spikes: true},
		History: h, From: h[35*24].At}, []timeline.Span{fault})
	if err != nil {
		t.Fatal(err)
	}
	none := rows[0]
	if none.Periods != 1 || none.FalseBefore < 2 || none.FalseGone != 0 || none.FaultsFound != 1 || none.Spikes[2] < 0.5 {
		t.Fatalf("without a median: %+v", none)
	}
	for _, r := range rows[1:] {
		if r.By == ByMedian && r.Periods >= 5 && r.Periods <= 9 && (r.FalseGone < none.FalseBefore-1 ||
			r.Spikes[1] >= none.Spikes[1] && none.Spikes[1] > 0) {
			t.Errorf("a median of %d passes spikes of two: %+v", r.Periods, r)
		}
		if r.Dips > 0 && r.Delay < none.Delay {
			t.Errorf("a %s of %d is quicker than none: %+v", r.By, r.Periods, r)
		}
	}
	if last := rows[len(rows)-1]; len(rows) != 13 || last.Periods != 24 || last.By != ByMean {
		t.Errorf("windows go up to a day, each by median and mean: %d, the last %+v", len(rows), last)
	}
	for _, r := range rows {
		if r.Recommended && (r.Periods < 3 || r.FaultsFound != 1) {
			t.Errorf("recommended: %+v", r)
		}
	}
}

func TestBaselinesAreChosenAnewAsHistoryGrows(t *testing.T) {
	const day = 24 * time.Hour
	for history, want := range map[time.Duration]time.Duration{3 * day: 7 * day, 20 * day: 10 * day, 40 * day: 20 * day,
		300 * day: 28 * day} {
		if got := RefitAfter(history); got != want {
			t.Errorf("after %s of history: %s, want %s", history, got, want)
		}
	}
}

func TestTheNewNormalIsLearnedFromTheWordOn(t *testing.T) {
	h := history()
	turn := 7 * 168
	for i := turn; i < len(h); i++ {
		h[i].Value = math.Round(h[i].Value * 0.45)
	}
	j := job(h)
	j.Rule.AdoptAfter = -1
	j.From = h[6*168+48].At
	word := h[turn+30].At
	j.Exclusions = []Exclusion{{Span: timeline.Span{From: h[turn].At, To: word}, Known: word, Lasts: true}}
	alerts := walk(t, j)
	if len(alerts) == 0 || alerts[0].Reason != "level_adopted" || alerts[0].Closed != word {
		t.Fatalf("the word closes the alert: %+v", alerts)
	}
	for _, a := range alerts[1:] {
		if a.Since < h[faultTwo-2].At || a.Since > h[faultTwo+12].At {
			t.Errorf("after the word the new level still rings: %+v", a)
		}
	}
	without := job(h)
	without.Rule.AdoptAfter, without.From = -1, j.From
	if rang := walk(t, without); rang[0].Closed != 0 && rang[0].Closed <= word {
		t.Errorf("without the word it closed by itself: %+v", rang[0])
	}
}

func TestMarksSayHowAPeriodIsTaken(t *testing.T) {
	list := []Exclusion{
		{Span: timeline.Span{From: 100, To: 200}, Known: 50, Planned: true},
		{Span: timeline.Span{From: 300, To: 400}, Known: 350},
		{Span: timeline.Span{From: 500, To: 600}, Known: 450, Planned: true, Lasts: true},
		{Span: timeline.Span{From: 700, To: 800}, Known: 900, Planned: true},
	}
	for at, want := range map[int64]timeline.Mark{90: timeline.Judged, 110: timeline.Masked, 310: timeline.Judged,
		510: timeline.Lasting, 710: timeline.Judged} {
		if got := MarkOf(list, at, at+10); got != want {
			t.Errorf("the period at %d is marked %d, want %d", at, got, want)
		}
	}
	m := Mask(list, 1000)
	if m.Mark(310, 320) != timeline.Masked || m.Mark(510, 520) != timeline.Lasting || m.Mark(710, 720) != timeline.Masked ||
		m.Mark(610, 620) != timeline.Judged {
		t.Error("a fit leaves out what is known by then")
	}
	if early := Mask(list, 60); early.Mark(310, 320) != timeline.Judged {
		t.Error("a label from the future is known")
	}
}

func TestALabelTakesEffectWhenItIsKnown(t *testing.T) {
	// A long fault that nobody adopts; the label, two days in, ends its pull on
	// the baseline: what the walk says before is the same with and without it.
	h := history()
	read := func(known int64) (list []detect.Reading) {
		j := job(h)
		if known > 0 {
			j.Exclusions = []Exclusion{{Span: timeline.Span{From: h[faultOne].At, To: h[faultOne+9].At}, Known: known}}
		}
		j.Read = func(r detect.Reading) { list = append(list, r) }
		walk(t, j)
		return list
	}
	without, with := read(0), read(h[faultOne+57].At)
	differs := false
	for i := range without {
		same := without[i].Expected == with[i].Expected && without[i].Low == with[i].Low
		if !same && without[i].At < h[faultOne+57].At {
			t.Fatalf("the label works before it was given: %+v, %+v", without[i], with[i])
		}
		differs = differs || !same
	}
	if !differs {
		t.Error("a label changes nothing")
	}
}
