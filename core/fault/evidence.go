package fault

import "math"

const hour = 3600.0

// Alike gives how readily a cause of one kind (first) has an effect of another:
// the logarithm against an effect of the same kind.
var alike = func() (k [kinds][kinds]float64) {
	for cause := range k {
		for effect := range k[cause] {
			k[cause][effect] = -5
		}
		k[cause][cause] = 0
		k[cause][Drift] = -3 // seen over days or weeks, in which much happens
	}
	k[Rows][Nulls], k[Rows][Mean], k[Rows][Late] = -2, -1.5, -0.5
	k[Late][Rows], k[Late][Nulls], k[Late][Mean] = -0.3, -2, -2
	k[Nulls][Mean] = -1.5
	k[Columns][Rows], k[Columns][Nulls], k[Columns][Mean], k[Columns][Late] = -1, -0.7, -1, -1
	k[Unreadable][Late], k[Unreadable][Rows], k[Unreadable][Mean], k[Unreadable][Nulls] = -0.3, -0.3, -2, -2
	k[Drift][Drift] = 0
	return k
}()

const anotherColumn = -3

// again is how often what has closed comes back within a day while its cause lasts.
const again = 0.4

// effect is the evidence that a is an effect of h: the logarithm of how likely it
// makes an alert like a, per hour.
func (in *Inference) effect(a, h *Alert) float64 {
	in.spent++
	p, reached := in.lineage.way(h.at, a.at)
	if !reached {
		return floor
	}
	if h.Kind == Unreadable && h.at == a.at {
		p.high += hour
	}
	v := alike[h.Kind][a.Kind]
	switch {
	case a.Series != 0 && a.Series == h.Series:
		if gap := a.Onset - float64(h.Ended); h.Ended != 0 && gap < 24*hour && gap > -24*hour {
			return math.Log(again/24) + math.Log(dearer) // the same again, which hides nothing else
		}
	case h.Kind == a.Kind && h.Kind != Rows && h.Column != a.Column:
		v += anotherColumn
	}
	rebound := a.Kind == Rows && a.Sign > 0 && (h.Kind == Rows && h.Sign < 0 || h.Kind == Late)
	opposite := !rebound && a.Kind == h.Kind && a.Column == h.Column && a.Sign*h.Sign < 0
	over, disjoint := in.overlap(a, h, p)
	switch {
	case disjoint && h.at == a.at && opposite:
		v, opposite = v-3, false // one gains what the other loses
	case disjoint && h.at == a.at && a.Sign == h.Sign && a.Kind == h.Kind:
		v -= 5
	case disjoint:
		v -= 14
	}
	if opposite {
		v -= 4
	}
	switch {
	case rebound && h.Ended != 0:
		v += in.afterwards(a, h, p) - 1
	default:
		v += in.time(a, h, p)
		if rebound {
			v -= 4
		}
	}
	if !disjoint && !rebound {
		v += in.size(a, h, p, over)
	}
	return max(v, floor)
}

// meanwhile is how often an effect begins not by its lag but at any time while the
// cause lasts.
const meanwhile = 0.05

// time is how likely a begins when it did if h caused it: about a lag later, or
// anywhere while h lasts.
func (in *Inference) time(a, h *Alert, p path) float64 {
	off := outside(a.Onset-h.Onset, p.low, p.high)
	b := math.Sqrt(a.Spread*a.Spread+h.Spread*h.Spread+math.Pow(0.5*hour+p.spread, 2)) / hour
	width := (p.high - p.low) / hour
	density := (1 - meanwhile) * math.Exp(-off/hour/b) / (2*b + width)
	end := float64(h.Ended)
	if h.Ended == 0 {
		end = math.Max(a.Onset, float64(a.Raised))
	}
	if a.Onset >= h.Onset+p.low-hour && a.Onset <= end+p.high {
		density += meanwhile / math.Max((end-h.Onset)/hour, 6)
	}
	return math.Log(math.Max(0.6*density, 1e-17))
}

// afterwards is how likely a begins when h ended: what was held back comes.
func (in *Inference) afterwards(a, h *Alert, p path) float64 {
	off := outside(a.Onset-float64(h.Ended), p.low-hour, p.high+hour)
	b := math.Sqrt(a.Spread*a.Spread+math.Pow(hour+p.spread, 2)) / hour
	return math.Log(math.Max(0.6*math.Exp(-off/hour/b)/(2*b+(p.high-p.low)/hour+2), 1e-17))
}

// outside is how far a value lies outside of a range.
func outside(v, low, high float64) float64 { return math.Max(0, math.Max(low-v, v-high)) }

// size is how much likelier an effect as large as a's is if h caused it than among
// all that alerts tell of.
func (in *Inference) size(a, h *Alert, p path, over float64) float64 {
	r := math.Abs(a.Effect)
	if r == 0 {
		return 0
	}
	usual := normal(math.Log(r), math.Log(0.4), 1.3)
	deviation := a.Error / math.Max(r, 1e-9)
	switch {
	case h.Kind == a.Kind && h.Column == a.Column || h.Kind == Rows && a.Kind == Rows:
		f := math.Abs(h.Effect)
		if f == 0 {
			return 0
		}
		told := f * over
		if a.Kind == Rows {
			told *= p.pass
		}
		told = math.Max(told, 1e-4)
		tau := 0.45
		if r > told {
			tau = 0.2
		}
		if a.Kind != Rows {
			tau = 0.6
		}
		if over > 0 && over < 1 {
			tau = math.Hypot(tau, 0.35) // segments need not be spread alike
		}
		sd := math.Sqrt(tau*tau + deviation*deviation + math.Pow(h.Error/f, 2) + 0.04*float64(p.steps))
		return math.Max(-16, normal(math.Log(r), math.Log(told), sd)) - usual
	case h.Kind == Rows && (a.Kind == Nulls || a.Kind == Mean):
		median, less := 0.02, 0.0
		if a.Kind == Mean {
			median = 0.04
		}
		if len(h.Segment) == 0 {
			less = 1.5 // what takes rows of all segments alike changes no mean
		}
		return math.Max(-16, normal(math.Log(r), math.Log(median), math.Sqrt(1+deviation*deviation))) - usual - less
	}
	return 0
}

func normal(x, mean, sd float64) float64 {
	z := (x - mean) / sd
	return -z*z/2 - math.Log(sd)
}

// overlap is which share of a's rows are also of h's segment; disjoint where none
// can be.
func (in *Inference) overlap(a, h *Alert, p path) (share float64, disjoint bool) {
	share = 1
	for _, own := range h.Segment {
		found := false
		for _, other := range a.Segment {
			if own.Column != other.Column {
				continue
			}
			if found = true; own.Value != other.Value {
				return 0, true
			}
		}
		if !found {
			share *= in.lineage.portion(a.at, h.at, own)
		}
	}
	return share, false
}

// sound is what speaks against a fault's root because series do not ring that it
// ought to have reached: segments of its place, the more surely the more of their
// rows it hits and the longer it has lasted. What breaks one value of a column and
// leaves the others alone did not break the whole.
func (in *Inference) sound(f *Fault) float64 {
	const patience, most, looks = 4 * hour, 10.0, 100
	r := &f.root.Alert
	size := math.Abs(r.Effect)
	ripe := 1 - math.Exp(-math.Max(float64(in.now)-r.Onset, 0)/patience)
	against := 0.0
	for i, j := range in.lineage.judged[r.at] {
		if i == looks || size == 0 {
			break
		}
		if j.kind != r.Kind || j.column != r.Column || len(j.segment) == 0 || j.segment.equal(r.Segment) {
			continue
		}
		over, disjoint := in.overlap(&Alert{at: r.at, Segment: j.segment}, r, path{})
		if disjoint || f.rings(r.at, j) {
			continue
		}
		share := 1.0
		for _, p := range j.segment {
			share *= in.lineage.portion(r.at, r.at, p)
		}
		likely := math.Min(math.Max((size*over-0.1)/0.4, 0), 0.9) * share / (share + 0.05) * ripe
		against += math.Log(1 - likely)
	}
	return math.Max(against, -most)
}

// rings tells whether a series of a place has an alert among a fault's.
func (f *Fault) rings(place int, j judged) bool {
	for _, m := range f.members {
		if m.at == place && m.Kind == j.kind && m.Column == j.column && m.Segment.equal(j.segment) {
			return true
		}
	}
	return false
}
