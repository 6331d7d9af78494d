package columns

import (
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/parquet-go/parquet-go"
)

type plainRow struct {
	All   float64  `parquet:"all"`
	Some  *float64 `parquet:"some,optional"`
	Few   *float64 `parquet:"few,optional,dict"`
	Whole *int64   `parquet:"whole,optional"`
	Alike float64  `parquet:"alike,dict"`
}

// Figures are the same however a file keeps them: as they lie, with gaps, in a dictionary, as
// whole numbers; from any block of it.
func TestFiguresAreTheSameHoweverAFileKeepsThem(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	rows := make([]plainRow, 150_000)
	for i := range rows {
		r := &rows[i]
		r.All, r.Alike = rng.NormFloat64(), float64(rng.IntN(7))/2
		if rng.Float64() < 0.7 {
			v := rng.NormFloat64()
			r.Some = &v
		}
		if rng.Float64() < 0.2 || i > 60_000 && i < 90_000 {
			v := float64(rng.IntN(5)) - 1.5
			r.Few = &v
		}
		if rng.Float64() < 0.9 {
			v := rng.Int64N(1000)
			r.Whole = &v
		}
	}
	path := filepath.Join(t.TempDir(), "rows.parquet")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	w := parquet.NewGenericWriter[plainRow](f, parquet.PageBufferSize(30_000))
	if _, err := w.Write(rows); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	f.Close()
	table, err := openParquet(path)
	if err != nil {
		t.Fatal(err)
	}
	defer table.Close()
	or := func(v *float64) float64 {
		if v == nil {
			return math.NaN()
		}
		return *v
	}
	want := map[string]func(plainRow) float64{"all": func(r plainRow) float64 { return r.All },
		"alike": func(r plainRow) float64 { return r.Alike },
		"some":  func(r plainRow) float64 { return or(r.Some) }, "few": func(r plainRow) float64 { return or(r.Few) },
		"whole": func(r plainRow) float64 {
			if r.Whole == nil {
				return math.NaN()
			}
			return float64(*r.Whole)
		}}
	first := 0
	err = table.Blocks(func(b Block) error {
		for c, column := range table.Columns() {
			seen := 0
			err := b.Numbers(c, func(at int, values []float64) {
				for i, v := range values {
					should := want[column.Name](rows[first+at+i])
					if v != should && !(math.IsNaN(v) && math.IsNaN(should)) {
						t.Fatalf("%s, row %d: %v, want %v", column.Name, first+at+i, v, should)
					}
				}
				seen += len(values)
			})
			if err != nil || seen != b.Rows() {
				t.Errorf("%s: %d of %d rows, %v", column.Name, seen, b.Rows(), err)
			}
		}
		first += b.Rows()
		return nil
	})
	if err != nil || first != len(rows) {
		t.Errorf("%d of %d rows, %v", first, len(rows), err)
	}
}
