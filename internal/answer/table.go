package answer

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"tinbell/internal/record"
)

// table reads CSV with a head, line by line.
type table struct {
	*csv.Reader
	head []string
}

// readTable reads the head and checks its columns; needed ones must be there.
func readTable(body io.Reader, columns []string, needed ...string) (*table, error) {
	r := csv.NewReader(body)
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return nil, record.Invalid{Field: "file", Given: "", Allowed: "CSV with the columns " + strings.Join(columns, ", ")}
	}
	for i, column := range head {
		head[i] = strings.TrimSpace(strings.TrimPrefix(column, "\ufeff"))
		if !slices.Contains(columns, head[i]) {
			return nil, record.Invalid{Field: "CSV column", Given: head[i], Allowed: strings.Join(columns, ", ")}
		}
	}
	for _, column := range needed {
		if !slices.Contains(head, column) {
			return nil, record.Invalid{Field: "CSV head", Given: strings.Join(head, ","), Allowed: "the column " + column + " is needed"}
		}
	}
	return &table{r, head}, nil
}

// each hands over the fields of every line by column; lines that cannot be read,
// or that do refuses, are noted as problems.
func (t *table) each(do func(line int, fields map[string]string) error, result *Import) error {
	for {
		fields, err := t.Read()
		if err == io.EOF {
			return nil
		}
		line, _ := t.FieldPos(0)
		var parse *csv.ParseError
		if errors.As(err, &parse) {
			line = parse.Line
		}
		if err == nil && len(fields) != len(t.head) {
			err = fmt.Errorf("%d fields where the head has %d", len(fields), len(t.head))
		}
		if err == nil {
			named := map[string]string{}
			for i, column := range t.head {
				named[column] = strings.TrimSpace(fields[i])
			}
			err = do(line, named)
		}
		if err != nil {
			result.Refused++
			result.Problems = append(result.Problems, LineProblem{line, err.Error()})
		}
	}
}

// Import tells what became of an imported catalogue.
type Import struct {
	Added    int           `json:"added"`
	Replaced int           `json:"replaced"`
	Refused  int           `json:"refused"`
	Problems []LineProblem `json:"problems"`
	Notes    []LineProblem `json:"notes,omitempty" doc:"lines that were taken, with what to know about them"`
}

// LineProblem names a line that was refused.
type LineProblem struct {
	Line   int    `json:"line"`
	Reason string `json:"reason"`
}
