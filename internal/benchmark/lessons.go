package benchmark

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"tinbell/core/score"
)

// Lesson is what some labels were worth on later time, over all fleets.
type Lesson struct {
	Labels    int     `json:"labels"`
	Chosen    string  `json:"chosen" doc:"at random or by the queue"`
	Wrong     float64 `json:"wrong" doc:"share of the labels that were wrong"`
	Limit     float64 `json:"limit" doc:"share of faults that may be lost, as stated, by tuning and by the filter each"`
	Precision float64 `json:"precision"`
	Recall    float64 `json:"recall"`
	Left      float64 `json:"false_left" doc:"false alarms that are left, as a share of those before"`
	Delay     float64 `json:"delay_seconds" doc:"median"`
	WorstLeft float64 `json:"worst_false_left" doc:"on the seed where it did worst"`
	WorstLoss float64 `json:"worst_recall_loss"`
}

// Learning is what labels are worth: figures before any, and after.
type Learning struct {
	Seeds    int       `json:"seeds"`
	Series   int       `json:"series" doc:"of each seed"`
	Before   Lesson    `json:"before"`
	After    []Lesson  `json:"after"`
	Wrong    []Lesson  `json:"wrong_labels"`
	OneOnly  []Lesson  `json:"one_monitor_only"`
	Trade    []Lesson  `json:"trade_off" doc:"the most precise limit for each loss of recall, chosen on the answers"`
	TradeFor []float64 `json:"trade_off_losses"`
}

// LearningPlan says how much is tried.
type LearningPlan struct {
	Seeds     []uint64
	PerFamily int
	Limit     float64
	Progress  func(done, total int)
}

const byQueue, atRandom = "by the queue", "at random"

// Learn measures what labels are worth: monitors that are set too loose are
// labelled for six weeks, tuned and filtered, and judged on the six weeks after.
func (p LearningPlan) Learn(ctx context.Context) (Learning, error) {
	result := Learning{Seeds: len(p.Seeds), Series: p.PerFamily * len(Families), TradeFor: []float64{0, 0.02, 0.05, 0.1}}
	fleets := make([]*fleet, len(p.Seeds))
	for i, seed := range p.Seeds {
		if err := ctx.Err(); err != nil {
			return result, err
		}
		var err error
		if fleets[i], err = newFleet(seed, p.PerFamily, budgets); err != nil {
			return result, fmt.Errorf("seed %d: %w", seed, err)
		}
		p.Progress(i+1, 2*len(p.Seeds))
	}
	s := school{fleets: fleets}
	for _, f := range fleets {
		s.before = append(s.before, (&lesson{fleet: f}).outcome(false, false))
	}
	result.Before = s.grade(Lesson{}, s.before)
	for _, n := range []int{0, 10, 20, 30, 100} {
		for _, how := range []string{atRandom, byQueue} {
			if n > 0 || how == atRandom {
				if err := s.teach(&result.After, Lesson{Labels: n, Chosen: how, Limit: p.Limit}, false); err != nil {
					return result, err
				}
			}
		}
	}
	p.Progress(len(p.Seeds)+len(p.Seeds)/2, 2*len(p.Seeds))
	for _, how := range []string{atRandom, byQueue} {
		if err := s.teach(&result.Wrong, Lesson{Labels: 30, Chosen: how, Wrong: 0.1, Limit: p.Limit}, false); err != nil {
			return result, err
		}
		if err := s.teach(&result.OneOnly, Lesson{Labels: 30, Chosen: how, Limit: p.Limit}, true); err != nil {
			return result, err
		}
	}
	var all []Lesson
	for _, limit := range []float64{0.0005, 0.001, 0.002, 0.004, 0.007, 0.01, 0.015, 0.02, 0.03, 0.05, 0.08, 0.12, 0.2} {
		if err := s.teach(&all, Lesson{Labels: 30, Chosen: byQueue, Limit: limit}, false); err != nil {
			return result, err
		}
	}
	for _, loss := range result.TradeFor {
		best := result.Before
		for _, l := range all {
			if result.Before.Recall-l.Recall <= loss+1e-9 && l.Precision > best.Precision {
				best = l
			}
		}
		result.Trade = append(result.Trade, best)
	}
	p.Progress(2*len(p.Seeds), 2*len(p.Seeds))
	return result, nil
}

// school holds fleets that are taught in different ways.
type school struct {
	fleets []*fleet
	before []told
}

// teach labels every fleet in one way and grades it on later time.
func (s *school) teach(into *[]Lesson, l Lesson, oneOnly bool) error {
	after := make([]told, len(s.fleets))
	err := each(len(s.fleets), func(i int) error {
		f := *s.fleets[i] // its cases remember answers
		f.alerts = make([][]rang, len(f.alerts))
		for b := range f.alerts {
			f.alerts[b] = slices.Clone(s.fleets[i].alerts[b])
		}
		rng := rand.New(rand.NewPCG(uint64(i), 4096))
		only := -1
		if oneOnly {
			only = i % len(Families)
		}
		answers, err := f.answersTo(l, only, rng)
		if err != nil {
			return err
		}
		taught, err := f.learn(answers, l.Limit)
		if err != nil {
			return err
		}
		after[i] = taught.outcome(true, true)
		return nil
	})
	if err == nil {
		*into = append(*into, s.grade(l, after))
	}
	return err
}

func (s *school) grade(l Lesson, after []told) Lesson {
	var before, sum told
	for i, t := range after {
		before.add(s.before[i])
		sum.add(t)
		l.WorstLeft = max(l.WorstLeft, float64(t.False)/float64(max(s.before[i].False, 1)))
		l.WorstLoss = max(l.WorstLoss, s.before[i].recall()-t.recall())
	}
	l.Precision, l.Recall = sum.precision(), sum.recall()
	l.Left = float64(sum.False) / float64(max(before.False, 1))
	l.Delay = score.MedianDelay(sum.Delays).Estimate
	if math.IsNaN(l.Delay) {
		l.Delay = float64(time.Hour / time.Second)
	}
	return l
}
