package store

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"tinbell/core/timeline"
)

// encode writes rows as PostgreSQL's binary COPY does.
func encode(ids []int64, list []timeline.Sample) []byte {
	b := append([]byte("PGCOPY\n\xff\r\n\x00"), make([]byte, 8)...)
	field := func(v uint64, null bool) {
		if null {
			b = binary.BigEndian.AppendUint32(b, math.MaxUint32)
			return
		}
		b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(b, 8), v)
	}
	for i, s := range list {
		b = binary.BigEndian.AppendUint16(b, 4)
		field(uint64(ids[i]), false)
		field(uint64((s.At-postgresEpoch)*1_000_000), false)
		field(math.Float64bits(s.Value), s.Missing())
		field(math.Float64bits(max(s.Rows, 0)), s.Rows == 0)
	}
	return binary.BigEndian.AppendUint16(b, math.MaxUint16)
}

func TestCopiedRowsAreReadHoweverTheyAreCut(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	var ids []int64
	var list []timeline.Sample
	for i := range 300 {
		ids = append(ids, int64(i/70+1))
		s := timeline.Sample{At: 1_770_000_000 + int64(i%70)*3600, Value: rng.NormFloat64()}
		switch i % 5 {
		case 1:
			s.Value = math.NaN()
		case 2:
			s.Rows = 12
		case 3:
			s.Value, s.Rows = math.NaN(), timeline.NoRows
		}
		list = append(list, s)
	}
	whole := encode(ids, list)
	for range 200 {
		got := map[int64][]timeline.Sample{}
		c := copied{do: func(id int64, series []timeline.Sample) error { got[id] = series; return nil }}
		for rest := whole; len(rest) > 0; {
			n := min(1+rng.IntN(90), len(rest))
			if _, err := c.Write(append([]byte(nil), rest[:n]...)); err != nil {
				t.Fatal(err)
			}
			rest = rest[n:]
		}
		if err := c.end(); err != nil || !c.ended {
			t.Fatalf("ended %t, %v", c.ended, err)
		}
		at := map[int64]int{}
		for i, want := range list {
			id := ids[i]
			s := got[id][at[id]]
			at[id]++
			if s.At != want.At || s.Rows != want.Rows || s.Missing() != want.Missing() || !s.Missing() && s.Value != want.Value {
				t.Fatalf("row %d came back as %+v, was %+v", i, s, want)
			}
		}
	}
}

func FuzzCopied(f *testing.F) {
	f.Add(encode([]int64{1, 1, 2}, []timeline.Sample{{At: 0, Value: 1}, {At: 3600, Value: math.NaN()}, {At: 0, Value: 2, Rows: 3}}))
	f.Add([]byte("PGCOPY\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		c := copied{do: func(int64, []timeline.Sample) error { return nil }}
		c.Write(b) // an error or rows, never a crash
		c.end()
	})
}
