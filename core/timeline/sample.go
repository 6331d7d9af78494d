package timeline

import (
	"math"
	"sort"
	"time"
)

// Kind says what a series' values are, which decides how its baseline is built.
type Kind string

const (
	Count    Kind = "count"    // whole numbers from 0 up: rows, bytes, nulls
	Share    Kind = "share"    // 0..1, with the row count it was taken from where known
	Value    Kind = "value"    // any real number
	Duration Kind = "duration" // seconds from 0 up, spread grows with level
)

// Kinds lists the kinds in the order they are told to people.
var Kinds = []Kind{Count, Share, Value, Duration}

// Valid tells whether k is one of Kinds.
func (k Kind) Valid() bool {
	for _, known := range Kinds {
		if k == known {
			return true
		}
	}
	return false
}

// Sample is one value of a series: At is the start of its period (Unix
// seconds). A NaN value is a period that was due and did not come; a count of
// zero is a value. Rows is how many rows a share or mean was computed from,
// 0 where that is unknown, NoRows where the period came and had none.
type Sample struct {
	At    int64
	Value float64
	Rows  float64
}

// NoRows marks a period that was measured and had no rows to take a share or
// mean of: it has no value, and yet it is not missing.
const NoRows = -1

// Missing tells whether the period did not come.
func (s Sample) Missing() bool { return math.IsNaN(s.Value) }

// Periods that a dense series may have: so many, and more for each sample. What
// lies further back than that has next to no samples, and is left out, so that
// memory is bounded by what was measured and not by how long ago it began.
const (
	denseBase      = 100_000 // two months of minutes
	densePerSample = 50
)

// Dense lays samples (ascending, at most one per period) onto every period of
// the grid from the first to before end; periods without one become missing. Of
// samples that lie very far apart only the newest are kept.
func Dense(g Grid, samples []Sample, end time.Time) []Sample {
	samples = samples[denseFrom(g, samples, end):]
	if len(samples) == 0 {
		return nil
	}
	return DenseFrom(g, time.Unix(samples[0].At, 0), samples, end)
}

// denseFrom is the first sample from which a dense series up to end has no more
// periods than its samples warrant.
func denseFrom(g Grid, samples []Sample, end time.Time) int {
	step, stop := int64(g.Period/time.Second), end.Unix()
	from := len(samples)
	for i := len(samples) - 1; i >= 0; i-- {
		if (stop-samples[i].At)/step > denseBase+densePerSample*int64(len(samples)-i) {
			break
		}
		from = i
	}
	return from
}

// TooFar tells whether from lies so far before end that a series without samples
// between is not gone through period by period.
func TooFar(g Grid, from, end time.Time) bool {
	return int64(end.Sub(from)/g.Period) > denseBase
}

// DenseFrom is Dense that begins at a period start, whether or not a sample
// came then.
func DenseFrom(g Grid, start time.Time, samples []Sample, end time.Time) []Sample {
	at := start
	dense := make([]Sample, 0, min(max(int(end.Sub(start)/g.Period), 0), denseBase+densePerSample*len(samples))+8)
	step := int64(g.Period / time.Second)
	unix, stop := at.Unix(), end.Unix()
	for i := 0; unix < stop; {
		for i < len(samples) && samples[i].At < unix {
			i++
		}
		if i < len(samples) && samples[i].At == unix {
			dense = append(dense, samples[i])
		} else {
			dense = append(dense, Sample{At: unix, Value: math.NaN()})
		}
		if g.Dated() {
			at = g.Next(at)
			unix = at.Unix()
		} else {
			unix += step
		}
	}
	return dense
}

// Span is a stretch of time, From included, To not.
type Span struct{ From, To int64 }

// Mark says how a period is taken.
type Mark uint8

const (
	Judged  Mark = iota // judged and learned from
	Masked              // neither: a planned event, a labelled fault
	Lasting             // masked, and what it shows is the new normal afterwards
	Widened             // masked while inside a band that is wider than usual, else judged
)

// Mask is a set of spans whose samples are left out. Some may last: the level
// goes on from where they left it.
type Mask struct {
	spans, lasting []Span
	ordinary       []Span // left in, and never taken for a fault that nobody labelled
}

// Ordinary gives the mask with spans that somebody has called ordinary.
func (m Mask) Ordinary(spans ...Span) Mask {
	m.ordinary = Join(append(append([]Span(nil), m.ordinary...), spans...))
	return m
}

// CalledOrdinary tells whether any of [from, to) was called ordinary.
func (m Mask) CalledOrdinary(from, to int64) bool { return Mask{spans: m.ordinary}.Touches(from, to) }

// Lasting gives the mask with spans that last.
func (m Mask) Lasting(spans ...Span) Mask {
	joined := NewMask(append(append([]Span(nil), m.spans...), spans...)...)
	joined.lasting = append(append([]Span(nil), m.lasting...), spans...)
	joined.ordinary = m.ordinary
	return joined
}

// And gives the mask with further spans.
func (m Mask) And(spans ...Span) Mask {
	return Mask{spans: Join(append(append([]Span(nil), m.spans...), spans...)), lasting: m.lasting, ordinary: m.ordinary}
}

// Mark tells how a period from..to is taken.
func (m Mask) Mark(from, to int64) Mark {
	if !m.Touches(from, to) {
		return Judged
	}
	for _, s := range m.lasting {
		if s.From < to && s.To > from {
			return Lasting
		}
	}
	return Masked
}

// NewMask sorts and joins spans; empty ones are dropped.
func NewMask(spans ...Span) Mask { return Mask{spans: Join(spans)} }

// Join sorts spans and makes one of those that touch; empty ones are dropped.
func Join(spans []Span) []Span {
	kept := make([]Span, 0, len(spans))
	for _, s := range spans {
		if s.To > s.From {
			kept = append(kept, s)
		}
	}
	sort.Slice(kept, func(i, j int) bool { return kept[i].From < kept[j].From })
	joined := kept[:0]
	for _, s := range kept {
		if n := len(joined); n > 0 && s.From <= joined[n-1].To {
			joined[n-1].To = max(joined[n-1].To, s.To)
			continue
		}
		joined = append(joined, s)
	}
	return joined
}

// Spans gives the joined spans in order.
func (m Mask) Spans() []Span { return m.spans }

// Covers tells whether the instant lies in a span.
func (m Mask) Covers(unix int64) bool {
	i := sort.Search(len(m.spans), func(i int) bool { return m.spans[i].To > unix })
	return i < len(m.spans) && m.spans[i].From <= unix
}

// Touches tells whether any of [from, to) lies in a span: a sample is left out
// if any part of its period is.
func (m Mask) Touches(from, to int64) bool {
	i := sort.Search(len(m.spans), func(i int) bool { return m.spans[i].To > from })
	return i < len(m.spans) && m.spans[i].From < to
}
