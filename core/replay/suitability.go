package replay

import (
	"fmt"
	"math"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Fitness says how well a band suits a series.
type Fitness string

const (
	Suits      Fitness = "suits"
	Weak       Fitness = "weak"
	Unsuitable Fitness = "unsuitable"
)

// Suitability is what a series' history says of its predictability.
type Suitability struct {
	Fitness   Fitness  `json:"fitness" enum:"suits,weak,unsuitable"`
	Reasons   []string `json:"reasons" doc:"why, in sentences"`
	Instead   string   `json:"instead" doc:"what to use where a band does not suit; empty where it does"`
	HaveDays  float64  `json:"have_days" doc:"history, without gaps at the ends"`
	NeedDays  float64  `json:"need_days" doc:"history a first band wants"`
	BestDays  float64  `json:"best_days" doc:"history from which thresholds are the series' own"`
	Explained *float64 `json:"explained" doc:"share of the ordinary variation that the baseline foretells, 0..1"`
	HalfWidth *float64 `json:"half_width" doc:"half-width of the band over the expected value, median"`
	Missing   float64  `json:"missing" doc:"share of periods that did not come"`
	Zeros     float64  `json:"zeros" doc:"share of periods that are exactly 0"`
	Repeats   float64  `json:"repeats" doc:"share of periods equal to the one before"`
	Shape     string   `json:"shape" doc:"how the baseline models it"`
}

// Suit judges a dense history by walking a band over its last half, at most six
// weeks: how much of the variation around the median the baseline foretold, and
// how wide the band had to be.
func Suit(job Job) Suitability {
	cfg, history := job.Config, job.History
	s := Suitability{Reasons: []string{}}
	values := make([]float64, 0, len(history))
	zeros, repeats := 0, 0
	for i, x := range history {
		if x.Missing() {
			continue
		}
		values = append(values, x.Value)
		if x.Value == 0 {
			zeros++
		}
		if i > 0 && history[i-1].Value == x.Value {
			repeats++
		}
	}
	n := max(len(values), 1)
	days := cfg.Grid.Period.Hours() / 24
	s.HaveDays, s.NeedDays, s.BestDays = float64(len(values))*days, float64(baseline.Need(cfg))*days, 56
	switch {
	case cfg.Grid.Long():
		s.BestDays = 36 * days
	case cfg.Grid.Daily():
		s.BestDays = 182
	}
	s.Missing = 1 - float64(len(values))/float64(max(len(history), 1))
	s.Zeros, s.Repeats = float64(zeros)/float64(n), float64(repeats)/float64(n)
	if s.HaveDays < s.NeedDays {
		s.Fitness, s.Shape = Unsuitable, "none yet"
		s.say("there are %.1f days of history and a band wants %.0f", s.HaveDays, s.NeedDays)
		s.Instead = "fixed bounds, until there is enough"
		return s
	}
	s.measure(job, values)
	s.judge(cfg, values)
	return s
}

func (s *Suitability) say(format string, args ...any) {
	s.Reasons = append(s.Reasons, fmt.Sprintf(format, args...))
}

func (s *Suitability) measure(job Job, values []float64) {
	half := min(len(job.History)/2, 42*job.Config.Grid.PerDay())
	from := len(job.History) - half
	var off, around, widths []float64
	middle := robust.Median(append([]float64(nil), values...))
	job.From, job.Rule.BandOnly = job.History[from].At, true
	job.Read = func(r detect.Reading) {
		if math.IsNaN(r.Observed) || r.Masked {
			return
		}
		off, around = append(off, math.Abs(r.Observed-r.Expected)), append(around, math.Abs(r.Observed-middle))
		if r.Expected > 0 {
			widths = append(widths, (r.High-r.Low)/2/r.Expected)
		}
	}
	_, e, err := WalkOn(job)
	if err != nil || e == nil || len(off) == 0 {
		return
	}
	s.Shape = shapeOf(e, job.Config.Grid)
	if spread := robust.Quantile(around, 0.75); spread > 0 {
		explained := max(0, 1-robust.Quantile(off, 0.75)/spread)
		s.Explained = &explained
	}
	if len(widths) > 0 {
		width := robust.Median(widths)
		s.HalfWidth = &width
	}
}

func shapeOf(e *detect.Evaluator, g timeline.Grid) string {
	season := "a weekly shape"
	if g.Long() {
		season = "months of the year that stand out"
	}
	switch e.Family() {
	case baseline.Mult:
		return "level times " + season + ", noise that of counts"
	case baseline.Stepped:
		return shapeStepped
	case baseline.Flat:
		return "none: a simple method"
	}
	return "level plus " + season
}

func (s *Suitability) judge(cfg baseline.Config, values []float64) {
	s.Fitness = Suits
	worse := func(f Fitness, instead string) {
		if s.Fitness != Unsuitable {
			s.Fitness, s.Instead = f, instead
		}
	}
	middle := robust.Median(append([]float64(nil), values...))
	lowest, highest := math.Inf(1), math.Inf(-1)
	for _, v := range values {
		lowest, highest = min(lowest, v), max(highest, v)
	}
	switch {
	case lowest == highest:
		s.say("it has always been %g", lowest)
		worse(Unsuitable, "fixed bounds: any change is one")
		return
	case s.Shape == shapeStepped:
		s.say("%.0f %% of its periods repeat the one before", 100*s.Repeats)
		worse(Weak, "change against the period before; the seasonal method does this by itself")
		return
	}
	if s.Missing > 0.3 {
		s.say("%.0f %% of its periods did not come", 100*s.Missing)
		worse(Weak, "a longer period, or the arrival pattern of its loads")
	}
	if cfg.Kind == timeline.Count && middle < 2 {
		s.say("half of its periods have %g or fewer: a band can hardly see a loss", middle)
		worse(Weak, "a longer period, or the silence rule alone")
	}
	if cfg.Kind != timeline.Value && s.HalfWidth != nil && *s.HalfWidth > 1 {
		s.say("the band reaches from nothing to %.0f times what is expected", 1+*s.HalfWidth)
		worse(Weak, "a longer period, or direction high only")
	}
	if s.Explained != nil && *s.Explained < 0.05 && s.Zeros < 0.5 {
		s.say("neither hour nor weekday nor level foretells it better than its median")
		worse(Weak, "rolling median, or the z score of its history")
	}
	if s.HaveDays < s.BestDays {
		s.say("with %.0f days of history the thresholds still lean on other series; from %.0f on they are its own", s.HaveDays, s.BestDays)
	}
	if s.Fitness == Suits {
		what := "its level and weekly shape"
		if cfg.Grid.Long() {
			what = "its level and the months of the year"
		}
		if s.Explained != nil {
			s.say("%s foretell %.0f %% of its ordinary variation", what, 100**s.Explained)
		}
	}
}

const shapeStepped = "steps: it repeats its last value"
