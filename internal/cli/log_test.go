package cli

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// mined runs log mine.
func mined(t *testing.T, args ...string) (out string, code int) {
	t.Helper()
	var b bytes.Buffer
	code = Main(append([]string{"log", "mine"}, args...), &b, &b)
	return b.String(), code
}

func TestTheSentencesOfAFileAreListed(t *testing.T) {
	folder := t.TempDir()
	var text bytes.Buffer
	for i := range 60 {
		fmt.Fprintf(&text, "2026-10-31 04:05:%02d INFO loaded %d rows\r\n", i, i*3)
		if i%20 == 0 {
			fmt.Fprintf(&text, "ERROR no such column: \"fare %d\"\n", i)
		}
	}
	text.WriteString("\n" + strings.Repeat("x", 200_000) + "\nlast line has no end")
	plain, packed := filepath.Join(folder, "a.log"), filepath.Join(folder, "a.log.gz")
	var small bytes.Buffer
	w := gzip.NewWriter(&small)
	if _, err := w.Write(text.Bytes()); err != nil || w.Close() != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{plain: text.Bytes(), packed: small.Bytes(),
		filepath.Join(folder, "b.log.gz"): []byte("not packed"), filepath.Join(folder, "empty.log"): nil} {
		if err := os.WriteFile(name, content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{plain, packed} {
		out, code := mined(t, name)
		for _, says := range []string{"60", "<time> INFO loaded <number> rows", "ERROR no such column: <quoted text>",
			"last line has no end", "1 line over 66 kB"} {
			if code != 0 || !strings.Contains(out, says) {
				t.Errorf("%s: %d, without %q:\n%s", name, code, says, out)
			}
		}
	}
	out, code := mined(t, plain, "--output", "json", "-q")
	var list []Sentence
	if err := json.Unmarshal([]byte(out), &list); code != 0 || err != nil || len(list) != 4 || list[0].Lines != 60 {
		t.Errorf("%d, %v:\n%s", code, err, out)
	}
	if out, code := mined(t, plain, "--most", "1"); code != 0 || !strings.Contains(out, "not told apart") {
		t.Errorf("%d:\n%s", code, out)
	}
	if out, code := mined(t, filepath.Join(folder, "empty.log")); code != 0 || !strings.Contains(out, "No line has anything to say") {
		t.Errorf("%d:\n%s", code, out)
	}
	for name, want := range map[string]int{"nowhere.log": 3, "b.log.gz": 2} {
		if out, code := mined(t, filepath.Join(folder, name)); code != want {
			t.Errorf("%s: %d:\n%s", name, code, out)
		}
	}
	if out, code := mined(t, plain, "--most", "0"); code != 2 {
		t.Errorf("no template: %d:\n%s", code, out)
	}
}
