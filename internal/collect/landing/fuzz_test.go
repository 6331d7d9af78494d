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
	for _, seed := range []string{"a,b\n1,2\n", "\"a\n", `{"a":1}` + "\n" + `{"b":null}`, `{"a":{"b":[1]}}`, "PAR1PAR1", "\x1f\x8b\x08"} {
		f.Add([]byte(seed))
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, content []byte) {
		for _, name := range []string{"x.csv", "x.ndjson", "x.parquet", "x.csv.gz"} {
			full := filepath.Join(dir, name)
			if err := os.WriteFile(full, content, 0o600); err != nil {
				t.Fatal(err)
			}
			c, err := Read(full)
			if err != nil {
				if err.Error() == "" {
					t.Errorf("%s is refused without a reason", name)
				}
				continue
			}
			for _, column := range c.Columns {
				if !utf8.ValidString(column.Name) {
					t.Errorf("%s: column %q", name, column.Name)
				}
			}
		}
	})
}
