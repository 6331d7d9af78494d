package drift

import (
	"cmp"
	"math"
	"slices"
)

const (
	fineBins     = 256   // of a numeric feature
	fewValues    = 40    // up to so many different numbers each have a bin of their own
	knownWords   = 1000  // categories with a bin of their own
	wordsCounted = 10000 // different categories that are told apart while a layout is made
)

// Layout says how the values of one feature are counted. It is made once from a
// reference; counts over the same layout can be added up.
type Layout struct {
	Kind Kind `json:"kind"`

	// Edges of a numeric feature's bins, ascending. Bin i holds values from
	// Edges[i-1] up to but not including Edges[i]: bin 0 lies below the range of
	// the reference, the last bin above it.
	Edges    []float64 `json:"edges,omitempty"`
	Centre   float64   `json:"centre,omitempty"`   // that moments are taken around
	Discrete bool      `json:"discrete,omitempty"` // every bin is one value

	// Words are the categories with a bin of their own, most frequent first; the
	// bin after them holds all others. Rest are more that the reference knows.
	Words []string `json:"words,omitempty"`
	Rest  []string `json:"rest,omitempty"`
	Many  bool     `json:"many,omitempty"`  // there were too many to know them all
	Least float64  `json:"least,omitempty"` // of very many: rows of the reference from which on a category has a bin

	places map[string]int
	cells  cells
}

// Bins is how many bins the layout has.
func (l *Layout) Bins() int {
	if l.Kind.Numeric() {
		return len(l.Edges) + 1
	}
	return len(l.Words) + 1
}

// Bin gives the bin of a number: by a look into equal cells over the range of the edges,
// and a search without branches among the edges of its cell. Values crowd in the middle,
// where cells hold an edge or none; a far tail puts many edges into one.
func (l *Layout) Bin(x float64) int {
	edges := l.Edges
	low, n := 0, len(edges)
	if c := &l.cells; c.first != nil {
		if !(x >= edges[0]) {
			return 0
		}
		if x >= edges[n-1] {
			return n
		}
		cell := int((x - edges[0]) * c.scale)
		low = int(c.first[cell])
		n = int(c.first[cell+1]) - low
	}
	for n > 0 {
		half := (n + 1) / 2
		if edges[low+half-1] <= x {
			low += half
		}
		n -= half
	}
	return low
}

// cells tell for equal parts of the range of the edges how many edges lie before each.
type cells struct {
	scale float64 // cells a unit
	first []uint16
}

// cellsOf lays cells over edges: first[i] is how many edges every value of cell i has at
// or below it at least, first[i+1] how many it has at most. Cells are counted with the
// very reckoning that Bin finds them by, so that rounding puts no value beside its bin.
func cellsOf(edges []float64) cells {
	const each = 8
	n := len(edges)
	if n < 8 || n >= math.MaxUint16 {
		return cells{}
	}
	count := each * n
	c := cells{scale: float64(count) / (edges[n-1] - edges[0])}
	if c.scale <= 0 || math.IsInf(c.scale, 0) || math.IsNaN(c.scale) || math.IsInf(edges[n-1]-edges[0], 0) {
		return cells{}
	}
	c.first = make([]uint16, count+3)
	last := 0
	for i, e := range edges {
		cell := int((e - edges[0]) * c.scale) // values of a later cell lie above e
		if cell < last || cell > count {
			return cells{}
		}
		for k := last + 1; k <= cell; k++ {
			c.first[k] = uint16(i)
		}
		last = cell
	}
	for k := last + 1; k < len(c.first); k++ {
		c.first[k] = uint16(n)
	}
	return c
}

// place gives the bin of a category, and whether the reference knows it.
func (l *Layout) place(word []byte) (bin int, known bool) {
	if l.places == nil {
		l.Ready()
	}
	if i, there := l.places[string(word)]; there {
		return i, true
	}
	return len(l.Words), l.Many
}

// Code gives the bin of a category.
func (l *Layout) Code(word []byte) int32 {
	bin, _ := l.place(word)
	return int32(bin)
}

// Ready prepares a layout for use by several goroutines at once.
func (l *Layout) Ready() {
	places := make(map[string]int, len(l.Words)+len(l.Rest))
	for _, word := range l.Rest {
		places[word] = len(l.Words)
	}
	for i, word := range l.Words {
		places[word] = i
	}
	l.places = places
	l.cells = cellsOf(l.Edges)
}

// Usable tells whether the reference had values at all.
func (l *Layout) Usable() bool { return len(l.Edges) > 0 || len(l.Words) > 0 }

// NumberLayout makes the layout of a numeric feature from a sample of the
// reference's values, which need not be sorted, and their true range. Without
// values the layout has one bin. Up to forty different values get a bin each;
// else the edges are quantiles, ties merged.
func NumberLayout(kind Kind, sample []float64, low, high float64) *Layout {
	l := &Layout{Kind: kind}
	if len(sample) == 0 {
		return l
	}
	sorted := slices.Clone(sample)
	slices.Sort(sorted)
	l.Centre = sorted[len(sorted)/2]
	above := math.Nextafter(high, math.Inf(1))
	if different := slices.Compact(slices.Clone(sorted)); len(different) <= fewValues {
		l.Discrete = true
		l.Edges = append(l.Edges, min(low, different[0]))
		for _, v := range different {
			if v > l.Edges[len(l.Edges)-1] {
				l.Edges = append(l.Edges, v)
			}
		}
	} else {
		l.Edges = append(l.Edges, low)
		for i := 1; i < fineBins-1; i++ {
			if v := sorted[i*len(sorted)/(fineBins-1)]; v > l.Edges[len(l.Edges)-1] {
				l.Edges = append(l.Edges, v)
			}
		}
	}
	if last := l.Edges[len(l.Edges)-1]; above > last {
		l.Edges = append(l.Edges, above)
	}
	return l
}

// WordLayout makes the layout of a feature of categories from how often each
// occurred; many tells that there were more than were counted.
func WordLayout(kind Kind, counts map[string]int64, many bool) *Layout {
	words := make([]string, 0, len(counts))
	for word := range counts {
		words = append(words, word)
	}
	slices.SortFunc(words, func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	l := &Layout{Kind: kind, Words: words, Many: many || len(words) > knownWords}
	if l.Many {
		// The largest of very many are the largest because this reference has them: told
		// apart are those that another one would have chosen too, four standard
		// deviations above the first that is left out, and never under 30 rows.
		least := float64(MinRows)
		if len(words) > knownWords {
			next := float64(counts[words[knownWords]])
			least = max(least, next+4*math.Sqrt(2*next))
			l.Words = words[:knownWords]
		}
		l.Least = least
		l.Words = slices.DeleteFunc(slices.Clone(l.Words), func(word string) bool { return float64(counts[word]) < least })
	}
	return l
}
