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

// stops is a job over sixty days of hours that are empty for half a day on some
// days, counted from the first.
func stops(seed uint64, days ...int) Job {
	rng := rand.New(rand.NewPCG(seed, 3))
	h := series(60*24, func(_ *rand.Rand, i int) float64 {
		for _, d := range days {
			if i >= d*24+6 && i < d*24+18 {
				return 0
			}
		}
		mu := 150 * (1.2 + math.Sin(2*math.Pi*float64(i%24)/24))
		return math.Round(math.Max(0, mu+math.Sqrt(mu)*rng.NormFloat64()))
	})
	return Job{Config: baseline.Config{Kind: timeline.Count, Grid: grid}, History: h, From: h[len(h)-1].At + 1}
}

// held tries a fleet of eight series, of which the i-th stops on the days given.
func held(t *testing.T, days map[int][]int, labelled bool) Held {
	t.Helper()
	var jobs []Job
	for i := range 8 {
		job := stops(uint64(i+1), days[i]...)
		for _, day := range days[i] {
			if from := job.History[day*24].At; labelled {
				job.Exclusions = append(job.Exclusions, Exclusion{Span: timeline.Span{From: from, To: from + 86400}, Known: from + 2*86400})
			}
		}
		jobs = append(jobs, job)
	}
	found, err := HoldOut(jobs)
	if err != nil {
		t.Fatal(err)
	}
	return found.Rules[detect.Deviation]
}

func TestWhatRingsOnAHeldOutPastRaisesItsRule(t *testing.T) {
	quiet := held(t, nil, false)
	if quiet.Rung > 2 {
		t.Errorf("%d of eight clean series rang where %.2f alarms are stated", quiet.Rung, quiet.Stated)
	}
	days := map[int][]int{2: {45}, 3: {48}, 4: {52}, 5: {55}, 6: {43}}
	loud, known := held(t, days, false), held(t, days, true)
	if loud.Rung < quiet.Rung+3 || loud.Caution() < quiet.Caution()+0.1 {
		t.Errorf("five series stopped: %+v, before %+v", loud, quiet)
	}
	if known.Rung > quiet.Rung {
		t.Errorf("called faults, the stops still count: %+v, before %+v", known, quiet)
	}
	if odd := held(t, map[int][]int{3: {42, 45, 48, 51, 54, 57}}, false); odd.Rung > quiet.Rung+1 {
		t.Errorf("one odd series counts %d times", odd.Rung-quiet.Rung)
	}
}

func TestARuleIsStatedOnlyWhereItJudges(t *testing.T) {
	found, err := HoldOut([]Job{stops(1), stops(2)})
	if err != nil {
		t.Fatal(err)
	}
	if _, there := found.Rules[detect.Step]; there {
		t.Error("steps are stated for series that have none")
	}
	sum := 0.0
	for _, h := range found.Rules {
		sum += h.Stated
	}
	if want := 2 * detect.Budget(detect.DefaultWarn, 1) * 20 / 30; math.Abs(sum/want-1) > 0.02 {
		t.Errorf("all rules together state %.4f, the budget is %.4f", sum, want)
	}
}

// What youth costs is read off weeks that limits were not fitted to: of series that go on as
// they were little, of series whose days then differ much; of old series nothing.
func TestAYoungMonitorLearnsWhatItsYouthCosts(t *testing.T) {
	young := func(days int, wander float64) detect.Kinship {
		var jobs []Job
		for i := range 8 {
			rng := rand.New(rand.NewPCG(uint64(i), 77))
			own := make([]float64, days)
			for d := range own {
				if own[d] = 1; d > days*2/3 {
					own[d] += wander * (rng.Float64() - 0.5)
				}
			}
			h := series(days*24, func(_ *rand.Rand, k int) float64 {
				mu := 200 * own[k/24] * (1.5 + math.Sin(2*math.Pi*float64(k%24)/24))
				return math.Round(math.Max(0, mu+math.Sqrt(mu)*rng.NormFloat64()))
			})
			jobs = append(jobs, Job{Config: baseline.Config{Kind: timeline.Count, Grid: grid}, History: h, From: h[len(h)-1].At + 1})
		}
		trial, err := HoldOut(jobs)
		if err != nil {
			t.Fatal(err)
		}
		return trial.Kin
	}
	steady, wandering, old := young(24, 0), young(24, 1), young(100, 0)
	if steady.Young <= 0 || steady.Young > 1.2 || wandering.Young < steady.Young+0.3 {
		t.Errorf("steady series %.2f, wandering ones %.2f", steady.Young, wandering.Young)
	}
	if old.Young != 0 || old.Low.Worth <= 4 || old.Low.Slope <= 0 || old.High.Worth <= 4 {
		t.Errorf("a hundred days: %+v", old)
	}
}

func TestCautionGrowsWithWhatRang(t *testing.T) {
	last := 1.0
	for rung := range 12 {
		c := Held{Rung: rung, Stated: 0.1, Logs: 0.5 * float64(rung)}.Caution()
		if c < last || c > mostCaution {
			t.Errorf("%d rings: %.2f after %.2f", rung, c, last)
		}
		last = c
	}
	if c := (Held{Rung: 3, Stated: 5}).Caution(); c != 1 {
		t.Errorf("fewer than stated raise limits %.2f times", c)
	}
}

func TestThePastIsAskedAboutWhereAnswersChangeMost(t *testing.T) {
	jobs := []Job{stops(1), stops(2, 12, 20, 31)}
	asked, err := Doubts(jobs, 5)
	if err != nil {
		t.Fatal(err)
	}
	if len(asked) == 0 || asked[0].Series[0] != 1 || asked[0].Direction != detect.Low {
		t.Fatalf("the stops of half a day come first: %+v", asked)
	}
	span := timeline.Span{From: asked[0].From, To: asked[0].To}
	for i := 1; i < len(asked); i++ {
		if asked[i].Gain > asked[i-1].Gain {
			t.Errorf("question %d changes more than the one before", i)
		}
	}
	jobs[1].Exclusions = []Exclusion{{Span: span, Known: jobs[1].From, Ordinary: true}}
	again, err := Doubts(jobs, 5)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range again {
		if d.Series[0] == 1 && d.From < span.To && d.To > span.From {
			t.Errorf("asked again about what is ordinary: %s", time.Unix(d.From, 0).UTC())
		}
	}
}

func TestWhatAllSeriesShareIsOneOccasion(t *testing.T) {
	days := map[int][]int{}
	for i := range 8 {
		days[i] = []int{50}
	}
	quiet, shared := held(t, nil, false), held(t, days, false)
	if shared.Rung > quiet.Rung+1 {
		t.Errorf("a stop of all eight counts %d times", shared.Rung-quiet.Rung)
	}
	// Three occasions of all and one of one series: four. One series alone, four times: one.
	var rings []ring
	for s := range 8 {
		for k := range int64(3) {
			rings = append(rings, ring{s, 1000 * k, 1000*k + 100, 1})
		}
	}
	rings = append(rings, ring{7, 9000, 9100, 3})
	if n, logs := occasions(rings); n != 4 || math.Abs(logs-6) > 1e-12 {
		t.Errorf("%d occasions, logarithms %g; want 4 and 6", n, logs)
	}
	if n, _ := occasions(rings[len(rings)-1:]); n != 1 {
		t.Errorf("one ring is %d occasions", n)
	}
}
