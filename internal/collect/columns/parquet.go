package columns

import (
	"errors"
	"fmt"
	"io"
	"math"
	"os"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding"
	"github.com/parquet-go/parquet-go/format"

	"tinbell/core/drift"
	"tinbell/internal/collect/bound"
)

// parquetBlock is the most rows of a row group that are one block.
const parquetBlock = 1 << 20

type parquetTable struct {
	file    *os.File
	opened  *parquet.File
	columns []Column
	leaf    []int                         // of each column
	read    []func(parquet.Value) float64 // of each column, as a number
	plain   []bool                        // of each column, whether its values are double-precision figures as they lie
}

func openParquet(path string) (table Table, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("%s is no Parquet file: %v", path, broken)
		}
		if err != nil {
			f.Close()
		}
	}()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if err := bound.Footer(f, info.Size()); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	opened, err := parquet.OpenFile(f, info.Size(), parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, fmt.Errorf("%s is no Parquet file: %w", path, err)
	}
	t := &parquetTable{file: f, opened: opened}
	for _, field := range opened.Schema().Fields() {
		if !field.Leaf() || field.Repeated() {
			continue // lists and groups have no one value in a row
		}
		column, _ := opened.Schema().Lookup(field.Name())
		kind, number := numbersOf(field.Type())
		t.columns = append(t.columns, Column{Name: field.Name(), Kind: kind, Type: field.Type().String()})
		t.leaf = append(t.leaf, column.ColumnIndex)
		t.read = append(t.read, number)
		t.plain = append(t.plain, field.Type().Kind() == parquet.Double && field.Type().LogicalType() == nil)
	}
	if len(t.columns) == 0 {
		return nil, fmt.Errorf("%s has no plain columns", path)
	}
	return t, nil
}

// numbersOf tells what a type's values are, and how one is read as a number.
func numbersOf(kind parquet.Type) (drift.Kind, func(parquet.Value) float64) {
	physical := func(v parquet.Value) float64 {
		switch v.Kind() {
		case parquet.Boolean:
			if v.Boolean() {
				return 1
			}
			return 0
		case parquet.Int32:
			return float64(v.Int32())
		case parquet.Int64:
			return float64(v.Int64())
		case parquet.Float:
			return float64(v.Float())
		case parquet.Double:
			return v.Double()
		case parquet.ByteArray:
			return numberOf(string(v.ByteArray()), false)
		}
		return math.Inf(1)
	}
	scaled := func(by float64) func(parquet.Value) float64 {
		return func(v parquet.Value) float64 { return physical(v) * by }
	}
	if logical := kind.LogicalType(); logical != nil {
		switch of := logical.Value.(type) {
		case *format.TimestampType:
			return drift.Time, scaled(of.Unit.Value.Duration().Seconds())
		case *format.DateType:
			return drift.Time, scaled(86400)
		case *format.DecimalType:
			if k := kind.Kind(); k == parquet.Int32 || k == parquet.Int64 {
				return drift.Number, scaled(math.Pow10(-int(of.Scale)))
			}
		}
	}
	switch kind.Kind() {
	case parquet.Boolean:
		return drift.Boolean, physical
	case parquet.Int32, parquet.Int64, parquet.Float, parquet.Double:
		return drift.Number, physical
	}
	return drift.Category, physical
}

func (t *parquetTable) Columns() []Column { return t.columns }
func (t *parquetTable) Close() error      { return t.file.Close() }

func (t *parquetTable) Blocks(do func(Block) error) error {
	for _, group := range t.opened.RowGroups() {
		for from := int64(0); from < group.NumRows(); from += parquetBlock {
			if err := do(&parquetRows{t, group, from, min(parquetBlock, group.NumRows()-from)}); err != nil {
				return err
			}
		}
	}
	return nil
}

type parquetRows struct {
	table *parquetTable
	group parquet.RowGroup
	from  int64
	n     int64
}

func (b *parquetRows) Rows() int { return int(b.n) }

func (b *parquetRows) Numbers(column int, do func(int, []float64)) error {
	numbers := make([]float64, batch)
	var values []parquet.Value // made where a page has no plain figures
	return b.pages(column, func(page parquet.Page, at, left int) (int, error) {
		if figures, levels, plain := b.figures(column, page); plain {
			return spread(figures, levels, page, numbers, at, left, do), nil
		}
		if values == nil {
			values = make([]parquet.Value, batch)
		}
		read := b.table.read[column]
		return valuesOf(page, values, at, left, func(at int, values []parquet.Value) {
			for i, v := range values {
				if v.IsNull() {
					numbers[i] = math.NaN()
				} else {
					numbers[i] = read(v)
				}
			}
			do(at, numbers[:len(values)])
		})
	})
}

// figures are the values of a page that are there, where they lie as plain figures or as
// places in a dictionary of such, and for each row whether it has one (nil: all have).
// Handing them over value by value costs five times as much.
func (b *parquetRows) figures(column int, page parquet.Page) (at func(int) float64, levels []byte, plain bool) {
	data := page.Data()
	n := 0
	switch known := page.Dictionary(); {
	case known != nil && data.Kind() == encoding.Int32:
		index, meant := data.Int32(), make([]float64, known.Len())
		for i := range meant {
			meant[i] = b.table.read[column](known.Index(int32(i)))
		}
		at, n = func(i int) float64 { return meant[index[i]] }, len(index)
	case known == nil && b.table.plain[column] && data.Kind() == encoding.Double:
		list := data.Double()
		at, n = func(i int) float64 { return list[i] }, len(list)
	default:
		return nil, nil, false
	}
	levels = page.DefinitionLevels()
	if len(levels) == 0 {
		return at, nil, int64(n) == page.NumValues()
	}
	return at, levels, int64(len(levels)) == page.NumValues() && int64(n) == page.NumValues()-page.NumNulls()
}

// spread hands over the figures of a page, NaN for rows that have none.
func spread(figure func(int) float64, levels []byte, page parquet.Page, numbers []float64, at, left int,
	do func(int, []float64)) (took int) {
	next := 0
	for took < min(left, int(page.NumValues())) {
		n := min(batch, left-took, int(page.NumValues())-took)
		for i := range n {
			if levels != nil && levels[took+i] == 0 {
				numbers[i] = math.NaN()
				continue
			}
			numbers[i] = figure(next)
			next++
		}
		do(at+took, numbers[:n])
		took += n
	}
	return took
}

var truths = [2][]byte{[]byte("false"), []byte("true")}

func (b *parquetRows) Words(column int, do func(int, [][]byte)) error {
	words := make([][]byte, batch)
	return b.values(column, func(at int, values []parquet.Value) {
		for i, v := range values {
			switch {
			case v.IsNull():
				words[i] = nil
			case v.Kind() == parquet.ByteArray || v.Kind() == parquet.FixedLenByteArray:
				if words[i] = v.ByteArray(); words[i] == nil {
					words[i] = []byte{}
				}
			case v.Kind() == parquet.Boolean:
				words[i] = truths[map[bool]int{false: 0, true: 1}[v.Boolean()]]
			default:
				words[i] = []byte(v.String())
			}
		}
		do(at, words[:len(values)])
	})
}

// values hands over a column's values of the block.
func (b *parquetRows) values(column int, do func(int, []parquet.Value)) (err error) {
	buffer := make([]parquet.Value, batch)
	return b.pages(column, func(page parquet.Page, at, left int) (int, error) { return valuesOf(page, buffer, at, left, do) })
}

// valuesOf hands over the values of a page, at most as many as are left to be read.
func valuesOf(page parquet.Page, buffer []parquet.Value, at, left int, do func(int, []parquet.Value)) (took int, err error) {
	values := page.Values()
	for took < left {
		n, err := values.ReadValues(buffer[:min(batch, left-took)])
		do(at+took, buffer[:n])
		took += n
		if errors.Is(err, io.EOF) || n == 0 {
			break
		}
		if err != nil {
			return took, err
		}
	}
	return took, nil
}

// pages reads a column's pages of the block, until all its rows have been taken.
func (b *parquetRows) pages(column int, take func(page parquet.Page, at, left int) (int, error)) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("%s, column %s: the file is broken: %v", b.table.file.Name(), b.table.columns[column].Name, broken)
		}
	}()
	pages := b.group.ColumnChunks()[b.table.leaf[column]].Pages()
	defer pages.Close()
	if b.from > 0 {
		if err := pages.SeekToRow(b.from); err != nil {
			return err
		}
	}
	for at := 0; at < int(b.n); {
		page, err := pages.ReadPage()
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%s, column %s: it ends after %d of %d rows", b.table.file.Name(), b.table.columns[column].Name, at, b.n)
		}
		if err != nil {
			return fmt.Errorf("%s, column %s: %w", b.table.file.Name(), b.table.columns[column].Name, err)
		}
		took, err := take(page, at, int(b.n)-at)
		parquet.Release(page)
		if err != nil {
			return err
		}
		at += took
	}
	return nil
}
