package baseline

import (
	"encoding/binary"
	"errors"
	"math"
	"slices"
)

// profile are fading means by period of the day or the week. Those of a series of
// minutes are many, and of a stored state only a few are asked for at a time: they
// stay as they were stored, in single precision, which rounds a sum by less than a
// millionth of itself.
type profile struct {
	list []fading
	raw  []byte // in place of the list: the sums, then the weights
}

// manyFadings is from how many on they are stored in single precision.
const manyFadings = 2 * 288

const (
	single = 4 // bytes of a number
	double = 8
)

// width is how many bytes each number of so many fadings takes.
func width(n int) int {
	if n >= manyFadings {
		return single
	}
	return double
}

var errProfile = errors.New("the stored profile is cut or no profile")

func (p *profile) at(i int) fading {
	if p.raw == nil {
		return p.list[i]
	}
	return p.stored(i)
}

func (p *profile) stored(i int) fading {
	half := len(p.raw) / 2
	return fading{singleAt(p.raw[single*i:]), singleAt(p.raw[half+single*i:])}
}

// see takes a visit of one period.
func (p *profile) see(i int, keep, value, weight float64) {
	if p.raw == nil {
		p.list[i].see(keep, value, weight)
		return
	}
	f := p.stored(i)
	f.see(keep, value, weight)
	p.put(i, f)
}

func (p *profile) put(i int, f fading) {
	if p.raw == nil {
		p.list[i] = f
		return
	}
	half := len(p.raw) / 2
	putSingle(p.raw[single*i:], f.Sum)
	putSingle(p.raw[half+single*i:], f.Weight)
}

// fill makes it the same in all periods.
func (p *profile) fill(f fading) {
	for i := range max(len(p.list), len(p.raw)/single/2) {
		p.put(i, f)
	}
}

func singleAt(b []byte) float64 {
	return float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))
}

func putSingle(b []byte, v float64) {
	binary.LittleEndian.PutUint32(b, math.Float32bits(float32(v)))
}

func doubleAt(b []byte) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(b)) }

// appendTo writes how many fadings there are, and their sums and weights.
func (p *profile) appendTo(b []byte) []byte {
	if p.raw != nil {
		b = binary.AppendUvarint(b, uint64(len(p.raw)/single/2))
		return append(b, p.raw...)
	}
	b = binary.AppendUvarint(b, uint64(len(p.list)))
	size := width(len(p.list))
	half := len(p.list) * size
	b = slices.Grow(b, 2*half)
	own := b[len(b) : len(b)+2*half]
	for i, f := range p.list {
		if size == single {
			putSingle(own[single*i:], f.Sum)
			putSingle(own[half+single*i:], f.Weight)
		} else {
			binary.LittleEndian.PutUint64(own[double*i:], math.Float64bits(f.Sum))
			binary.LittleEndian.PutUint64(own[half+double*i:], math.Float64bits(f.Weight))
		}
	}
	return b[:len(b)+2*half]
}

// take reads what appendTo wrote, and gives what follows it. Many are not read but
// kept: the bytes are the profile's from then on.
func (p *profile) take(b []byte) (rest []byte, err error) {
	n, k := binary.Uvarint(b)
	b = b[max(k, 0):]
	size := width(int(min(n, manyFadings)))
	if k <= 0 || n > uint64(len(b)/size/2) {
		return nil, errProfile
	}
	half := int(n) * size
	own, rest := b[:2*half:2*half], b[2*half:]
	if size == single {
		*p = profile{raw: own}
		return rest, nil
	}
	*p = profile{list: make([]fading, n)}
	for i := range p.list {
		p.list[i] = fading{doubleAt(own[double*i:]), doubleAt(own[half+double*i:])}
	}
	return rest, nil
}

// ProfileBytes is how long what AppendProfiles writes is, at most.
func (m *Model) ProfileBytes() (n int) {
	for _, p := range []*profile{&m.cells, &m.slots, &m.scales} {
		n += binary.MaxVarintLen64 + len(p.raw) + 2*len(p.list)*width(len(p.list))
	}
	return n
}

// AppendProfiles writes the profiles by period, the large part of a model, which
// its exported fields are without.
func (m *Model) AppendProfiles(b []byte) []byte {
	for _, p := range []*profile{&m.cells, &m.slots, &m.scales} {
		b = p.appendTo(b)
	}
	return b
}

// TakeProfiles gives a model what AppendProfiles wrote. The bytes are the model's
// from then on. Bytes that are no profiles of it are an error.
func (m *Model) TakeProfiles(b []byte) (err error) {
	for _, p := range []*profile{&m.cells, &m.slots, &m.scales} {
		if b, err = p.take(b); err != nil {
			return err
		}
	}
	if len(b) > 0 {
		return errProfile
	}
	return nil
}
