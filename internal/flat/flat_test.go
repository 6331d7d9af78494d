package flat

import (
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
)

type figure struct {
	Estimate *float64 `json:"estimate"`
	Low      float64  `json:"low"`
}

type base struct {
	ID int64 `json:"id"`
}

type row struct {
	base
	At     time.Time      `json:"at"`
	Until  *time.Time     `json:"until"`
	Share  figure         `json:"share"`
	Words  []string       `json:"words"`
	Parts  map[string]int `json:"parts"`
	Good   bool           `json:"good"`
	Hidden string         `json:"-"`
}

var (
	half = 0.1234567890123
	at   = time.Date(2026, 6, 1, 9, 0, 0, 0, time.FixedZone("ADT", -3*3600))
	two  = []row{{base{7}, at, nil, figure{&half, 2e-9}, []string{"a", "b"}, map[string]int{"x": 1}, true, "secret"},
		{base{8}, at, &at, figure{}, nil, nil, false, ""}}
)

const asCSV = "id,at,until,share_estimate,share_low,words,parts,good\n" +
	"7,2026-06-01T12:00:00Z,,0.1234567890123,2e-09,a; b,\"{\"\"x\"\":1}\",true\n" +
	"8,2026-06-01T12:00:00Z,2026-06-01T12:00:00Z,,0,,,false\n"

func TestRecordsAreWrittenOneColumnAFigure(t *testing.T) {
	var b bytes.Buffer
	if err := written(&b, CSV, two); err != nil || b.String() != asCSV {
		t.Errorf("%v\n%s", err, b.String())
	}
	head, rows, ok := Table(struct {
		Rows []row  `json:"rows"`
		Next string `json:"next"`
	}{two, "more"})
	if !ok || strings.Join(head, ",") != strings.SplitN(asCSV, "\n", 2)[0] || len(rows) != 2 {
		t.Errorf("of a page, its list: %v %v", head, ok)
	}
	if _, _, ok := Table(map[string]int{}); ok {
		t.Error("a map is no list")
	}
	b.Reset()
	if err := written(&b, NDJSON, two); err != nil {
		t.Error(err)
	}
	var back row
	if lines := strings.Split(strings.TrimSpace(b.String()), "\n"); len(lines) != 2 || json.Unmarshal([]byte(lines[0]),
		&back) != nil || back.ID != 7 || *back.Share.Estimate != half || back.Hidden != "" {
		t.Errorf("%s", b.String())
	}
	if err := written(&b, "xml", two); err == nil || !strings.Contains(err.Error(), "csv, ndjson and parquet") {
		t.Errorf("%v", err)
	}
}

func TestParquetKeepsOrderTypesAndWhatIsNotThere(t *testing.T) {
	var b bytes.Buffer
	if err := written(&b, Parquet, two); err != nil {
		t.Fatal(err)
	}
	file, err := parquet.OpenFile(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, c := range file.Schema().Columns() {
		names = append(names, c[0])
	}
	if strings.Join(names, ",") != strings.SplitN(asCSV, "\n", 2)[0] {
		t.Errorf("columns %v", names)
	}
	type read struct {
		ID       *int64     `parquet:"id,optional"`
		At       *time.Time `parquet:"at,optional,timestamp(millisecond)"`
		Until    *time.Time `parquet:"until,optional,timestamp(millisecond)"`
		Estimate *float64   `parquet:"share_estimate,optional"`
		Words    *string    `parquet:"words,optional"`
		Good     *bool      `parquet:"good,optional"`
	}
	back, err := parquet.Read[read](bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil || len(back) != 2 {
		t.Fatalf("%v, %d rows", err, len(back))
	}
	if r := back[0]; *r.ID != 7 || !r.At.Equal(at) || r.Until != nil || *r.Estimate != half || *r.Words != "a; b" || !*r.Good {
		t.Errorf("%+v", r)
	}
	if r := back[1]; *r.ID != 8 || !r.Until.Equal(at) || r.Estimate != nil || *r.Good {
		t.Errorf("%+v", r)
	}
}

// written writes a whole list.
func written[T any](to io.Writer, f Format, list []T) error {
	w, err := NewWriter[T](to, f)
	if err != nil {
		return err
	}
	for _, record := range list {
		if err := w.Put(record); err != nil {
			return err
		}
	}
	return w.Close()
}
