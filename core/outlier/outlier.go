// Package outlier says which values of a set stand out, by several rules side by side,
// and what the set would be without them.
package outlier

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"tinbell/core/robust"
)

// Rules by which a value stands out.
const (
	ByZ        = "z"
	ByModified = "modified z"
	ByFences   = "fences"
	ByRange    = "allowed range"
)

// Options say from where on a value stands out.
type Options struct {
	Z        float64  // standard deviations from the mean; 3 if 0
	Modified float64  // 0.6745 of a value's distance from the median over the MAD; 3.5 if 0 (Iglewicz and Hoaglin 1993)
	Fence    float64  // interquartile ranges beyond the quartiles; 1.5 if 0 (Tukey 1977)
	Low      *float64 // lowest value allowed; nil: any
	High     *float64
	Slots    []int // which part of its season each value is of; nil: none
}

// Rule is a rule as it was applied.
type Rule struct {
	Name   string
	Low    float64 // of what it judges: Odd.Judged
	High   float64
	Beyond int
	Word   string // what to know about it here; empty mostly
}

// Odd is a value that stands out.
type Odd struct {
	Index    int
	Value    float64
	Usual    float64 // the median, of its part of the season where there is one
	Judged   float64 // what the rules judge: the value, or by how many spreads of its part of the season it is off
	Z        float64
	Modified float64
	Fences   float64 // interquartile ranges beyond the nearer quartile; 0 inside
	Rules    []string
}

// Summary sums up a set.
type Summary struct {
	N                      int
	Sum, Mean, Median, SD  float64
	Quartile1, Quartile3   float64
	Smallest, Largest, MAD float64
}

// Result is what stands out of a set, farthest first.
type Result struct {
	Missing  int
	Seasonal bool // values were judged against their part of the season
	All      Summary
	Judged   Summary // of what the rules judge
	Without  Summary // without those that stand out by a rule
	Rules    []Rule
	Odd      []Odd
}

// Least is how many values it takes.
const Least = 5

// TooFew says how many values there are and how many it takes.
type TooFew struct{ Have int }

func (e TooFew) Error() string {
	return fmt.Sprintf("%d values are too few to tell which stand out: it takes %d", e.Have, Least)
}

// Look finds what stands out of values, NaN where one is missing. An infinite value
// stands out by itself and is left out of everything else.
func Look(values []float64, o Options) (Result, error) {
	o.Z, o.Modified, o.Fence = cmp.Or(o.Z, 3), cmp.Or(o.Modified, 3.5), cmp.Or(o.Fence, 1.5)
	var r Result
	var at []int
	for i, v := range values {
		switch {
		case math.IsNaN(v):
			r.Missing++
		case math.IsInf(v, 0):
			r.Odd = append(r.Odd, Odd{Index: i, Value: v, Z: v, Modified: v, Fences: math.Abs(v), Rules: []string{ByZ, ByModified,
				ByFences, ByRange}})
		default:
			at = append(at, i)
		}
	}
	if len(at) < Least {
		return r, TooFew{len(at)}
	}
	kept := make([]float64, len(at))
	for k, i := range at {
		kept[k] = values[i]
	}
	judged, usual := kept, robust.Median(slices.Clone(kept))
	var slots map[int]part
	if slots = seasons(values, at, o.Slots); slots != nil {
		r.Seasonal = true
		judged = make([]float64, len(at))
		for k, i := range at {
			judged[k] = slots[o.Slots[i]].away(values[i])
		}
	}
	r.All = sum(kept)
	j := sum(judged)
	r.Judged = j
	scale, word := j.MAD, ""
	if scale == 0 {
		// Over half of the values are the same: by the MAD any other would stand out.
		scale, word = robust.Mean(distances(judged, j.Median))*1.253314*0.6745,
			"over half of the values are the same: the mean distance from the median stands for the MAD (Iglewicz and Hoaglin)"
	}
	wide := j.Quartile3 - j.Quartile1
	r.Rules = []Rule{
		{Name: ByZ, Low: j.Mean - o.Z*j.SD, High: j.Mean + o.Z*j.SD, Word: reach(len(at), o.Z)},
		{Name: ByModified, Low: j.Median - o.Modified*scale/0.6745, High: j.Median + o.Modified*scale/0.6745, Word: word},
		{Name: ByFences, Low: j.Quartile1 - o.Fence*wide, High: j.Quartile3 + o.Fence*wide},
		{Name: ByRange, Low: orFar(o.Low, -1), High: orFar(o.High, 1)},
	}
	if wide == 0 {
		r.Rules[2].Word = "half of the values are the same: any other lies outside the fences, so they are not used here"
		r.Rules[2].Low, r.Rules[2].High = math.Inf(-1), math.Inf(1)
	}
	var rest []float64
	for k, i := range at {
		v := judged[k]
		odd := Odd{Index: i, Value: kept[k], Usual: usual, Judged: v, Z: ratio(v-j.Mean, j.SD), Modified: 0.6745 * ratio(v-j.Median, scale)}
		if slots != nil {
			odd.Usual = slots[o.Slots[i]].middle
		}
		if wide > 0 {
			odd.Fences = math.Max(math.Max(j.Quartile1-v, v-j.Quartile3)/wide, 0)
		}
		for n := range r.Rules {
			rule := &r.Rules[n]
			x := v
			if rule.Name == ByRange {
				x = kept[k] // what is allowed is allowed of the values themselves
			}
			if x < rule.Low || x > rule.High {
				rule.Beyond++
				odd.Rules = append(odd.Rules, rule.Name)
			}
		}
		if len(odd.Rules) == 0 {
			rest = append(rest, kept[k])
			continue
		}
		r.Odd = append(r.Odd, odd)
	}
	r.Without = sum(rest)
	slices.SortStableFunc(r.Odd, func(a, b Odd) int {
		return cmp.Or(cmp.Compare(len(b.Rules), len(a.Rules)), cmp.Compare(math.Abs(b.Modified), math.Abs(a.Modified)),
			cmp.Compare(math.Abs(b.Z), math.Abs(a.Z)))
	})
	return r, nil
}

// reach says where a z can never be as large as the limit: of n values none lies farther
// than (n-1)/√n standard deviations from their mean (Shiffler 1988).
func reach(n int, limit float64) string {
	if most := float64(n-1) / math.Sqrt(float64(n)); most <= limit {
		return fmt.Sprintf("of %d values none can lie more than %.2f standard deviations from their mean: this rule finds nothing here", n, most)
	}
	return ""
}

func orFar(bound *float64, side int) float64 {
	if bound == nil {
		return math.Inf(side)
	}
	return *bound
}

func ratio(x, scale float64) float64 {
	switch {
	case x == 0:
		return 0
	case scale == 0:
		return math.Copysign(math.Inf(1), x)
	}
	return x / scale
}

func distances(values []float64, from float64) []float64 {
	list := make([]float64, len(values))
	for i, v := range values {
		list[i] = math.Abs(v - from)
	}
	return list
}

func sum(values []float64) Summary {
	s := Summary{N: len(values), Mean: math.NaN(), Median: math.NaN(), SD: math.NaN(), Quartile1: math.NaN(),
		Quartile3: math.NaN(), Smallest: math.NaN(), Largest: math.NaN(), MAD: math.NaN()}
	if len(values) == 0 {
		return s
	}
	for _, v := range values {
		s.Sum += v
	}
	s.Mean = s.Sum / float64(len(values))
	squares := 0.0
	for _, v := range values {
		squares += (v - s.Mean) * (v - s.Mean)
	}
	if len(values) > 1 {
		s.SD = math.Sqrt(squares / float64(len(values)-1))
	}
	order := slices.Clone(values) // which quantiles are taken of, in any order
	s.Median, s.Quartile1, s.Quartile3 = robust.Median(order), robust.Quantile(order, 0.25), robust.Quantile(order, 0.75)
	s.Smallest, s.Largest = slices.Min(values), slices.Max(values)
	s.MAD = robust.Median(distances(values, s.Median))
	return s
}

// part is what is usual in a part of the season.
type part struct{ middle, spread float64 }

func (p part) away(v float64) float64 { return ratio(v-p.middle, p.spread) }

// shrink is how many values the spread of all parts counts for beside a part's own.
const shrink = 8

// seasons gives what is usual in each part of the season, where its medians explain the
// values better than one median does: by a quarter of what they stray. A part's spread is
// its MAD as a standard deviation, drawn to that of all parts the fewer values it has.
// Nil where the season does not explain that, or a part has fewer than four values.
func seasons(values []float64, at, slots []int) map[int]part {
	if slots == nil {
		return nil
	}
	members := map[int][]float64{}
	var all []float64
	for _, i := range at {
		members[slots[i]], all = append(members[slots[i]], values[i]), append(all, values[i])
	}
	parts := map[int]part{}
	for slot, list := range members {
		if len(list) < 4 {
			return nil
		}
		parts[slot] = part{middle: robust.Median(list)}
	}
	one := robust.Median(all)
	var before, after float64
	var left []float64
	for _, i := range at {
		off := math.Abs(values[i] - parts[slots[i]].middle)
		before, after, left = before+math.Abs(values[i]-one), after+off, append(left, off)
	}
	if after > 0.75*before {
		return nil
	}
	whole := robust.Median(left) / 0.6745
	if whole == 0 {
		whole = robust.Mean(left) * 1.253314
	}
	for slot, list := range members {
		p, n := parts[slot], float64(len(list))
		own := robust.Median(distances(list, p.middle)) / 0.6745
		p.spread = math.Sqrt((n*own*own + shrink*whole*whole) / (n + shrink))
		parts[slot] = p
	}
	return parts
}
