package replay

import (
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

var (
	start = time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC)
	grid  = timeline.Grid{Period: time.Hour, Zone: time.UTC}
)

// history is eleven weeks of counts with two faults in weeks six and nine.
func history() []timeline.Sample {
	rng := rand.New(rand.NewPCG(17, 1))
	list := make([]timeline.Sample, 11*168)
	for i := range list {
		mu := 120 * (1.1 + math.Sin(2*math.Pi*float64(i%24)/24))
		list[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix(),
			Value: math.Max(0, math.Round(mu+math.Sqrt(mu)*rng.NormFloat64()))}
		if i >= faultOne && i < faultOne+9 || i >= faultTwo && i < faultTwo+9 {
			list[i].Value = math.Round(list[i].Value / 4)
		}
	}
	return list
}

const faultOne, faultTwo = 6*168 + 6, 9*168 + 30

func job(h []timeline.Sample) Job {
	return Job{Config: baseline.Config{Kind: timeline.Count, Grid: grid}, History: h, From: start.AddDate(0, 0, 28).Unix()}
}

func walk(t *testing.T, j Job) []detect.Alert {
	t.Helper()
	alerts, err := Walk(j)
	if err != nil {
		t.Fatal(err)
	}
	return alerts
}

func TestWalkFindsFaultsInTime(t *testing.T) {
	h := history()
	alerts := walk(t, job(h))
	if len(alerts) != 2 {
		t.Fatalf("want two alerts, got %+v", alerts)
	}
	for i, at := range []int{faultOne, faultTwo} {
		if delay := alerts[i].Raised - h[at].At; delay <= 0 || delay > 4*3600 {
			t.Errorf("fault %d told after %d s", i, delay)
		}
	}
}

func TestNothingOfTheFutureLeaksIn(t *testing.T) {
	h := history()
	cut := 9 * 168
	var before, after []detect.Reading
	j := job(h)
	j.Read = func(r detect.Reading) { before = append(before, r) }
	walk(t, j)
	changed := slices.Clone(h)
	rng := rand.New(rand.NewPCG(5, 5))
	for i := cut; i < len(changed); i++ {
		changed[i].Value = float64(rng.IntN(100000))
	}
	j = job(changed)
	j.Read = func(r detect.Reading) { after = append(after, r) }
	walk(t, j)
	for i, r := range before {
		if r.At >= h[cut].At {
			break
		}
		if !reflect.DeepEqual(r, after[i]) {
			t.Fatalf("period %d changed with the future: %+v, %+v", i, r, after[i])
		}
	}
}

func TestWhatWasNotYetKnownIsNotUsed(t *testing.T) {
	h := history()
	span := timeline.Span{From: h[faultTwo-2].At, To: h[faultTwo+12].At}
	j := job(h)
	j.Exclusions = []Exclusion{{Span: span, Known: span.From - 86400, Planned: true}}
	if alerts := walk(t, j); len(alerts) != 1 {
		t.Errorf("an event announced the day before must mute its alerts: %+v", alerts)
	}
	j.Exclusions[0].Known = span.To + 86400
	if alerts := walk(t, j); len(alerts) != 2 {
		t.Errorf("an event told of afterwards mutes nothing: %+v", alerts)
	}
	j.Exclusions[0] = Exclusion{Span: span, Known: span.From - 86400}
	if alerts := walk(t, j); len(alerts) != 2 {
		t.Errorf("a fault is left out of learning, not of judging: %+v", alerts)
	}
}

func TestTooShortAHistoryIsSaidPlainly(t *testing.T) {
	j := job(history()[:40])
	j.From = start.Unix()
	_, err := Walk(j)
	var short baseline.TooShort
	if !errors.As(err, &short) || short.Need != 72 {
		t.Errorf("want TooShort{…, 72}, got %v", err)
	}
}

func TestRivalsDoWhatTheirNamesSay(t *testing.T) {
	h := history()
	from := 6 * 168
	step := int64(3600)
	at := 9*168 + 5
	for _, r := range Rivals(2) {
		scores := r.Scores(h, from, 24)
		switch r.Name {
		case "same time last week ± k %":
			if want := (h[at].Value - h[at-168].Value) / h[at-168].Value; scores[at] != want {
				t.Errorf("%s: %g, want %g", r.Name, scores[at], want)
			}
		case "rolling mean ± k sd, 7 days":
			mean, sd := moments(h[at-168 : at])
			if want := (h[at].Value - mean) / sd; math.Abs(scores[at]-want) > 1e-9 {
				t.Errorf("%s: %g, want %g", r.Name, scores[at], want)
			}
		}
		loud := slices.Clone(h)
		for i := 1500; i < 1506; i++ {
			loud[i].Value *= 30
		}
		rang := r.Alerts(loud, r.Scores(loud, from, 24), 1490, r.Usual, step)
		first := slices.IndexFunc(rang, func(a detect.Alert) bool { return a.Raised > loud[1500].At && a.Raised <= loud[1503].At })
		if first < 0 {
			t.Errorf("%s, %d in a row, does not ring at thirty times the volume: %+v", r.Name, r.Points, rang)
		}
		changed := slices.Clone(h)
		for i := at; i < len(changed); i++ {
			changed[i].Value = 7
		}
		if again := r.Scores(changed, from, 24); again[at-1] != scores[at-1] {
			t.Errorf("%s knows the future", r.Name)
		}
	}
}

func moments(list []timeline.Sample) (mean, sd float64) {
	for _, s := range list {
		mean += s.Value / float64(len(list))
	}
	for _, s := range list {
		sd += (s.Value - mean) * (s.Value - mean) / float64(len(list))
	}
	return mean, math.Sqrt(sd)
}
