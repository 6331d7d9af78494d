// Package figures keeps many numbers as their bytes. Read one by one by reflection they take
// a hundred times as long, and states of series are read each time something is judged.
package figures

import (
	"encoding/binary"
	"errors"
	"math"
)

// Floats are numbers that are kept as eight bytes each, NaN as it is.
type Floats []float64

// ErrCut is what bytes give that are no numbers.
var ErrCut = errors.New("stored figures are cut")

// GobEncode writes them.
func (f Floats) GobEncode() ([]byte, error) {
	b := make([]byte, 0, 8*len(f))
	for _, v := range f {
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v))
	}
	return b, nil
}

// GobDecode reads them; memory that is there is used again.
func (f *Floats) GobDecode(b []byte) error {
	if len(b)%8 != 0 {
		return ErrCut
	}
	list := (*f)[:0]
	if n := len(b) / 8; list == nil || cap(list) < n {
		list = make(Floats, 0, n)
	}
	for ; len(b) > 0; b = b[8:] {
		list = append(list, math.Float64frombits(binary.LittleEndian.Uint64(b)))
	}
	*f = list
	return nil
}
