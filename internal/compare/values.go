package compare

import (
	"fmt"
	"strings"

	"tinbell/internal/collect/columns"
	"tinbell/internal/record"
)

// Values reads a column of a file: NaN where there is no value, +Inf where it is no
// number.
func Values(path, column string) (values []float64, err error) {
	err = eachBlock(path, column, func(b columns.Block, place int) error {
		return b.Numbers(place, func(_ int, part []float64) { values = append(values, part...) })
	})
	return values, err
}

// Categories reads a column of a file as categories; empty where there is none.
func Categories(path, column string) (list []string, err error) {
	err = eachBlock(path, column, func(b columns.Block, place int) error {
		return b.Words(place, func(_ int, part [][]byte) {
			for _, word := range part {
				list = append(list, string(word))
			}
		})
	})
	return list, err
}

// eachBlock hands over the blocks of a file that has a column.
func eachBlock(path, column string, do func(b columns.Block, place int) error) error {
	t, err := columns.Open(path)
	if err != nil {
		return err
	}
	defer t.Close()
	place := columns.Place(t.Columns(), column)
	if place < 0 {
		var names []string
		for _, c := range t.Columns() {
			names = append(names, c.Name)
		}
		return record.Invalid{Field: "column", Given: column, Allowed: fmt.Sprintf("one of %s: %s", path, strings.Join(names, ", "))}
	}
	return t.Blocks(func(b columns.Block) error { return do(b, place) })
}
