package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Loss is how small a loss shows within a time.
type Loss struct {
	Periods   int     `json:"periods"`
	Seconds   int64   `json:"seconds"`
	Sometimes float64 `json:"sometimes" doc:"share lost that is found in two to three of five cases"`
	Always    float64 `json:"always" doc:"share lost that is practically always found; 1 or more: only a full stop, if that"`
}

// Losses says, for each window, how large a loss must be to alarm in it: the
// threshold of the window's statistic turned back into a share, beginning at
// each hour of the week to come. The median of these is found in two to three of five cases;
// what is half as large again as the worst tenth of them, practically always.
// Series that are not judged by windows have none.
func (e *Evaluator) Losses() []Loss {
	if !e.windowed() || e.rule.Direction == High {
		return nil
	}
	ahead := e.week()
	var list []Loss
	for w, length := range e.cadence.windows[:e.cadence.count] {
		var shares []float64
		stride := max(1, len(ahead)/168)
		for i := 0; i+length <= len(ahead); i += stride {
			if share, ok := e.lossIn(w, ahead[i:i+length]); ok {
				shares = append(shares, share)
			}
		}
		if len(shares) == 0 {
			continue
		}
		half, worst := robust.Quantile(shares, 0.5), robust.Quantile(shares, 0.9)
		list = append(list, Loss{Periods: length, Seconds: int64(length) * e.step, Sometimes: min(half, 1), Always: min(1.5*worst, 1)})
	}
	// A longer time never sees less.
	for i := 1; i < len(list); i++ {
		list[i].Sometimes, list[i].Always = min(list[i].Sometimes, list[i-1].Sometimes), min(list[i].Always, list[i-1].Always)
	}
	return list
}

// week is what is expected of the next seven days and a day.
func (e *Evaluator) week() []baseline.Expectation {
	at := e.Last
	n := 8 * e.Model.PerDay
	if e.Model.PerDay == 1 {
		n = 28
	}
	list := make([]baseline.Expectation, n)
	for i := range list {
		at = e.cfg.Grid.Next(unixTime(at)).Unix()
		pt := e.Model.NewPoint(timeline.Sample{At: at, Value: math.NaN()}, e.slotter.At(at), &e.cfg, timeline.Judged)
		list[i] = e.expect(&pt)
	}
	return list
}

// lossIn is the share whose loss brings the window's statistic to the warning
// threshold, one period of the window left out as the window itself does.
func (e *Evaluator) lossIn(w int, window []baseline.Expectation) (float64, bool) {
	n := float64(len(window))
	kept := (n - float64(e.cadence.dropped(len(window)))) / n
	mean, variance, effect, value := 0.0, 0.0, 0.0, 0.0
	for i := range window {
		ex := &window[i]
		mean += ex.Mu
		variance += ex.Sigma * ex.Sigma
		effect = e.effect(ex)
		value += e.Model.Back(ex.Mu, e.rowsOr(0)) / n
	}
	mean, variance = mean*kept, variance*kept
	reach := (e.warn[low]-e.Scales.Shift[low][w])*e.Scales.Scale[low][w] - e.Scales.Centre[low][w]
	if e.Model.Family == baseline.Mult {
		if mean < 0.3 {
			return 0, false
		}
		d := max(variance/max(mean, 0.3), 1)
		q := math.Sqrt(mean/d+0.375) - reach/2
		if q <= math.Sqrt(0.375) {
			return 1, true
		}
		share := 1 - (q*q-0.375)*d/mean
		return max(share, effect/mean), true
	}
	// A shift of the mean by this much, as a share of what is expected.
	shift := reach * math.Sqrt(variance) / (n * kept)
	last := window[len(window)-1].Mu
	if value <= 0 || e.cfg.Kind == timeline.Value && value < 1e-12 {
		return 0, false
	}
	return clampShare((value - e.Model.Back(last-shift, e.rowsOr(0))) / value), true
}

func clampShare(v float64) float64 { return min(max(v, 0), 1) }

// StopShows is how many rows a day a part must send so that its falling silent is
// told within the time, if it is watched by itself and its zeros are as seldom as
// a Poisson count says: the odds against chance that silence asks for under this
// series' budget.
func (e *Evaluator) StopShows(within int64) float64 {
	odds := leastLimit(silenceShare*e.budget(e.rule.Warn), e.ownStep()) * e.rule.Caution.Of(Silence)
	return odds * daySeconds / float64(within)
}

// TypicalDay is the expected sum (counts) or mean of the next day.
func (e *Evaluator) TypicalDay() float64 {
	if !e.windowed() {
		return math.NaN()
	}
	sum, week := 0.0, e.week()
	week = week[:min(7*e.Model.PerDay, len(week))]
	for i := range week {
		sum += e.Model.Back(week[i].Mu, e.rowsOr(0))
	}
	if e.cfg.Kind == timeline.Count {
		return sum * float64(e.Model.PerDay) / float64(len(week))
	}
	return sum / float64(len(week))
}

// Thresholds gives the statistic at which each side warns and turns critical.
func (e *Evaluator) Thresholds() (warn, critical [2]float64) { return e.warn, e.critical }

// Family tells how the fitted model relates expectation and observation.
func (e *Evaluator) Family() baseline.Family { return e.Model.Family }
