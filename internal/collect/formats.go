package collect

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	strict "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"tinbell/internal/collect/bound"
	"tinbell/internal/flat"
	"tinbell/internal/record"
)

func (p *push) readNDJSON(ctx context.Context, body io.Reader) error {
	scanner := bufio.NewScanner(body)
	scanner.Buffer(make([]byte, 64<<10), maxLine)
	n := 0
	for scanner.Scan() {
		n++
		raw := bytes.TrimSpace(scanner.Bytes())
		if len(raw) == 0 {
			continue
		}
		if err := p.elements(ctx, n, raw); err != nil {
			return err
		}
	}
	if err := scanner.Err(); err != nil {
		return unreadable(n, err)
	}
	return nil
}

// unreadable says that a body cannot be read on after a line; what came before
// is kept, unless strict was asked for.
func unreadable(n int, err error) error {
	if errors.Is(err, bufio.ErrTooLong) || errors.Is(err, bound.ErrTooLong) {
		return record.Invalid{Field: "body", Given: fmt.Sprintf("line %d", n+1),
			Allowed: fmt.Sprintf("lines of at most %d kB; what came before was stored", maxLine>>10)}
	}
	return record.Invalid{Field: "body", Given: fmt.Sprintf("after line %d", n),
		Allowed: "a whole body; what came before was stored, then: " + err.Error()}
}

// readJSON takes one array of samples, element by element. What is no JSON ends
// the reading: nothing after it can be told apart.
func (p *push) readJSON(ctx context.Context, body io.Reader) error {
	bounded := bound.New(body, maxLine)
	decoder := json.NewDecoder(bounded)
	if begin, err := decoder.Token(); err != nil || begin != json.Delim('[') {
		return record.Invalid{Field: "body", Given: fmt.Sprint(begin),
			Allowed: "a JSON array of samples: [{\"metric\": …, \"at\": …, \"value\": …}, …]"}
	}
	n := 0
	for decoder.More() {
		n++
		bounded.Next()
		var raw json.RawMessage
		if err := decoder.Decode(&raw); err != nil {
			return record.Invalid{Field: "body", Given: fmt.Sprintf("element %d", n), Allowed: "JSON: " + err.Error() +
				"; what came before was stored"}
		}
		if err := p.elements(ctx, n, raw); err != nil {
			return err
		}
	}
	if _, err := decoder.Token(); err != nil {
		return record.Invalid{Field: "body", Given: fmt.Sprintf("after element %d", n),
			Allowed: "the end of the array; the body ends too early, and what came before was stored"}
	}
	if _, err := decoder.Token(); err != io.EOF {
		return record.Invalid{Field: "body", Given: fmt.Sprintf("after element %d", n),
			Allowed: "nothing after the array's end; what came before was stored"}
	}
	return nil
}

// elements takes the samples written as JSON on a line: most often one, but two
// objects are two samples. What follows them and is no JSON is refused by itself.
func (p *push) elements(ctx context.Context, n int, raw []byte) error {
	if !utf8.Valid(raw) {
		p.refuse(n, errors.New("it is not UTF-8"))
		return nil
	}
	if depth := bound.Depth(raw); depth > maxDepth {
		p.refuse(n, fmt.Errorf("it is nested %d deep: a sample has no more than %d", depth, maxDepth))
		return nil
	}
	p.line.Reset(raw)
	if p.decoder == nil {
		p.decoder = jsontext.NewDecoder(&p.line)
	}
	p.decoder.Reset(&p.line)
	for {
		var line Line
		switch err := strict.UnmarshalDecode(p.decoder, &line, strict.RejectUnknownMembers(true)); {
		case err == io.EOF:
			return nil
		case err != nil:
			p.refuse(n, fmt.Errorf("not a sample: %s", notJSON(err)))
			return nil
		}
		if err := p.take(ctx, n, line); err != nil {
			return err
		}
	}
}

// notJSON says what is wrong with JSON, without the names of our own types.
func notJSON(err error) string {
	var wrong *strict.SemanticError
	if !errors.As(err, &wrong) {
		return strings.TrimPrefix(strings.TrimPrefix(err.Error(), "jsontext: "), "json: ")
	}
	field := wrong.JSONPointer.LastToken()
	switch {
	case errors.Is(err, strict.ErrUnknownName):
		return fmt.Sprintf("unknown field %q", field)
	case field == "":
		return "it is no JSON object"
	}
	return fmt.Sprintf("%s cannot be read from a JSON %s", field, wrong.JSONKind.String())
}

// maxDepth is how deep a line may be nested: a declaration with a list has three.
const maxDepth = 8

var csvColumns = []string{"metric", "segment", "at", "value", "rows"}

func (p *push) readCSV(ctx context.Context, body io.Reader) error {
	bounded := bound.New(body, maxLine)
	r := csv.NewReader(bounded)
	r.ReuseRecord = true
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err == io.EOF {
		return nil
	}
	if err != nil {
		return unreadable(1, err)
	}
	index := map[string]int{}
	for i, column := range head {
		column = strings.TrimSpace(strings.TrimPrefix(column, "\ufeff"))
		if !slices.Contains(csvColumns, column) {
			return record.Invalid{Field: "CSV column", Given: column, Allowed: strings.Join(csvColumns, ", ")}
		}
		index[column] = i
	}
	for _, needed := range []string{"metric", "at", "value"} {
		if _, there := index[needed]; !there {
			return record.Invalid{Field: "CSV head", Given: strings.Join(head, ","),
				Allowed: "it needs the columns metric, at and value; segment and rows are optional"}
		}
	}
	last := 1
	for {
		bounded.Next()
		fields, err := r.Read()
		if err == io.EOF {
			return nil
		}
		var parse *csv.ParseError
		switch {
		case errors.As(err, &parse) && errors.Is(parse.Err, csv.ErrQuote) && parse.Line > parse.StartLine:
			// The reader went on looking for the end of the quote, over whole lines.
			p.refuseSome(parse.StartLine, int64(parse.Line-parse.StartLine),
				fmt.Errorf("a quote that is opened and not closed: the lines from here to %d were read as one value, and none of them was stored", parse.Line))
			last = parse.Line
			continue
		case errors.As(err, &parse):
			p.refuse(parse.Line, parse.Err)
			last = parse.Line
			continue
		case err != nil:
			return unreadable(last, err)
		}
		n, _ := r.FieldPos(0)
		last = n
		if wrong := checkFields(fields); wrong != nil {
			p.refuse(n, wrong)
			continue
		}
		field := func(column string) string {
			if i, there := index[column]; there && i < len(fields) {
				return fields[i]
			}
			return ""
		}
		line := Line{Metric: field("metric"), Segment: flat.Unguarded(field("segment")), At: field("at")}
		bad := false
		for column, into := range map[string]**float64{"value": &line.Value, "rows": &line.Rows} {
			if text := field(column); text != "" {
				v, err := strconv.ParseFloat(text, 64)
				if err != nil {
					p.refuse(n, record.Invalid{Field: column, Given: text, Allowed: "a number with a decimal point"})
					bad = true
					break
				}
				*into = &v
			}
		}
		if bad {
			continue
		}
		if err := p.take(ctx, n, line); err != nil {
			return err
		}
	}
}

// checkFields refuses a line with a value that is longer than any we know, or no
// text.
func checkFields(fields []string) error {
	for _, f := range fields {
		if len(f) > maxValue {
			return fmt.Errorf("a value of %d kB: a sample's are at most %d", len(f)>>10, maxValue>>10)
		}
		if !utf8.ValidString(f) {
			return errors.New("it is not UTF-8")
		}
	}
	return nil
}
