package columns

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"tinbell/core/drift"
)

func written(t testing.TB, name string, content []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, content, 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// read gives all values of a table as text: numbers for numeric columns.
func read(t testing.TB, path string) (map[string][]string, []Column) {
	t.Helper()
	table, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer table.Close()
	found := map[string][]string{}
	err = table.Blocks(func(b Block) error {
		for i, c := range table.Columns() {
			before := len(found[c.Name])
			var err error
			if c.Kind.Numeric() {
				err = b.Numbers(i, func(at int, values []float64) {
					if at != len(found[c.Name])-before {
						t.Errorf("%s: values of row %d come as row %d", c.Name, len(found[c.Name])-before, at)
					}
					for _, x := range values {
						found[c.Name] = append(found[c.Name], fmt.Sprint(x))
					}
				})
			} else {
				err = b.Words(i, func(at int, values [][]byte) {
					for _, word := range values {
						text := "null"
						if word != nil {
							text = string(word)
						}
						found[c.Name] = append(found[c.Name], text)
					}
				})
			}
			if err != nil {
				return err
			}
			if got := len(found[c.Name]) - before; got != b.Rows() {
				t.Errorf("%s: %d values in a block of %d rows", c.Name, got, b.Rows())
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return found, table.Columns()
}

func kindsOf(list []Column) string {
	var all []string
	for _, c := range list {
		all = append(all, c.Name+" "+string(c.Kind))
	}
	return strings.Join(all, ", ")
}

const sample = "\ufefffare,sold_at,channel,child,note\n12.5,2026-06-01T08:00:00Z,web,true,\n,2026-06-01 09:30:00+02,kiosk,false,\nn/a,2026-06-02,\"a, b\",true,\n"

func TestCSVIsReadForWhatItsColumnsHold(t *testing.T) {
	// One value in twenty may be of another kind.
	content := sample + strings.Repeat("3,2026-06-03T00:00:00Z,web,false,\n", 40)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(content))
	z.Close()
	for name, bytes := range map[string][]byte{"a.csv": []byte(content), "b.CSV.gz": packed.Bytes()} {
		values, list := read(t, written(t, name, bytes))
		if got := kindsOf(list); got != "fare number, sold_at time, channel category, child boolean, note category" {
			t.Fatalf("%s: %s", name, got)
		}
		second := time.Date(2026, 6, 1, 7, 30, 0, 0, time.UTC).Unix()
		for column, want := range map[string]string{"fare": "12.5 NaN +Inf", "sold_at": fmt.Sprint(float64(second-7200+9000),
			float64(second), float64(time.Date(2026, 6, 2, 0, 0, 0, 0, time.UTC).Unix())), "channel": "web kiosk a, b",
			"child": "true false true", "note": "null null null"} {
			if got := strings.Join(values[column][:3], " "); got != want {
				t.Errorf("%s: %s is %s, wanted %s", name, column, got, want)
			}
		}
	}
}

// every is a row of all types that Parquet files bring.
type every struct {
	N int64     `parquet:"n"`
	I *int32    `parquet:"i,optional"`
	F float32   `parquet:"f"`
	D float64   `parquet:"d"`
	M int64     `parquet:"m,decimal(2:12)"`
	B bool      `parquet:"b"`
	S *string   `parquet:"s,optional,dict"`
	T time.Time `parquet:"t,timestamp(millisecond)"`
	Y int32     `parquet:"y,date"`
	L []int64   `parquet:"l,list"`
}

func TestParquetIsReadTypeByType(t *testing.T) {
	five, word := int32(5), "web"
	when := time.Date(2026, 6, 1, 8, 0, 0, 500e6, time.UTC)
	rows := make([]every, 20000) // more than one batch
	for i := range rows {
		rows[i] = every{N: int64(i), F: 0.5, D: math.Pi, M: 1234, B: i%2 == 0, T: when, Y: 20605, L: []int64{1, 2}}
		if i%3 > 0 {
			rows[i].I, rows[i].S = &five, &word
		}
	}
	path := filepath.Join(t.TempDir(), "rows.parquet")
	if err := parquet.WriteFile(path, rows, parquet.MaxRowsPerRowGroup(7000)); err != nil {
		t.Fatal(err)
	}
	values, list := read(t, path)
	if got := kindsOf(list); got != "n number, i number, f number, d number, m number, b boolean, s category, t time, y time" {
		t.Fatal(got)
	}
	for column, want := range map[string]string{"n": "0 1 2", "i": "NaN 5 5", "f": "0.5 0.5 0.5", "m": "12.34 12.34 12.34",
		"b": "true false true", "s": "null web web",
		"t": strings.TrimSpace(strings.Repeat(fmt.Sprint(float64(when.UnixMilli())/1000)+" ", 3)),
		"y": strings.TrimSpace(strings.Repeat(fmt.Sprint(float64(20605*86400))+" ", 3))} {
		if got := strings.Join(values[column][:3], " "); got != want || len(values[column]) != len(rows) {
			t.Errorf("%s is %s, %d of them; wanted %s", column, got, len(values[column]), want)
		}
	}
	if values["n"][19999] != "19999" {
		t.Errorf("the last row is %s", values["n"][19999])
	}
}

func TestFilesThatCannotBeReadSayWhy(t *testing.T) {
	whole := filepath.Join(t.TempDir(), "whole.parquet")
	if err := parquet.WriteFile(whole, make([]every, 5000)); err != nil {
		t.Fatal(err)
	}
	content, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"a.txt":     {[]byte("a"), "rows are read from files that end in .csv"},
		"b.csv":     {nil, "is empty"},
		"c.csv":     {[]byte("a,b\n1,2\n3\n"), "line 3"},
		"d.csv":     {[]byte("a,b\n\"1,2\n"), "line"},
		"e.csv.gz":  {[]byte("a,b\n1,2\n"), "is not gzip"},
		"f.parquet": {[]byte("PAR1 and then nothing"), "is no Parquet file"},
		"g.parquet": {content[:len(content)/2], "is no Parquet file"},
	} {
		path := written(t, name, c.content)
		table, err := Open(path)
		if err == nil {
			err = table.Blocks(func(Block) error { return nil })
			table.Close()
		}
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v, wanted %q", name, err, c.want)
		}
	}
	if _, err := Open("/nowhere/x.csv"); !os.IsNotExist(err) {
		t.Errorf("a file that is not there: %v", err)
	}
}

// A file of any content is read or refused, never crashed on, and all columns of a
// block have as many values as the block has rows.
func FuzzCSV(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("a,b\n1,2\n3\n"))
	f.Add([]byte("a\n\"x"))
	f.Fuzz(func(t *testing.T, content []byte) {
		path := written(t, "x.csv", content)
		table, err := Open(path)
		if err != nil {
			return
		}
		defer table.Close()
		table.Blocks(func(b Block) error {
			for i, c := range table.Columns() {
				n := 0
				if c.Kind == drift.Category {
					b.Words(i, func(_ int, values [][]byte) { n += len(values) })
				} else {
					b.Numbers(i, func(_ int, values []float64) { n += len(values) })
				}
				if n != b.Rows() {
					t.Fatalf("column %d has %d values in %d rows", i, n, b.Rows())
				}
			}
			return nil
		})
	})
}

// A file of a few kilobytes must not make room for the gigabytes that it says its description has.
func TestAParquetFileThatPromisesGigabytesIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.parquet")
	if err := parquet.WriteFile(path, make([]every, 20)); err != nil {
		t.Fatal(err)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint32(content[len(content)-8:], 3<<30)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = Open(written(t, "huge.parquet", content))
	runtime.ReadMemStats(&after)
	if err == nil || !strings.Contains(err.Error(), "its description is said to have") {
		t.Errorf("it says: %v", err)
	}
	if took := after.TotalAlloc - before.TotalAlloc; took > 4<<20 {
		t.Errorf("%d MB were taken", took>>20)
	}
}

func FuzzParquet(f *testing.F) {
	path := filepath.Join(f.TempDir(), "seed.parquet")
	if err := parquet.WriteFile(path, make([]every, 20)); err != nil {
		f.Fatal(err)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(content)
	f.Fuzz(func(t *testing.T, content []byte) {
		table, err := Open(written(t, "x.parquet", content))
		if err != nil {
			return
		}
		defer table.Close()
		table.Blocks(func(b Block) error {
			if b.Rows() < 1 {
				t.Fatalf("a block of %d rows", b.Rows())
			}
			for i := range table.Columns() {
				if err := b.Words(i, func(int, [][]byte) {}); err != nil {
					return err
				}
				if err := b.Numbers(i, func(int, []float64) {}); err != nil {
					return err
				}
			}
			return nil
		})
	})
}
