package filter

import (
	"math"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Case is an alert as the filter sees it: what kind of claim it is, what
// surrounds it, and its evidence at each look.
type Case struct {
	Budget    float64 // false alarms per series and 30 days that the monitor is set to
	Kind      timeline.Kind
	Cause     detect.Cause
	Direction detect.Direction
	Looks     []detect.Evidence
	Recent    int      // alerts of the same series in the fortnight before
	Company   int      // other series of the dataset that alerted within an hour
	Series    Surprise // what was answered about the same series
	Monitor   Surprise // … about the same monitor
}

// Surprise sums up answers beside what the shipped prior expected of them, so
// that it does not matter which alerts people chose to answer.
type Surprise struct {
	Sum float64 // of one for a fault, less the expected chance
	N   float64
}

// Add takes the answer about a case in.
func (s *Surprise) Add(c Case, fault bool) { s.shift(c, fault, 1) }

// Less leaves the answer about a case out again.
func (s *Surprise) Less(c Case, fault bool) { s.shift(c, fault, -1) }

func (s *Surprise) shift(c Case, fault bool, by float64) {
	c.Series, c.Monitor = Surprise{}, Surprise{}
	y := -chanceOf(&c, &ShippedPrior.Weights)
	if fault {
		y++
	}
	s.Sum, s.N = s.Sum+by*y, s.N+by
}

// ContextSpan are the times that Recent and Company look at, in seconds.
const (
	RecentSpan  = 14 * 86400
	CompanySpan = 3600
)

// Features are the columns of a case, in order; all are of about unit size.
var Features = [...]string{
	"always", "excess over the threshold", "mean deviation", "largest deviation", "newest deviation", "how long it deviates",
	"upwards", "size of counts", "a count", "change in proportion", "nothing at all came",
	"silence rule", "stuck rule", "missing-data rule", "step rule", "overdue rule",
	"alerts in the fortnight before", "others at the same time", "answers about the series", "answers about the monitor",
	"a share", "a duration", "a value",
	"excess, of a share", "excess, of a duration or value", "excess by size of counts", "mean deviation, of a share",
	"mean deviation, of a duration or value", "hardly over the threshold",
	"rarity", "rarity beyond a hundredfold", "rarity, of a share", "rarity, of a duration or value", "rarity by size of counts",
	"budget of its monitor", "budget, of a share", "budget, of a duration or value", "budget by size of counts",
	"mean deviation beyond 1.5", "mean deviation beyond 3", "excess beyond a third", "many periods", "many periods that deviate much",
}

// Themes say of each feature what it is about, as people would.
var Themes = [...]string{
	"", "how far beyond the threshold", "how far it deviates", "how far it deviates", "how far it deviates", "how long it deviates",
	"its direction", "how large the counts are", "what kind of measure it is", "the change in proportion", "that nothing at all came",
	"the rule that told", "the rule that told", "the rule that told", "the rule that told", "the rule that told",
	"how often the series rang lately", "what else rang at the time", "what people said of the series", "what people said of the monitor",
	"what kind of measure it is", "what kind of measure it is", "what kind of measure it is",
	"how far beyond the threshold", "how far beyond the threshold", "how far beyond the threshold", "how far it deviates",
	"how far it deviates", "how far beyond the threshold",
	"how rare it is", "how rare it is", "how rare it is", "how rare it is", "how rare it is",
	"how loosely the monitor is set", "how loosely the monitor is set", "how loosely the monitor is set", "how loosely the monitor is set",
	"how far it deviates", "how far it deviates", "how far beyond the threshold", "how long it deviates", "how long it deviates",
}

const width = len(Features)

var _ = [1]int{}[len(Themes)-width] // one theme a feature

// Weights of the features, on the log-odds scale.
type Weights [width]float64

type row [width]float64

// look gives the features of a case at one look.
func (c *Case) look(v detect.Evidence) row {
	is := func(b bool) float64 {
		if b {
			return 1
		}
		return 0
	}
	ratio := 0.0
	if v.Ratio > 0 {
		ratio = min(math.Abs(math.Log(v.Ratio)), 3)
	} else if v.Periods > 0 {
		ratio = 3
	}
	count := c.Kind == timeline.Count
	loose := min(max(math.Log(max(c.Budget, 1e-6)/0.3), -6), 3)
	rarity := min(math.Log(max(v.Rarity, 1)), 9) / 2
	excess, size := min(math.Log(max(v.Excess, 1)), 3), is(count)*math.Log1p(math.Abs(v.Expected))/4
	return row{
		1, excess, v.Mean() / 3, v.Worst / 4, max(v.Last, -1) / 3, math.Log1p(float64(v.Periods)) / 2,
		is(c.Direction == detect.High), size, is(count), ratio, is(v.Ratio == 0 && v.Expected > 0),
		is(c.Cause == detect.Silence), is(c.Cause == detect.Stuck), is(c.Cause == detect.Missing), is(c.Cause == detect.Step),
		is(c.Cause == detect.Overdue),
		math.Log1p(float64(c.Recent)), math.Log1p(float64(c.Company)),
		c.Series.Sum / (c.Series.N + 2), c.Monitor.Sum / (c.Monitor.N + 4),
		is(c.Kind == timeline.Share), is(c.Kind == timeline.Duration), is(c.Kind == timeline.Value),
		is(c.Kind == timeline.Share) * excess, is(!count && c.Kind != timeline.Share) * excess, size * excess,
		is(c.Kind == timeline.Share) * v.Mean() / 3, is(!count && c.Kind != timeline.Share) * v.Mean() / 3, is(excess < 0.1),
		rarity, max(rarity-2.3, 0), is(c.Kind == timeline.Share) * rarity, is(!count && c.Kind != timeline.Share) * rarity, size * rarity,
		loose, is(c.Kind == timeline.Share) * loose, is(!count && c.Kind != timeline.Share) * loose, size * loose,
		max(v.Mean()-1.5, 0) / 2, max(v.Mean()-3, 0) / 2, max(excess-0.3, 0), max(math.Log1p(float64(v.Periods))-1.6, 0),
		max(math.Log1p(float64(v.Periods))-1.6, 0) * max(v.Mean()-1, 0),
	}
}

// rows are the features at every look; an alert without any is taken as it is.
func (c *Case) rows() []row {
	if len(c.Looks) == 0 {
		return []row{c.look(detect.Evidence{Periods: 1, Excess: 1, Z: 3, Worst: 3, Last: 3, Ratio: 1})}
	}
	list := make([]row, len(c.Looks))
	for i, v := range c.Looks {
		list[i] = c.look(v)
	}
	return list
}
