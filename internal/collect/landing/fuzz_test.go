package landing

import (
	"os"
	"path/filepath"
	"testing"
	"unicode/utf8"
)

// FuzzRead holds that any file of any kind is read to an end: either it is refused
// with a reason, or what is said of it can be kept.
func FuzzRead(f *testing.F) {
	kinds := []string{"x.csv", "x.ndjson", "x.parquet", "x.csv.gz"}
	for _, seed := range []string{"a,b\n1,2\n", "\"a\n", `{"a":1}` + "\n" + `{"b":null}`, `{"a":{"b":[1]}}`, "PAR1PAR1", "\x1f\x8b\x08"} {
		for kind := range kinds {
			f.Add(uint8(kind), []byte(seed))
		}
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, kind uint8, content []byte) {
		name := kinds[int(kind)%len(kinds)]
		full := filepath.Join(dir, name)
		if err := os.WriteFile(full, content, 0o600); err != nil {
			t.Fatal(err)
		}
		c, err := Read(full)
		if err != nil {
			if err.Error() == "" {
				t.Errorf("%s is refused without a reason", name)
			}
			return
		}
		for _, column := range c.Columns {
			if !utf8.ValidString(column.Name) {
				t.Errorf("%s: column %q", name, column.Name)
			}
		}
	})
}
