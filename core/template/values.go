package template

import (
	"bytes"
	"cmp"
	"maps"
	"math"
	"math/bits"
	"slices"
	"strconv"
)

const (
	// mostCounted is how many values of a part are counted by name.
	mostCounted = 32
	// registers of the estimate of how many values differ: its error is 1.04/√256, 6.5 %.
	registers = 256
	// step is by how much the bounds of a part's numbers grow: quantiles are right to 2.5 %.
	step = 1.05
	// mostBounds is how many bounds a part's numbers may fill: below the first they are one.
	mostBounds = 600
	// longestValue is how much of a value is kept.
	longestValue = 80
)

// Values sums up what stood in a variable part of a template, in bounded space: the most
// frequent values (Misra and Gries 1982: a count is at most Lines/33 too low), how many
// differ (Flajolet, Fusy, Gandouet and Meunier 2007), and quantiles of numbers by bounds
// that grow geometrically (Masson, Rim and Lee 2019). Sums of two stretches add up.
type Values struct {
	Lines    int64            `json:"lines"`
	Frequent map[string]int64 `json:"frequent"`
	Register []byte           `json:"register"`
	Numbers  int64            `json:"numbers"` // of Lines those that were numbers
	Bounds   map[int]int64    `json:"bounds,omitempty"`
	Least    float64          `json:"least"`
	Most     float64          `json:"most"`
}

// NewValues is an empty sum.
func NewValues() *Values {
	return &Values{Frequent: map[string]int64{}, Register: make([]byte, registers), Bounds: map[int]int64{}}
}

// Add takes a value in; mask gives it as it may be kept.
func (v *Values) Add(kind Kind, text []byte, mask func([]byte) []byte) {
	v.Lines++
	h := mix(hash(seed, text))
	at := h >> 56
	v.Register[at] = max(v.Register[at], byte(bits.LeadingZeros64(h<<8|1)+1))
	if n, there := v.Frequent[string(text)]; there {
		v.Frequent[string(text)] = n + 1
	} else {
		v.count(string(shorten(mask(text))), 1)
	}
	if kind != Number {
		return
	}
	if x, ok := quantity(text); ok {
		if v.Numbers == 0 || x < v.Least {
			v.Least = x
		}
		if v.Numbers == 0 || x > v.Most {
			v.Most = x
		}
		v.Numbers++
		v.Bounds[bound(x)]++
		v.narrow()
	}
}

// mix spreads a hash over its upper bits (the finaliser of Appleby's).
func mix(h uint64) uint64 {
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

func shorten(text []byte) []byte {
	if len(text) <= longestValue {
		return text
	}
	return append(bytes.ToValidUTF8(slices.Clone(text[:longestValue]), nil), "…"...)
}

func (v *Values) count(value string, n int64) {
	if v.Frequent[value] += n; len(v.Frequent) > mostCounted {
		least := int64(math.MaxInt64)
		for _, n := range v.Frequent {
			least = min(least, n)
		}
		for value := range v.Frequent {
			if v.Frequent[value] -= least; v.Frequent[value] == 0 {
				delete(v.Frequent, value)
			}
		}
	}
}

// Merge takes another sum in.
func (v *Values) Merge(o *Values) {
	v.Lines += o.Lines
	for _, value := range slices.Sorted(maps.Keys(o.Frequent)) {
		v.count(value, o.Frequent[value])
	}
	for i := range min(len(v.Register), len(o.Register)) {
		v.Register[i] = max(v.Register[i], o.Register[i])
	}
	if o.Numbers == 0 {
		return
	}
	if v.Numbers == 0 {
		v.Least, v.Most = o.Least, o.Most
	}
	v.Least, v.Most, v.Numbers = min(v.Least, o.Least), max(v.Most, o.Most), v.Numbers+o.Numbers
	if v.Bounds == nil {
		v.Bounds = map[int]int64{}
	}
	for b, n := range o.Bounds {
		v.Bounds[b] += n
	}
	v.narrow()
}

// bound is the place of a number among the bounds: 0 is nought, below are negatives.
func bound(x float64) int {
	if math.Abs(x) < 1e-9 {
		return 0
	}
	i := int(math.Ceil(math.Log(math.Abs(x)/1e-9) / math.Log(step)))
	if x < 0 {
		return -i - 1
	}
	return i + 1
}

// middle is the number that stands for a bound's.
func middle(b int) float64 {
	switch {
	case b == 0:
		return 0
	case b < 0:
		return -middle(-b)
	}
	return 1e-9 * 2 * math.Pow(step, float64(b-1)) / (1 + step)
}

// narrow puts the lowest numbers together where they fill too many bounds.
func (v *Values) narrow() {
	if len(v.Bounds) <= mostBounds {
		return
	}
	list := slices.Sorted(maps.Keys(v.Bounds))
	first := list[len(list)-mostBounds/2]
	for _, b := range list[:len(list)-mostBounds/2] {
		v.Bounds[first] += v.Bounds[b]
		delete(v.Bounds, b)
	}
}

// Distinct estimates how many values differ.
func (v *Values) Distinct() int64 {
	sum, empty := 0.0, 0
	for _, r := range v.Register {
		if r == 0 {
			empty++
		}
		sum += math.Ldexp(1, -int(r))
	}
	m := float64(registers)
	estimate := 0.7213 / (1 + 1.079/m) * m * m / sum
	if estimate < 2.5*m && empty > 0 {
		estimate = m * math.Log(m/float64(empty))
	}
	return min(int64(math.Round(estimate)), v.Lines)
}

// Quantile gives the q-quantile of the numbers; NaN where there are none.
func (v *Values) Quantile(q float64) float64 {
	if v.Numbers == 0 {
		return math.NaN()
	}
	rank := int64(math.Ceil(q * float64(v.Numbers)))
	for _, b := range slices.Sorted(maps.Keys(v.Bounds)) {
		if rank -= v.Bounds[b]; rank <= 0 {
			return min(max(middle(b), v.Least), v.Most)
		}
	}
	return v.Most
}

// Valued is a value and how many lines had it, at least.
type Valued struct {
	Value string `json:"value"`
	Lines int64  `json:"lines"`
}

// Top gives the most frequent values, but those that were too rare to be told from others.
func (v *Values) Top(most int) []Valued {
	list := []Valued{}
	for value, n := range v.Frequent {
		list = append(list, Valued{value, n})
	}
	slices.SortFunc(list, func(a, b Valued) int { return cmp.Or(cmp.Compare(b.Lines, a.Lines), cmp.Compare(a.Value, b.Value)) })
	return list[:min(most, len(list))]
}

// units are what numbers of lines are measured in: seconds and bytes.
var unitOf = map[string]float64{
	"ns": 1e-9, "us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1, "m": 60, "min": 60, "h": 3600,
	"B": 1, "kB": 1e3, "KB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40, "%": 1,
}

// quantity reads a number as lines write it: with separators, and with units of time (in
// seconds) and of size (in bytes), also several after each other, as 1m30s.
func quantity(text []byte) (x float64, ok bool) {
	text = bytes.ReplaceAll(text, []byte(","), nil)
	text = bytes.ReplaceAll(text, []byte("_"), nil)
	if x, err := strconv.ParseFloat(string(text), 64); err == nil {
		return x, !math.IsInf(x, 0) && !math.IsNaN(x)
	}
	sign := 1.0
	if len(text) > 0 && (text[0] == '-' || text[0] == '+') {
		if text[0] == '-' {
			sign = -1
		}
		text = text[1:]
	}
	for len(text) > 0 {
		n := 0
		for n < len(text) && (isDigit(text[n]) || text[n] == '.') {
			n++
		}
		value, err := strconv.ParseFloat(string(text[:n]), 64)
		if err != nil {
			return 0, false
		}
		k := n
		for k < len(text) && !isDigit(text[k]) {
			k++
		}
		unit, known := unitOf[string(text[n:k])]
		if !known && k > n {
			unit = 1 // of something else
		}
		if k == n {
			return 0, false
		}
		x, text = x+value*unit, text[k:]
	}
	return sign * x, true
}

// PlaceOf is a variable part of a line: its place in the template, what it is, and where
// it stands.
type PlaceOf struct {
	Place    int
	Kind     Kind
	From, To int
}

// mostPlaces is of how many variable parts of a template values are summed up.
const mostPlaces = 8

// Vary gives the parts that vary of the line taken last, but times and those that hold
// secrets; nothing where the line's parts are not the template's. It is overwritten by the next.
func (m *Miner) Vary(t *Template, list []PlaceOf) []PlaceOf {
	if list = list[:0]; t == nil || len(t.Places) != len(m.parts) {
		return list
	}
	for i, p := range m.parts {
		if place := &t.Places[i]; !place.Kind.Varies() || !place.Varied || place.Held || place.Kind == Time || p.Hidden {
			continue
		}
		if list = append(list, PlaceOf{i, p.Kind, p.From, p.To}); len(list) == mostPlaces {
			break
		}
	}
	return list
}
