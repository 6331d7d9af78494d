// Package columns reads files of rows (CSV, Parquet) column by column, block
// after block, in memory that does not grow with the file. Of its values nothing
// is kept here.
package columns

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tinbell/core/drift"
)

// Column is a column of a file and what its values are.
type Column struct {
	Name string     `json:"name"`
	Kind drift.Kind `json:"kind"`
	Type string     `json:"type"` // as the file says it; of CSV: text
}

// Table is an open file.
type Table interface {
	io.Closer
	Columns() []Column
	// Blocks hands over the rows block after block. Columns are read in
	// parallel; a block ends when do returns.
	Blocks(do func(Block) error) error
}

// Block is some rows of a table. Its columns may be read at the same time.
type Block interface {
	Rows() int
	// Numbers hands over a column's values in order, some at a time, at being
	// the row of the first: NaN where there is none, +Inf where it is no number.
	// Times are seconds of the Unix epoch.
	Numbers(column int, do func(at int, values []float64)) error
	// Words does so for categories: nil where there is none. What is handed over
	// is overwritten by the next.
	Words(column int, do func(at int, values [][]byte)) error
}

// Formats that can be read.
var Formats = []string{".csv", ".csv.gz", ".parquet"}

// Open opens a file by its name's ending.
func Open(path string) (Table, error) {
	name := strings.ToLower(filepath.Base(path))
	switch {
	case strings.HasSuffix(name, ".csv"), strings.HasSuffix(name, ".csv.gz"):
		return openCSV(path)
	case strings.HasSuffix(name, ".parquet"):
		return openParquet(path)
	}
	return nil, fmt.Errorf("%s: rows are read from files that end in %s", path, strings.Join(Formats, ", "))
}

// Place gives where a column of that name stands, -1 if there is none.
func Place(list []Column, name string) int {
	return slices.IndexFunc(list, func(c Column) bool { return c.Name == name })
}

// batch is how many values are handed over at a time.
const batch = 8192

var timeForms = []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05Z07", "2006-01-02T15:04:05",
	"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"}

// parseTime reads a time as files write it; without an offset it is UTC.
func parseTime(text string) (time.Time, bool) {
	if len(text) < 10 || text[4] != '-' {
		return time.Time{}, false
	}
	for _, form := range timeForms {
		if at, err := time.Parse(form, text); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}
