package flat

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
)

// No text of a CSV file is taken for a formula, numbers stay numbers, and what is read
// back is what was written.
func TestNoTextOfACSVFileIsAFormula(t *testing.T) {
	type row struct {
		Note  string  `json:"note"`
		Value float64 `json:"value"`
	}
	notes := []string{"=1+2", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\tx", "'=quoted", "''-x", "plain", "'tis fine", ""}
	var b bytes.Buffer
	w, err := NewWriter[row](&b, CSV)
	if err != nil {
		t.Fatal(err)
	}
	for _, note := range notes {
		if err := w.Put(row{note, -4.5}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	read, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(read) != len(notes)+1 {
		t.Fatal(read, err)
	}
	for i, note := range notes {
		cell := read[i+1]
		if cell[0] != "" && strings.ContainsAny(cell[0][:1], "=+-@\t\r") {
			t.Errorf("%q is written as %q", note, cell[0])
		}
		if Unguarded(cell[0]) != note || cell[1] != "-4.5" {
			t.Errorf("%q comes back as %q beside %s", note, Unguarded(cell[0]), cell[1])
		}
	}
}
