package detect

import (
	"encoding/binary"
	"math"

	"tinbell/core/figures"
)

// running are sums that are kept as their bytes: a window of minutes has hundreds.
type running []sums

const sumsBytes = 5 * 8

// GobEncode writes them.
func (r running) GobEncode() ([]byte, error) {
	b := make([]byte, 0, sumsBytes*len(r))
	for i := range r {
		s := &r[i]
		for _, v := range [...]float64{s.X, s.Part, s.Var, s.Shift, s.N} {
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v))
		}
	}
	return b, nil
}

// GobDecode reads them; memory that is there is used again.
func (r *running) GobDecode(b []byte) error {
	if len(b)%sumsBytes != 0 {
		return figures.ErrCut
	}
	list := (*r)[:0]
	if n := len(b) / sumsBytes; list == nil || cap(list) < n {
		list = make(running, 0, n)
	}
	at := func(i int) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(b[8*i:])) }
	for ; len(b) > 0; b = b[sumsBytes:] {
		list = append(list, sums{at(0), at(1), at(2), at(3), at(4)})
	}
	*r = list
	return nil
}
