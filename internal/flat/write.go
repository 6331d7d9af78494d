package flat

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"time"

	"github.com/parquet-go/parquet-go"
)

// Format is how records are written.
type Format string

const (
	CSV     Format = "csv"
	NDJSON  Format = "ndjson"
	Parquet Format = "parquet"
)

// Media is the media type of a format.
func (f Format) Media() string {
	return map[Format]string{CSV: "text/csv; charset=utf-8", NDJSON: "application/x-ndjson", Parquet: "application/vnd.apache.parquet"}[f]
}

// Writer writes records of one type, one after another, and holds none of them.
type Writer[T any] struct {
	columns []column
	csv     *csv.Writer
	json    *json.Encoder
	parquet *parquet.Writer
	row     reflect.Type
}

// NewWriter begins a file of records in a format.
func NewWriter[T any](to io.Writer, f Format) (*Writer[T], error) {
	w := &Writer[T]{columns: columnsOf(reflect.TypeFor[T](), "", nil)}
	switch f {
	case CSV:
		w.csv = csv.NewWriter(to)
		head := make([]string, len(w.columns))
		for i, c := range w.columns {
			head[i] = c.name
		}
		return w, w.csv.Write(head)
	case NDJSON:
		w.json = json.NewEncoder(to)
		return w, nil
	case Parquet:
		w.row = rowOf(w.columns)
		w.parquet = parquet.NewWriter(to, parquet.SchemaOf(reflect.New(w.row).Interface()))
		return w, nil
	}
	return nil, fmt.Errorf("format %q: allowed are csv, ndjson and parquet", f)
}

// Put writes a record.
func (w *Writer[T]) Put(record T) error {
	v := reflect.ValueOf(record)
	switch {
	case w.csv != nil:
		return w.csv.Write(texts(w.columns, v))
	case w.json != nil:
		return w.json.Encode(record)
	}
	row := reflect.New(w.row).Elem()
	for i, c := range w.columns {
		if value := c.of(v); value.IsValid() {
			fill(row.Field(i), value)
		}
	}
	return w.parquet.Write(row.Addr().Interface())
}

// Close ends the file.
func (w *Writer[T]) Close() error {
	switch {
	case w.csv != nil:
		w.csv.Flush()
		return w.csv.Error()
	case w.parquet != nil:
		return w.parquet.Close()
	}
	return nil
}

// rowOf is a type of optional members, in the order of the columns: numbers, flags,
// times to the millisecond, and everything else as text.
func rowOf(columns []column) reflect.Type {
	fields := make([]reflect.StructField, len(columns))
	for i, c := range columns {
		tag, kind := c.name+",optional", reflect.TypeFor[string]()
		switch {
		case c.kind == reflect.TypeFor[time.Time]():
			tag, kind = tag+",timestamp(millisecond)", c.kind
		case c.kind.Kind() >= reflect.Int && c.kind.Kind() <= reflect.Int64:
			kind = reflect.TypeFor[int64]()
		case c.kind.Kind() == reflect.Float64:
			kind = reflect.TypeFor[float64]()
		case c.kind.Kind() == reflect.Bool:
			kind = reflect.TypeFor[bool]()
		}
		fields[i] = reflect.StructField{Name: fmt.Sprintf("F%d", i), Type: reflect.PointerTo(kind),
			Tag: reflect.StructTag(fmt.Sprintf("parquet:%q", tag))}
	}
	return reflect.StructOf(fields)
}

func fill(into, value reflect.Value) {
	p := reflect.New(into.Type().Elem())
	switch e := p.Elem(); {
	case e.Type() == reflect.TypeFor[time.Time]():
		if value.Interface().(time.Time).IsZero() {
			return
		}
		e.Set(value)
	case e.Kind() == reflect.Int64:
		e.SetInt(value.Int())
	case e.Kind() == reflect.Float64:
		e.SetFloat(value.Float())
	case e.Kind() == reflect.Bool:
		e.SetBool(value.Bool())
	default:
		e.SetString(plain(value))
	}
	into.Set(p)
}
