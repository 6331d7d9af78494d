package landing

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
)

func write(t *testing.T, name string, content []byte) string {
	t.Helper()
	full := filepath.Join(t.TempDir(), name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(full, content, 0o644); err != nil {
		t.Fatal(err)
	}
	return full
}

func zipped(text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	fmt.Fprint(z, text)
	z.Close()
	return b.Bytes()
}

func packed(t *testing.T, rows int) []byte {
	t.Helper()
	type line struct {
		Partner string   `parquet:"partner"`
		Weight  *float64 `parquet:"weight_kg,optional"`
	}
	var b bytes.Buffer
	w := parquet.NewGenericWriter[line](&b)
	for range rows {
		if _, err := w.Write([]line{{Partner: "Orme"}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestRowsAndColumnsOfEachFormat(t *testing.T) {
	text := "partner,parcels\nOrme,3\nOrme,\"4\n5\"\n"
	lines := "{\"partner\":\"Orme\",\"parcels\":3}\n\n{\"partner\":null,\"note\":\"x\"}\n"
	for name, c := range map[string]struct {
		content []byte
		rows    int64
		columns string
	}{
		"a.csv": {[]byte(text), 2, "partner parcels"}, "a.csv.gz": {zipped(text), 2, "partner parcels"}, "empty.csv": {nil, 0, ""},
		"a.ndjson": {[]byte(lines), 2, "note parcels partner"}, "a.jsonl.gz": {zipped(lines), 2, "note parcels partner"},
		"a.parquet": {packed(t, 7), 7, "partner weight_kg"}, "a.bin": {[]byte("whatever"), -1, ""},
	} {
		got, err := Read(write(t, name, c.content))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var columns []string
		for _, one := range got.Columns {
			columns = append(columns, one.Name)
		}
		if got.Rows != c.rows || strings.Join(columns, " ") != c.columns || len(got.Digest) != 32 {
			t.Errorf("%s: %d rows of %v, want %d of %s", name, got.Rows, columns, c.rows, c.columns)
		}
	}
}

func TestBrokenFilesSayWhere(t *testing.T) {
	long := "partner,parcels\n" + strings.Repeat("Orme,3\n", 9000)
	cut := zipped(long)
	parquet := packed(t, 7)
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"fields.csv": {[]byte("a,b\n1,2\n1,2,3\n"), "line 3: wrong number of fields"}, "quote.csv": {[]byte("a,b\n1,\"2\n"), "line"},
		"cut.csv.gz": {cut[:len(cut)-40], "too early"}, "plain.csv.gz": {[]byte("a,b\n"), "not gzip"},
		"bad.ndjson": {[]byte("{\"a\":1}\n[1]\n"), "line 2 is no JSON object"}, "cut.parquet": {parquet[:len(parquet)/2],
			"no Parquet file"},
		"text.parquet": {[]byte("partner"), "no Parquet file"}, "empty.parquet": {nil, "no Parquet file"},
		"a.parquet.gz": {zipped("x"), "packed already"},
	} {
		if _, err := Read(write(t, name, c.content)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func TestPatternsNameTheSegmentAndStayBelow(t *testing.T) {
	p, err := ParsePattern("parcels/{partner}/{kind}-*.csv*")
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"parcels/Orme/in-2026.csv": "Orme / in", "parcels/Orme/in-2026.csv.gz": "Orme / in",
		"parcels/a/b/in-1.csv": "", "parcels/Orme/in.csv": "", "x/parcels/Orme/in-1.csv": ""} {
		if got, ok := p.Segment(path); got != want || ok != (want != "") {
			t.Errorf("%s: %q (%t), want %q", path, got, ok, want)
		}
	}
	for _, bad := range []string{"", "/etc/*", "../*.csv", "a/../../b", "a/{b.csv", "a/{}/c", "a/{b c}/d"} {
		if _, err := ParsePattern(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
	folder := filepath.Dir(filepath.Dir(filepath.Dir(write(t, "parcels/Orme/in-1.csv", nil))))
	for _, name := range []string{"in-2.csv", ".in-3.csv", "_in-4.csv", "in-5.csv.part", "in-6.txt"} {
		if err := os.WriteFile(filepath.Join(folder, "parcels/Orme", name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	files, err := p.List(folder)
	if err != nil || len(files) != 2 || files[1].Path != "parcels/Orme/in-2.csv" {
		t.Errorf("files %+v, %v", files, err)
	}
	if _, err := p.List(filepath.Join(folder, "nowhere")); err == nil {
		t.Error("a folder that is not there has no files to list")
	}
}

func FuzzParsePattern(f *testing.F) {
	f.Add("parcels/{partner}/*.csv")
	f.Add("{a}{b}*")
	f.Fuzz(func(t *testing.T, text string) {
		if p, err := ParsePattern(text); err == nil {
			p.Segment("parcels/x/y.csv") // a pattern that was taken can be asked
		}
	})
}

func TestFilesThatLieAlikeAreProposedAsOneDataset(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{
		"parcels/north/parcels-2026-06-01.csv", "parcels/north/parcels-2026-06-02.csv", "parcels/south/late_20260602.ndjson",
		"parcels/south/.hidden",
		"rates_2026-05.parquet", "rates_2026-06.parquet", "tides/2026/06/01/levels.csv.gz", "tides/2026/06/02/levels.csv.gz",
		"half.csv.part",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, name), []byte("a,b\n1,2\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	list, err := Propose(folder)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range list {
		got = append(got, fmt.Sprint(p.Pattern, " ", p.Files, " ", p.Bytes))
		pattern, err := ParsePattern(p.Pattern)
		if err != nil {
			t.Fatalf("%s: %v", p.Pattern, err)
		}
		if found, err := pattern.List(folder); err != nil || len(found) != p.Files {
			t.Errorf("%s takes %d files, %v", p.Pattern, len(found), err)
		}
	}
	if want := "[parcels/{part}/* 3 24 rates_*.parquet 2 16 tides/*/*/*/levels.csv.gz 2 16]"; fmt.Sprint(got) != want {
		t.Errorf("%v, want %s", got, want)
	}
	if none, err := Propose(t.TempDir()); err != nil || len(none) != 0 {
		t.Errorf("an empty folder: %v, %v", none, err)
	}
	if _, err := Propose(filepath.Join(folder, "nowhere")); err == nil {
		t.Error("a folder that is not there")
	}
}
