package drift

import (
	"math"
	"strconv"
)

// Bar is one bar of two distributions over each other: shares of the values, and
// what the bar adds to the PSI over these bars.
type Bar struct {
	From      float64 `json:"from"` // of numbers
	To        float64 `json:"to"`
	Label     string  `json:"label,omitempty"` // of categories, and of numbers that have a bar each
	Reference float64 `json:"reference"`
	Period    float64 `json:"period"`
	PSI       float64 `json:"psi"`
}

const bars = 24

// Labels of what lies beyond the reference's range, of numbers with a bar each.
const (
	Below = "below"
	Above = "above"
)

// Histogram draws two counts over each other. Numbers are laid out in up to 25
// equal bars between the outer hundredths of both, what lies beyond in the first and
// last; few different numbers, and categories, have a bar each.
func Histogram(l *Layout, reference, period *Counts) []Bar {
	switch {
	case reference.Values() == 0 && period.Values() == 0 || !l.Usable():
		return []Bar{}
	case !l.Kind.Numeric():
		return wordBars(l, reference, period)
	case l.Discrete:
		return valueBars(l, reference, period)
	}
	low, high := math.Inf(1), math.Inf(-1)
	for _, c := range []*Counts{reference, period} {
		if c.Values() > 0 {
			low, high = min(low, c.Quantile(l, 0.005)), max(high, c.Quantile(l, 0.995))
		}
	}
	if !(high > low) {
		high = low + 1
	}
	low, width := round(low, high)
	list := make([]Bar, int(math.Ceil((high-low)/width-1e-9)))
	for i := range list {
		list[i].From, list[i].To = low+float64(i)*width, low+float64(i+1)*width
	}
	spread(l, reference, list, func(b *Bar, share float64) { b.Reference += share })
	spread(l, period, list, func(b *Bar, share float64) { b.Period += share })
	return attribute(list, reference, period)
}

// round gives bars of a round width that begin at a round value.
func round(low, high float64) (from, width float64) {
	raw := (high - low) / bars
	unit := math.Pow(10, math.Floor(math.Log10(raw)))
	width = 10 * unit
	for _, step := range []float64{1, 2, 2.5, 5} {
		if step*unit >= raw {
			width = step * unit
			break
		}
	}
	return math.Floor(low/width) * width, width
}

// spread lays a stretch's bins out over bars, evenly within each bin.
func spread(l *Layout, c *Counts, list []Bar, add func(*Bar, float64)) {
	total := float64(c.Values())
	first, last, width := list[0].From, list[len(list)-1].To, list[0].To-list[0].From
	for i, n := range c.Bins {
		if n == 0 {
			continue
		}
		low, high := c.span(l, i)
		share := float64(n) / total
		low, high = min(max(low, first), last), min(max(high, first), last)
		from := min(len(list)-1, int((low-first)/width))
		if high <= low {
			add(&list[from], share)
			continue
		}
		for b := from; b < len(list); b++ {
			part := min(high, list[b].To) - max(low, list[b].From)
			if b == len(list)-1 {
				part = high - max(low, list[b].From)
			}
			if part <= 0 {
				break
			}
			add(&list[b], share*part/(high-low))
		}
	}
}

func valueBars(l *Layout, reference, period *Counts) []Bar {
	var list []Bar
	last := len(reference.Bins) - 1
	for i := range reference.Bins {
		if (i == 0 || i == last) && reference.Bins[i]+period.Bins[i] == 0 {
			continue
		}
		b := Bar{Reference: part(reference, i), Period: part(period, i)}
		switch i {
		case 0:
			b.From, b.To, b.Label = period.Min, l.Edges[0], Below
		case last:
			b.From, b.To, b.Label = l.Edges[last-1], max(period.Max, reference.Max), Above
		default:
			b.From, b.To, b.Label = l.Edges[i-1], l.Edges[i], strconv.FormatFloat(l.Edges[i-1], 'g', 6, 64)
		}
		list = append(list, b)
	}
	return attribute(list, reference, period)
}

func wordBars(l *Layout, reference, period *Counts) []Bar {
	var list []Bar
	for i, word := range l.Words {
		list = append(list, Bar{Label: word, Reference: part(reference, i), Period: part(period, i)})
	}
	others := len(l.Words)
	rest := Bar{Label: "others", Reference: part(reference, others), Period: part(period, others)}
	for _, word := range period.NewWords() {
		if len(list) >= bars || len(l.Rest) > 0 || l.Many {
			break
		}
		share := float64(period.New[word]) / float64(period.Values())
		rest.Period = max(0, rest.Period-share)
		list = append(list, Bar{Label: word + " (new)", Period: share})
	}
	if len(list) > bars {
		for _, b := range list[bars-1:] {
			rest.Reference, rest.Period = rest.Reference+b.Reference, rest.Period+b.Period
		}
		list = list[:bars-1]
	}
	if rest.Reference > 0 || rest.Period > 1e-9 {
		list = append(list, rest)
	}
	return attribute(list, reference, period)
}

func part(c *Counts, bin int) float64 {
	if c.Values() == 0 {
		return 0
	}
	return float64(c.Bins[bin]) / float64(c.Values())
}

// attribute says what each bar adds to the PSI, shares smoothed as in PSI.
func attribute(list []Bar, reference, period *Counts) []Bar {
	n, m, k := float64(reference.Values()), float64(period.Values()), float64(len(list))
	if n == 0 || m == 0 {
		return list
	}
	for i := range list {
		p := (list[i].Reference*n + 0.5) / (n + 0.5*k)
		q := (list[i].Period*m + 0.5) / (m + 0.5*k)
		list[i].PSI = (q - p) * math.Log(q/p)
	}
	return list
}
