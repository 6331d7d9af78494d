package columns

import (
	"errors"
	"fmt"
	"io"
	"math"
	"os"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"tinbell/core/drift"
)

// parquetBlock is the most rows of a row group that are one block.
const parquetBlock = 1 << 20

type parquetTable struct {
	file    *os.File
	opened  *parquet.File
	columns []Column
	leaf    []int                         // of each column
	read    []func(parquet.Value) float64 // of each column, as a number
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
	read := b.table.read[column]
	numbers := make([]float64, batch)
	return b.values(column, func(at int, values []parquet.Value) {
		for i, v := range values {
			if v.IsNull() {
				numbers[i] = math.NaN()
			} else {
				numbers[i] = read(v)
			}
		}
		do(at, numbers[:len(values)])
	})
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
	buffer := make([]parquet.Value, batch)
	at := 0
	for at < int(b.n) {
		page, err := pages.ReadPage()
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%s, column %s: it ends after %d of %d rows", b.table.file.Name(), b.table.columns[column].Name, at, b.n)
		}
		if err != nil {
			return fmt.Errorf("%s, column %s: %w", b.table.file.Name(), b.table.columns[column].Name, err)
		}
		values := page.Values()
		for at < int(b.n) {
			n, err := values.ReadValues(buffer[:min(batch, int(b.n)-at)])
			do(at, buffer[:n])
			at += n
			if errors.Is(err, io.EOF) || n == 0 {
				break
			}
			if err != nil {
				parquet.Release(page)
				return err
			}
		}
		parquet.Release(page)
	}
	return nil
}
