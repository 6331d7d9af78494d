// Package pack writes the samples of one series and day as a few bytes: times
// as steps, values as differences of whole numbers where a power of ten makes
// them whole, else as the bits in which they differ from the last. What goes in
// comes out, bit by bit. It knows nothing of storage.
package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"

	"tinbell/core/timeline"
)

// DaySeconds is the length of the day (in UTC) that a chunk covers.
const DaySeconds = 86400

// DayOf gives the day that a Unix second lies in, counted from 1970.
func DayOf(unix int64) int32 {
	day := unix / DaySeconds
	if unix%DaySeconds < 0 {
		day--
	}
	return int32(day)
}

const version = 1

// How a column is written.
const (
	absent   = 0xff // all zero: row counts that nobody gave
	bitwise  = 0xfe
	decimals = 6 // and fewer: the exponent of the power of ten
)

// ErrBroken is wrapped by the error for bytes that Pack did not write.
var ErrBroken = errors.New("chunk cannot be read")

// Pack writes samples of one day, ascending, at most one per second.
func Pack(list []timeline.Sample) []byte {
	b := append(make([]byte, 0, 24+2*len(list)), version)
	b = binary.AppendUvarint(b, uint64(len(list)))
	if len(list) == 0 {
		return b
	}
	b = packTimes(b, list)
	values, rows := make([]float64, len(list)), make([]float64, len(list))
	missing, counted := false, false
	for i, s := range list {
		values[i], rows[i] = s.Value, s.Rows
		missing, counted = missing || s.Missing(), counted || s.Rows != 0
	}
	if missing {
		b = packMissing(append(b, 1), values)
	} else {
		b = append(b, 0)
	}
	b = packColumn(b, values)
	if !counted {
		return append(b, absent)
	}
	return packColumn(b, rows)
}

// packTimes writes the first second of the day and the step, and unless all
// steps are the same (step > 0), each one.
func packTimes(b []byte, list []timeline.Sample) []byte {
	b = binary.AppendUvarint(b, uint64(list[0].At-int64(DayOf(list[0].At))*DaySeconds))
	step := uint64(1)
	if len(list) > 1 {
		step = uint64(list[1].At - list[0].At)
	}
	for i := 2; i < len(list); i++ {
		if uint64(list[i].At-list[i-1].At) != step {
			b = binary.AppendUvarint(b, 0)
			for k := 1; k < len(list); k++ {
				b = binary.AppendUvarint(b, uint64(list[k].At-list[k-1].At))
			}
			return b
		}
	}
	return binary.AppendUvarint(b, step)
}

// packMissing writes a bit for each value, and puts a zero where there is none.
func packMissing(b []byte, values []float64) []byte {
	for i, v := range values {
		if i%8 == 0 {
			b = append(b, 0)
		}
		if math.IsNaN(v) {
			b[len(b)-1] |= 1 << (i % 8)
			values[i] = 0
		}
	}
	return b
}

func packColumn(b []byte, values []float64) []byte {
	for exponent := range decimals + 1 {
		if scale := powers[exponent]; whole(values, scale) {
			b = append(b, byte(exponent))
			last := int64(0)
			for _, v := range values {
				n := int64(math.Round(v * scale))
				b = binary.AppendVarint(b, n-last)
				last = n
			}
			return b
		}
	}
	b = append(b, bitwise)
	last := uint64(0)
	for _, v := range values {
		differ := bits.ReverseBytes64(math.Float64bits(v) ^ last)
		last = math.Float64bits(v)
		b = binary.AppendUvarint(b, differ)
	}
	return b
}

var powers = [decimals + 1]float64{1, 10, 100, 1e3, 1e4, 1e5, 1e6}

// whole tells whether all values times scale are whole numbers that give the
// values back.
func whole(values []float64, scale float64) bool {
	for _, v := range values {
		n := math.Round(v * scale)
		if math.Abs(n) > 1<<52 || n/scale != v || n == 0 && math.Signbit(v) {
			return false
		}
	}
	return true
}

// Unpack appends the samples of a day's chunk.
func Unpack(list []timeline.Sample, day int32, b []byte) ([]timeline.Sample, error) {
	r := reader{b: b}
	if v := r.byte(); v != version {
		return list, fmt.Errorf("%w: version %d, this program reads %d", ErrBroken, v, version)
	}
	n := int(min(r.uvarint(), DaySeconds+1))
	if n > DaySeconds {
		return list, fmt.Errorf("%w: it says it holds more samples than a day has seconds", ErrBroken)
	}
	if n == 0 {
		return list, r.err
	}
	first := len(list)
	at := int64(day)*DaySeconds + int64(r.uvarint())
	step := int64(r.uvarint())
	list = append(list, timeline.Sample{At: at})
	for i := 1; i < n && r.err == nil; i++ {
		if step > 0 {
			at += step
		} else {
			at += int64(r.uvarint())
		}
		list = append(list, timeline.Sample{At: at})
	}
	if r.err != nil {
		return list[:first], r.err
	}
	fresh := list[first:]
	var missing []byte
	if r.byte() == 1 {
		missing = r.bytes((n + 7) / 8)
	}
	r.column(fresh, func(s *timeline.Sample, v float64) { s.Value = v })
	r.column(fresh, func(s *timeline.Sample, v float64) { s.Rows = v })
	if r.err != nil {
		return list[:first], r.err
	}
	for i := range fresh {
		if missing != nil && missing[i/8]&(1<<(i%8)) != 0 {
			fresh[i].Value = math.NaN()
		}
	}
	return list, nil
}

// reader takes a chunk apart; after an error it gives zeros.
type reader struct {
	b   []byte
	err error
}

func (r *reader) fail() { r.b, r.err = nil, fmt.Errorf("%w: it ends too early", ErrBroken) }

func (r *reader) byte() byte {
	if len(r.b) == 0 {
		r.fail()
		return 0
	}
	v := r.b[0]
	r.b = r.b[1:]
	return v
}

func (r *reader) bytes(n int) []byte {
	if len(r.b) < n {
		r.fail()
		return make([]byte, n)
	}
	v := r.b[:n]
	r.b = r.b[n:]
	return v
}

func (r *reader) uvarint() uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) varint() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) column(list []timeline.Sample, set func(*timeline.Sample, float64)) {
	switch kind := r.byte(); {
	case kind == absent:
	case kind == bitwise:
		last := uint64(0)
		for i := range list {
			last ^= bits.ReverseBytes64(r.uvarint())
			set(&list[i], math.Float64frombits(last))
		}
	case kind <= decimals:
		scale, last := powers[kind], int64(0)
		for i := range list {
			last += r.varint()
			set(&list[i], float64(last)/scale)
		}
	default:
		r.b, r.err = nil, fmt.Errorf("%w: a column of kind %d", ErrBroken, kind)
	}
}
