package localpg

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

func TestDataOfAVersionThatIsGoneSaysWhatToDo(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	if err := os.MkdirAll(data, 0o700); err != nil {
		t.Fatal(err)
	}
	newest, err := Programs()
	if err != nil {
		t.Fatal(err)
	}
	if got, err := programsFor(data); err != nil || got != newest {
		t.Errorf("of no data yet: %s, %v", got, err)
	}
	for major, want := range map[string]string{strconv.Itoa(version(newest + "/postgres")): "", "9": "postgresql-9"} {
		if err := os.WriteFile(filepath.Join(data, "PG_VERSION"), []byte(major+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := programsFor(data)
		if (err == nil) != (want == "") || err != nil && (!strings.Contains(err.Error(), want) || !strings.Contains(err.Error(),
			"tinbell restore")) {
			t.Errorf("data of %s: %v", major, err)
		}
	}
}
