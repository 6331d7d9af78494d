package answer

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

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
	line := 1
	for {
		fields, err := t.Read()
		if err == io.EOF {
			return nil
		}
		var parse *csv.ParseError
		switch {
		case errors.As(err, &parse):
			line = parse.StartLine
			if errors.Is(parse.Err, csv.ErrQuote) && parse.Line > parse.StartLine {
				err = fmt.Errorf("a quote that is opened and not closed: nothing from here on was read")
			}
		case err != nil:
			return record.Invalid{Field: "file", Given: fmt.Sprintf("after line %d", line), Allowed: "a whole file: " + err.Error()}
		default:
			line, _ = t.FieldPos(0)
		}
		for _, field := range fields {
			if err == nil {
				err = checkField(field)
			}
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

// checkField refuses a field that cannot be kept.
func checkField(field string) error {
	const longest = 16 << 10
	switch {
	case len(field) > longest:
		return fmt.Errorf("a field of %d kB: %d are allowed", len(field)>>10, longest>>10)
	case !utf8.ValidString(field) || strings.ContainsRune(field, 0):
		return errors.New("it is not UTF-8, or holds a NUL")
	}
	return nil
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
