package drift

import (
	"cmp"
	"maps"
	"math"
	"slices"
)

// newNamed is how many categories unknown to the reference are kept by name.
const newNamed = 50

// Counts are what is kept of a feature's values over a stretch: enough for all
// measures, and two stretches' counts can be added up. Values are counted over
// a Layout; a row's value is in a bin, missing, or unreadable.
type Counts struct {
	Rows       int64   `json:"rows"`
	Missing    int64   `json:"missing"`    // null
	Unreadable int64   `json:"unreadable"` // not of the feature's kind
	Bins       []int64 `json:"bins"`

	// Of numbers: moments around the layout's centre, range, and how far values
	// lie outside the reference's range, summed.
	Sum     float64 `json:"sum"`
	Squares float64 `json:"squares"`
	Min     float64 `json:"min"`
	Max     float64 `json:"max"`
	Below   float64 `json:"below"`
	Above   float64 `json:"above"`

	// Of categories: rows of those that the reference does not know, with names.
	Fresh int64            `json:"fresh"`
	New   map[string]int64 `json:"new,omitempty"`
}

// NewCounts are empty counts over a layout.
func NewCounts(l *Layout) Counts { return Counts{Bins: make([]int64, l.Bins())} }

// Values is how many rows have a value that is counted.
func (c *Counts) Values() int64 { return c.Rows - c.Missing - c.Unreadable }

// Number counts a value; NaN is missing, an infinity unreadable.
func (c *Counts) Number(l *Layout, x float64) {
	c.Rows++
	if x-x != 0 {
		if x != x {
			c.Missing++
		} else {
			c.Unreadable++
		}
		return
	}
	if c.Rows-c.Missing-c.Unreadable == 1 {
		c.Min, c.Max = x, x
	} else if x < c.Min {
		c.Min = x
	} else if x > c.Max {
		c.Max = x
	}
	d := x - l.Centre
	c.Sum += d
	c.Squares += d * d
	bin := l.Bin(x)
	c.Bins[bin]++
	if bin == 0 && len(l.Edges) > 0 {
		c.Below += l.Edges[0] - x
	} else if bin == len(l.Edges) && bin > 0 {
		c.Above += x - l.Edges[bin-1]
	}
}

// Numbers counts values as Number does, one after another.
func (c *Counts) Numbers(l *Layout, values []float64) {
	if c.Values() == 0 {
		for len(values) > 0 && c.Values() == 0 { // the first sets the range
			c.Number(l, values[0])
			values = values[1:]
		}
	}
	least, most, sum, squares := c.Min, c.Max, c.Sum, c.Squares
	centre, bins, last := l.Centre, c.Bins, len(l.Edges)
	for _, x := range values {
		if x-x != 0 {
			if x != x {
				c.Missing++
			} else {
				c.Unreadable++
			}
			continue
		}
		least, most = min(least, x), max(most, x)
		d := x - centre
		sum += d
		squares += d * d
		bin := l.Bin(x)
		bins[bin]++
		if last > 0 {
			if bin == 0 {
				c.Below += l.Edges[0] - x
			} else if bin == last {
				c.Above += x - l.Edges[bin-1]
			}
		}
	}
	c.Rows += int64(len(values))
	c.Min, c.Max, c.Sum, c.Squares = least, most, sum, squares
}

// Word counts a category.
func (c *Counts) Word(l *Layout, word []byte) {
	bin, known := l.place(word)
	c.word(bin, known, word)
}

// Found counts a category as Word does, with the help of those found before.
func (c *Counts) Found(f *Finder, word []byte) {
	bin, known := f.place(word)
	c.word(bin, known, word)
}

func (c *Counts) word(bin int, known bool, word []byte) {
	c.Rows++
	c.Bins[bin]++
	if !known {
		c.fresh(string(word), 1)
	}
}

// Finder finds the bins of categories and remembers those of the last ones: most columns
// have few, and comparing is cheaper than hashing. It is for one goroutine.
type Finder struct {
	layout *Layout
	words  [finderSlots]string
	bins   [finderSlots]int
}

const finderSlots = 128

// Finder makes one over a layout.
func (l *Layout) Finder() *Finder { return &Finder{layout: l} }

func (f *Finder) place(word []byte) (bin int, known bool) {
	n := len(word)
	if n == 0 {
		return f.layout.place(word)
	}
	slot := (n*37 + int(word[0])*5 + int(word[n-1])*11 + int(word[n/2])) % finderSlots
	if f.words[slot] == string(word) {
		return f.bins[slot], true
	}
	bin, known = f.layout.place(word)
	if known && bin < len(f.layout.Words) {
		f.words[slot], f.bins[slot] = f.layout.Words[bin], bin
	}
	return bin, known
}

// Words counts as many rows of a category at once.
func (c *Counts) Words(l *Layout, word string, rows int64) {
	c.Rows += rows
	bin, known := l.place([]byte(word))
	c.Bins[bin] += rows
	if !known {
		c.fresh(word, rows)
	}
}

func (c *Counts) fresh(word string, n int64) {
	c.Fresh += n
	if c.New == nil {
		c.New = map[string]int64{}
	}
	if _, there := c.New[word]; there || len(c.New) < newNamed {
		c.New[word] += n
	}
}

// Nothing counts a row without a value; unreadable tells that it had one of
// another kind.
func (c *Counts) Nothing(unreadable bool) {
	c.Rows++
	if unreadable {
		c.Unreadable++
	} else {
		c.Missing++
	}
}

// Join adds the counts of another stretch over the same layout.
func (c *Counts) Join(o *Counts) {
	if o.Values() > 0 {
		if c.Values() == 0 {
			c.Min, c.Max = o.Min, o.Max
		} else {
			c.Min, c.Max = min(c.Min, o.Min), max(c.Max, o.Max)
		}
	}
	c.Rows, c.Missing, c.Unreadable = c.Rows+o.Rows, c.Missing+o.Missing, c.Unreadable+o.Unreadable
	for i, n := range o.Bins {
		c.Bins[i] += n
	}
	c.Sum, c.Squares, c.Below, c.Above = c.Sum+o.Sum, c.Squares+o.Squares, c.Below+o.Below, c.Above+o.Above
	fresh := c.Fresh + o.Fresh
	for _, word := range slices.Sorted(maps.Keys(o.New)) {
		c.fresh(word, o.New[word])
	}
	c.Fresh = fresh
}

// Total adds up counts over a layout.
func Total(l *Layout, parts []Counts) Counts {
	sum := NewCounts(l)
	for i := range parts {
		sum.Join(&parts[i])
	}
	return sum
}

// Mean and standard deviation of the values; NaN without values.
func (c *Counts) Mean(l *Layout) (mean, sd float64) {
	n := float64(c.Values())
	if n == 0 {
		return math.NaN(), math.NaN()
	}
	m := c.Sum / n
	return l.Centre + m, math.Sqrt(max(0, c.Squares/n-m*m))
}

// NewWords are the categories that the reference does not know, most frequent
// first.
func (c *Counts) NewWords() []string {
	return slices.SortedFunc(maps.Keys(c.New), func(a, b string) int {
		return cmp.Or(cmp.Compare(c.New[b], c.New[a]), cmp.Compare(a, b))
	})
}

// Quantile is the value below which a share of the values lies, read from the
// bins, straight within each; NaN without values.
func (c *Counts) Quantile(l *Layout, share float64) float64 {
	total := float64(c.Values())
	if total == 0 {
		return math.NaN()
	}
	want, below := share*total, 0.0
	for i, n := range c.Bins {
		if n > 0 && below+float64(n) >= want {
			low, high := c.span(l, i)
			if l.Discrete {
				return low
			}
			return low + (high-low)*(want-below)/float64(n)
		}
		below += float64(n)
	}
	return c.Max
}

// span is the stretch of values that a numeric bin holds.
func (c *Counts) span(l *Layout, bin int) (low, high float64) {
	low, high = c.Min, c.Max
	if bin > 0 {
		low = max(l.Edges[bin-1], c.Min)
	}
	if bin < len(l.Edges) {
		high = min(l.Edges[bin], c.Max)
	}
	return low, high
}
