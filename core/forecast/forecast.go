// Package forecast says what days to come will be like, with intervals from the
// forecasts that would have been made before.
package forecast

import (
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Forecast is an expectation for days to come, for questions of growth.
type Forecast struct {
	Model    string    // level, damped or linear
	Days     int       // of history
	At       []int64   // start of each day forecast, Unix seconds
	Expected []float64 // in units of a day
	Low      []float64
	High     []float64
	Coverage float64
	Error    float64 // mean absolute error of the model on the past, relative (counts, durations) or absolute
	Horizon  int     // days ahead at which Error was measured
	FullYear bool    // a year was seen, so a yearly season could show

	log     bool
	weekday [7]float64
	months  [12]float64 // of the year, of a series of months
	dates   []float64   // effect by date of the month, nil where none stands out
	ratios  []float64   // |error| over spread
	centre  []float64
	spread  []float64
	shape   []float64  // effect of weekday and date of each day forecast
	growth  [2]float64 // ln spread = growth[0] + growth[1]·ln h
	noise   float64    // half-width of the 90 % interval of a day about its level
}

// Daily is a history of local days, or of the periods of a series whose periods are
// longer: the sum of a count, the mean of anything else. Days with less than half of their periods are missing.
type Daily struct {
	At      []int64
	Weekday []int
	Value   []float64 // NaN where missing
}

// Days sums up a dense history by local day; the last day counts only if it is
// over. Masked samples and holidays are left out.
func Days(cfg baseline.Config, history []timeline.Sample, mask timeline.Mask) Daily {
	var d Daily
	slotter := timeline.NewSlotter(cfg.Grid)
	date, sum, n, due := int32(0), 0.0, 0, 0
	end := func() {
		if date == 0 {
			return
		}
		v := math.NaN()
		if n > 0 && 2*n >= due {
			if v = sum / float64(n); cfg.Kind == timeline.Count {
				v *= float64(due)
			}
		}
		d.Value = append(d.Value, v)
	}
	for _, s := range history {
		slot := slotter.At(s.At)
		if slot.Date != date {
			end()
			date, sum, n, due = slot.Date, 0, 0, 0
			d.At, d.Weekday = append(d.At, s.At), append(d.Weekday, int(slot.Day))
		}
		due++
		if !s.Missing() && !mask.Touches(s.At, cfg.Grid.End(s.At)) && !cfg.Holiday(&slot) {
			sum, n = sum+s.Value, n+1
		}
	}
	if due >= cfg.Grid.PerDay()*9/10 {
		end()
	} else if n := len(d.Value); n < len(d.At) {
		d.At, d.Weekday = d.At[:n], d.Weekday[:n]
	}
	return d
}

// ninety is how many standard deviations a normal 90 % interval reaches.
const ninety = 1.6449

const (
	leastForecast = 28
	damping       = 0.985
)

var horizons = []int{7, 14, 28, 56, 84, 112, 150}

// Ahead forecasts days to come: the level or a trend (Theil and Sen's slope
// between halves), damped or not, whichever did best on the past, with weekday
// effects. Its interval comes from the forecasts that would have been made
// before. It refuses horizons beyond three times the history.
func Ahead(cfg baseline.Config, d Daily, days int, coverage float64) (*Forecast, error) {
	present := 0
	for _, v := range d.Value {
		if !math.IsNaN(v) {
			present++
		}
	}
	n := len(d.Value)
	switch {
	case present < leastForecast:
		return nil, baseline.TooShort{Have: present, Need: leastForecast}
	case days < 1 || days > 3*n:
		unit := cfg.Grid.Unit()
		return nil, fmt.Errorf("%d %ss ahead: %d %ss of history allow 1 to %d", days, unit, n, unit, 3*n)
	}
	f := &Forecast{Days: n, Coverage: coverage, FullYear: time.Duration(n)*cfg.Grid.Day() >= timeline.Year,
		log: cfg.Kind == timeline.Count || cfg.Kind == timeline.Duration}
	y := f.season(d, cfg.Grid)
	f.choose(y)
	f.uncertainty(y)
	last := d.At[n-1]
	g := timeline.Grid{Period: cfg.Grid.Day(), Zone: cfg.Grid.Zone}
	at := g.Floor(time.Unix(last, 0))
	path := f.path(y, days)
	wide := robust.NormalQuantile((1+coverage)/2) / ninety
	for h := 1; h <= days; h++ {
		at = g.Next(at)
		day := at.In(g.Zone)
		shape := f.months[day.Month()-1]
		if !g.Long() {
			shape = f.weekday[day.Weekday()] + f.date(day)
		}
		centre := path[h-1] + shape
		half := math.Hypot(f.quantile(coverage)*f.spreadAt(h), f.noise*wide)
		f.shape = append(f.shape, shape)
		f.centre, f.spread = append(f.centre, path[h-1]), append(f.spread, f.spreadAt(h))
		f.At = append(f.At, at.Unix())
		f.Expected = append(f.Expected, f.back(centre))
		f.Low, f.High = append(f.Low, f.back(centre-half)), append(f.High, f.back(centre+half))
		if cfg.Kind == timeline.Share {
			f.Low[h-1], f.High[h-1] = robust.Clamp(f.Low[h-1], 0, 1), robust.Clamp(f.High[h-1], 0, 1)
		}
	}
	return f, nil
}

func (f *Forecast) back(y float64) float64 {
	if f.log {
		return math.Exp(y)
	}
	return y
}

// levelAndSlope are the median of the last four weeks and the median slope
// between days half the history apart, over at most half a year.
func levelAndSlope(y []float64) (level, slope float64) {
	n := len(y)
	level = robust.Median(slices.Clone(y[max(0, n-28):]))
	k := min(n, 182) / 2
	slopes := make([]float64, k)
	for i := range k {
		slopes[i] = (y[n-1-i] - y[n-1-i-k]) / float64(k)
	}
	return level, robust.Median(slopes)
}

func project(model string, level, slope float64, h int) float64 {
	switch ahead := float64(h); model {
	case "linear":
		return level + slope*(ahead+14)
	case "damped":
		return level + slope*(14+damping*(1-math.Pow(damping, ahead))/(1-damping))
	}
	return level
}

var forecastModels = []string{"damped", "level", "linear"}

// choose takes the model with the least error at the longest horizon that the
// history can test from at least three origins; the damped trend is preferred.
func (f *Forecast) choose(y []float64) {
	f.Model, f.Error = "damped", math.NaN()
	first := firstOrigin(len(y))
	for _, h := range slices.Backward(horizons) {
		if first+h+14 >= len(y) {
			continue
		}
		best := math.Inf(1)
		for _, model := range forecastModels {
			sum, n := 0.0, 0
			for origin := first; origin+h <= len(y); origin += 7 {
				level, slope := levelAndSlope(y[:origin])
				sum, n = sum+math.Abs(around(y, origin+h-1)-project(model, level, slope, h)), n+1
			}
			loss := sum / float64(n)
			weighed := loss
			if model != "damped" {
				weighed *= 1.07
			}
			if weighed < best {
				best, f.Model, f.Error, f.Horizon = weighed, model, loss, h
			}
		}
		return
	}
	if len(y) < 84 {
		f.Model = "level"
	}
}

// around is the level about a day: what a single day strays is no error of a forecast's
// level, and is added to the interval by itself.
func around(y []float64, day int) float64 {
	return robust.Median(slices.Clone(y[max(day-3, 0):min(day+4, len(y))]))
}

// firstOrigin is how many days the first forecast of the past is made from:
// twelve weeks, or half of a short history, so that more than a few days ahead is tried.
func firstOrigin(n int) int { return max(min(84, n/2), n/3, 14) }

// uncertainty measures past errors at all horizons and fits how they grow.
func (f *Forecast) uncertainty(y []float64) {
	type past struct {
		h   int
		err float64
	}
	var errors []past
	var logs, sizes []float64
	for _, h := range horizons {
		var at []float64
		for origin := firstOrigin(len(y)); origin+h <= len(y); origin += 7 {
			level, slope := levelAndSlope(y[:origin])
			e := around(y, origin+h-1) - project(f.Model, level, slope, h)
			errors = append(errors, past{h, e})
			at = append(at, math.Abs(e))
		}
		if len(at) >= 3 {
			logs, sizes = append(logs, math.Log(float64(h))), append(sizes, math.Log(max(robust.Mean(at), 1e-9)))
		}
	}
	growth := 0.6
	if len(logs) >= 3 {
		x, z := robust.Mean(logs), robust.Mean(sizes)
		cov, sd := 0.0, 0.0
		for i := range logs {
			cov, sd = cov+(logs[i]-x)*(sizes[i]-z), sd+(logs[i]-x)*(logs[i]-x)
		}
		growth = robust.Clamp((cov/sd+0.6)/2, 0.3, 1.2)
	}
	base := math.Log(max(f.noise/ninety, 1e-9)) - growth*math.Log(7)
	if len(logs) > 0 {
		base = robust.Mean(sizes) - growth*robust.Mean(logs)
	}
	f.growth = [2]float64{base, growth}
	for _, e := range errors {
		f.ratios = append(f.ratios, math.Abs(e.err)/f.spreadAt(e.h))
	}
}

func (f *Forecast) spreadAt(h int) float64 {
	return math.Exp(f.growth[0] + f.growth[1]*math.Log(float64(h)))
}

// quantile is how many spreads the interval reaches: the empirical quantile of
// past errors, widened for how few independent ones there are, and pulled
// towards a normal one's while there are few at all.
func (f *Forecast) quantile(coverage float64) float64 {
	independent := max(3, float64(f.Days-84)/42)
	normal := robust.NormalQuantile((1+coverage)/2) / math.Sqrt(2/math.Pi) // in mean absolute errors
	n := float64(len(f.ratios))
	own := normal
	if n > 0 {
		own = max(robust.Quantile(slices.Clone(f.ratios), min(coverage*(1+1/independent), 1)), 0.1)
	}
	return math.Exp((n*math.Log(own)+20*math.Log(normal))/(n+20)) * (1 + 0.3/independent)
}

func (f *Forecast) path(y []float64, days int) []float64 {
	level, slope := levelAndSlope(y)
	path := make([]float64, days)
	for h := range path {
		path[h] = project(f.Model, level, slope, h+1)
	}
	return path
}

// Together sums up several histories day by day, from the first day that one of them has
// to the last that all have. A day counts if all have it that had begun by then.
func Together(list []Daily) Daily {
	var all Daily
	at := map[int64]int{}
	last := int64(math.MaxInt64)
	for _, d := range list {
		if len(d.Value) == 0 {
			continue
		}
		last = min(last, d.At[len(d.Value)-1])
		for i := range d.Value {
			if _, there := at[d.At[i]]; !there {
				at[d.At[i]] = d.Weekday[i]
			}
		}
	}
	for day := range at {
		if day <= last {
			all.At = append(all.At, day)
		}
	}
	slices.Sort(all.At)
	all.Value = make([]float64, len(all.At))
	for _, day := range all.At {
		all.Weekday = append(all.Weekday, at[day])
	}
	for _, d := range list {
		if len(d.Value) == 0 {
			continue
		}
		k := 0
		for i, day := range all.At {
			if day < d.At[0] {
				continue
			}
			for k < len(d.Value) && d.At[k] < day {
				k++
			}
			if k < len(d.Value) && d.At[k] == day {
				all.Value[i] += d.Value[k]
			} else {
				all.Value[i] = math.NaN()
			}
		}
	}
	return all
}
