package flat

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tinbell/internal/record"
)

// Reader reads records line by line: CSV with a head, NDJSON, or a JSON array.
type Reader struct {
	columns []string
	head    []string // of CSV
	csv     *csv.Reader
	json    *json.Decoder
	needed  []string
	line    int
}

// NewReader looks at what comes and checks its columns; needed ones must be there.
func NewReader(body io.Reader, columns []string, needed ...string) (*Reader, error) {
	t := &Reader{columns: columns, needed: needed}
	in := bufio.NewReader(body)
	first, err := firstByte(in)
	if err == nil && (first == '{' || first == '[') {
		t.json = json.NewDecoder(in)
		t.json.UseNumber()
		if first == '[' {
			t.json.Token()
		}
		return t, nil
	}
	t.csv = csv.NewReader(in)
	t.csv.FieldsPerRecord = -1
	head, err := t.csv.Read()
	if err != nil {
		return nil, record.Invalid{Field: "file", Given: "", Allowed: "CSV with the columns " + strings.Join(columns, ", ") +
			", or JSON with these keys"}
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
	t.head = head
	return t, nil
}

// firstByte looks at the first that is no blank.
func firstByte(in *bufio.Reader) (byte, error) {
	for n := 1; ; n++ {
		seen, err := in.Peek(n)
		if len(seen) < n {
			return 0, err
		}
		if c := seen[n-1]; c != ' ' && c != '\n' && c != '\r' && c != '\t' {
			return c, nil
		}
	}
}

// fatal ends a file: nothing after it can be read.
type fatal struct{ error }

// next gives the fields of the next record by column, and on which line it is: of JSON,
// which record.
func (t *Reader) next() (map[string]string, error) {
	if t.json != nil {
		return t.nextJSON()
	}
	fields, err := t.csv.Read()
	var parse *csv.ParseError
	switch {
	case err == io.EOF:
		return nil, err
	case errors.As(err, &parse):
		t.line = parse.StartLine
		if errors.Is(parse.Err, csv.ErrQuote) && parse.Line > parse.StartLine {
			err = fmt.Errorf("a quote that is opened and not closed: nothing from here on was read")
		}
		return nil, err
	case err != nil:
		return nil, fatal{record.Invalid{Field: "file", Given: fmt.Sprintf("after line %d", t.line),
			Allowed: "a whole file: " + err.Error()}}
	}
	t.line, _ = t.csv.FieldPos(0)
	if len(fields) != len(t.head) {
		return nil, fmt.Errorf("%d fields where the head has %d", len(fields), len(t.head))
	}
	named := map[string]string{}
	for i, column := range t.head {
		named[column] = Unguarded(strings.TrimSpace(fields[i]))
	}
	return named, nil
}

func (t *Reader) nextJSON() (map[string]string, error) {
	if !t.json.More() {
		return nil, io.EOF
	}
	t.line++
	var fields map[string]any
	if err := t.json.Decode(&fields); err != nil {
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			return nil, fmt.Errorf("it is no object but a JSON %s", kind.Value)
		}
		return nil, fatal{record.Invalid{Field: "file", Given: fmt.Sprintf("record %d", t.line), Allowed: "JSON: " + err.Error()}}
	}
	named := map[string]string{}
	for key, value := range fields {
		if !slices.Contains(t.columns, key) {
			return nil, fmt.Errorf("the key %q: allowed are %s", key, strings.Join(t.columns, ", "))
		}
		switch v := value.(type) {
		case nil:
		case string:
			named[key] = strings.TrimSpace(v)
		case json.Number, bool:
			named[key] = fmt.Sprint(v)
		default:
			return nil, fmt.Errorf("%s holds a list or an object, where a word belongs", key)
		}
	}
	for _, key := range t.needed {
		if _, there := fields[key]; !there {
			return nil, fmt.Errorf("the key %s is needed", key)
		}
	}
	return named, nil
}

// Each hands over the fields of every line by column; lines that cannot be read,
// or that do refuses, are noted as problems.
func (t *Reader) Each(do func(line int, fields map[string]string) error, result *Import) error {
	for {
		fields, err := t.next()
		if err == io.EOF {
			return nil
		}
		if end := (fatal{}); errors.As(err, &end) {
			return end.error
		}
		for _, field := range fields {
			if err == nil {
				err = checkField(field)
			}
		}
		if err == nil {
			err = do(t.line, fields)
		}
		if err != nil {
			result.Refused++
			result.Problems = append(result.Problems, LineProblem{t.line, err.Error()})
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

// Time reads a time of a column.
func Time(column, text string) (time.Time, error) {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, record.Invalid{Field: column, Given: text, Allowed: "RFC 3339 with its zone, for example 2026-06-18T09:00:00-03:00"}
	}
	return at.UTC(), nil
}
