package benchmark

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"github.com/parquet-go/parquet-go"

	"tinbell/internal/compare"
	"tinbell/internal/record"
)

// Size of the file that drift is measured on.
const (
	wideRows     = 1_000_000
	wideNumbers  = 16
	wideWords    = 4
	wideSampled  = 10000
	wideSeed     = 1
	wideTimeName = "at"
)

// driftSpeed measures a comparison of a file of a million rows and twenty
// features: its first four weeks are the reference, the others four periods.
// Beside it stands how long the same columns take to be read at all.
func driftSpeed(ctx context.Context) ([]Result, error) {
	dir, err := os.MkdirTemp("", "tinbell-drift-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "rows.parquet")
	if err := writeWide(path, wideRows); err != nil {
		return nil, err
	}
	input := &compare.Files{List: []compare.File{{Path: path}}}
	start := time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)
	settings := record.ComparisonSettings{TimeColumn: wideTimeName, Period: "week", Seed: wideSeed,
		ReferenceFrom: start.Format(time.DateOnly), ReferenceTo: start.AddDate(0, 0, 27).Format(time.DateOnly)}
	few := filepath.Join(dir, "few.parquet")
	if err := writeWide(few, wideRows/4); err != nil {
		return nil, err
	}
	quarter := &compare.Files{List: []compare.File{{Path: few}}}
	debug.FreeOSMemory()
	less, stop := watchMemory()
	if _, err := compare.Two(ctx, quarter, quarter, settings, time.UTC, false, nil); err != nil {
		return nil, err
	}
	stop()
	debug.FreeOSMemory()
	most, stop := watchMemory()
	began := time.Now()
	out, err := compare.Two(ctx, input, input, settings, time.UTC, false, nil)
	if err != nil {
		return nil, err
	}
	took := time.Since(began)
	stop()
	began = time.Now()
	if err := readWide(path); err != nil {
		return nil, err
	}
	read := time.Since(began)
	settings.SampleRows = wideSampled
	began = time.Now()
	if _, err := compare.Two(ctx, input, input, settings, time.UTC, true, nil); err != nil {
		return nil, err
	}
	whole := time.Since(began)
	return []Result{
		{fmt.Sprintf("drift of a Parquet file, %d rows x %d features, all measures but the classifier", wideRows,
			wideNumbers+wideWords), fmt.Sprintf("%.2f s", took.Seconds()),
			fmt.Sprintf("%d weeks; reading every column once: %.2f s, ratio %.2f", len(out.Periods), read.Seconds(),
				took.Seconds()/read.Seconds())},
		{"its memory", fmt.Sprintf("%d MB at most", *most>>20), fmt.Sprintf("%d MB with a quarter of the rows", *less>>20)},
		{fmt.Sprintf("classifier of %d rows x %d features", 2*wideSampled, wideNumbers+wideWords),
			fmt.Sprintf("%.2f s", (whole-took).Seconds()/float64(len(out.Periods))),
			"a period, of eight, with its share of sampling, limit and pairs"},
	}, nil
}

func writeWide(path string, rows int) error {
	group := parquet.Group{wideTimeName: parquet.Timestamp(parquet.Millisecond)}
	for i := range wideNumbers {
		group[fmt.Sprintf("n%02d", i)] = parquet.Optional(parquet.Leaf(parquet.DoubleType))
	}
	for i := range wideWords {
		group[fmt.Sprintf("w%02d", i)] = parquet.Encoded(parquet.String(), &parquet.RLEDictionary)
	}
	schema := parquet.NewSchema("rows", group)
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := parquet.NewWriter(f, schema, parquet.MaxRowsPerRowGroup(200_000))
	rng := rand.New(rand.NewPCG(wideSeed, 3))
	at := time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC).UnixMilli()
	step := int64(56*86400*1000) / int64(rows)
	batch := make([]parquet.Row, 0, 1000)
	for i := range rows {
		row := parquet.Row{parquet.Int64Value(at+int64(i)*step).Level(0, 0, 0)}
		for c := range wideNumbers {
			v := parquet.DoubleValue(rng.NormFloat64()).Level(0, 1, 1+c)
			if rng.Float64() < 0.01 {
				v = parquet.NullValue().Level(0, 0, 1+c)
			}
			row = append(row, v)
		}
		for c := range wideWords {
			row = append(row, parquet.ByteArrayValue([]byte{'a' + byte(12*math.Pow(rng.Float64(), 1.5))}).Level(0, 0, 1+wideNumbers+c))
		}
		if batch = append(batch, row); len(batch) == cap(batch) || i == rows-1 {
			if _, err := w.WriteRows(batch); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return f.Close()
}

// readWide reads every value of the file and does nothing with it.
func readWide(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	opened, err := parquet.OpenFile(f, info.Size())
	if err != nil {
		return err
	}
	buffer, seen := make([]parquet.Value, 8192), 0
	for _, group := range opened.RowGroups() {
		for _, chunk := range group.ColumnChunks() {
			pages := chunk.Pages()
			for {
				page, err := pages.ReadPage()
				if err != nil {
					break
				}
				values := page.Values()
				for n, err := 1, error(nil); n > 0 && err == nil; seen += n {
					n, err = values.ReadValues(buffer)
				}
				parquet.Release(page)
			}
			pages.Close()
		}
	}
	if want := int(opened.NumRows()) * (1 + wideNumbers + wideWords); seen != want {
		return fmt.Errorf("read %d values of %d", seen, want)
	}
	return nil
}
