package drift

import "math"

// Shift is values, or one category, whose share of the rows has changed.
type Shift struct {
	From  float64 `json:"from"` // of numbers
	To    float64 `json:"to"`
	Label string  `json:"label,omitempty"` // of categories
	Was   float64 `json:"was"`             // share in the reference
	Is    float64 `json:"is"`
}

// Shifts gives where values went to and where they came from: of numbers the
// stretch of neighbouring bars that gained most and the one that lost most, of
// categories the one of each. Nil where nothing gained or lost.
func Shifts(l *Layout, bars []Bar) (gained, lost *Shift) {
	best := func(to **Shift, s Shift) {
		if *to == nil || math.Abs(s.Is-s.Was) > math.Abs((*to).Is-(*to).Was) {
			*to = &s
		}
	}
	for i := 0; i < len(bars); {
		up := bars[i].Period > bars[i].Reference
		end := i + 1
		for l.Kind.Numeric() && end < len(bars) && (bars[end].Period > bars[end].Reference) == up {
			end++
		}
		s := stretch(bars[i:end], l.Discrete)
		if up {
			best(&gained, s)
		} else if s.Is < s.Was {
			best(&lost, s)
		}
		i = end
	}
	return gained, lost
}

// stretch sums neighbouring bars up, without those at its ends that hardly
// changed. Bars that are one value each end with the last of them.
func stretch(bars []Bar, values bool) Shift {
	change := func(b Bar) float64 { return math.Abs(b.Period - b.Reference) }
	most := 0.0
	for _, b := range bars {
		most = max(most, change(b))
	}
	for len(bars) > 1 && change(bars[0]) < most/5 {
		bars = bars[1:]
	}
	for len(bars) > 1 && change(bars[len(bars)-1]) < most/5 {
		bars = bars[:len(bars)-1]
	}
	s := Shift{From: bars[0].From, To: bars[len(bars)-1].To}
	switch {
	case len(bars) == 1:
		s.Label = bars[0].Label
	case values && bars[len(bars)-1].Label != Above:
		s.To = bars[len(bars)-1].From
	}
	for _, b := range bars {
		s.Was, s.Is = s.Was+b.Reference, s.Is+b.Period
	}
	return s
}
