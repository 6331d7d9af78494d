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
		if err := p.element(ctx, n, raw); err != nil {
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
	if errors.Is(err, bufio.ErrTooLong) {
		return record.Invalid{Field: "body", Given: fmt.Sprintf("line %d", n+1), Allowed: fmt.Sprintf("lines of at most %d kB; what came before was stored", maxLine>>10)}
	}
	return record.Invalid{Field: "body", Given: fmt.Sprintf("after line %d", n), Allowed: "a whole body; what came before was stored, then: " + err.Error()}
}

// readJSON takes one array of samples, element by element. What is no JSON ends
// the reading: nothing after it can be told apart.
func (p *push) readJSON(ctx context.Context, body io.Reader) error {
	decoder := json.NewDecoder(body)
	if begin, err := decoder.Token(); err != nil || begin != json.Delim('[') {
		return record.Invalid{Field: "body", Given: fmt.Sprint(begin), Allowed: "a JSON array of samples: [{\"metric\": …, \"at\": …, \"value\": …}, …]"}
	}
	n := 0
	for decoder.More() {
		n++
		var raw json.RawMessage
		if err := decoder.Decode(&raw); err != nil {
			return record.Invalid{Field: "body", Given: fmt.Sprintf("element %d", n), Allowed: "JSON: " + err.Error()}
		}
		if err := p.element(ctx, n, raw); err != nil {
			return err
		}
	}
	if _, err := decoder.Token(); err != nil {
		return record.Invalid{Field: "body", Given: fmt.Sprintf("after element %d", n), Allowed: "the end of the array; the body ends too early"}
	}
	return nil
}

// element takes one sample written as JSON.
func (p *push) element(ctx context.Context, n int, raw []byte) error {
	var line Line
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&line); err != nil {
		p.refuse(n, fmt.Errorf("not a sample: %s", strings.TrimPrefix(err.Error(), "json: ")))
		return nil
	}
	return p.take(ctx, n, line)
}

var csvColumns = []string{"metric", "segment", "at", "value", "rows"}

func (p *push) readCSV(ctx context.Context, body io.Reader) error {
	r := csv.NewReader(body)
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
			return record.Invalid{Field: "CSV head", Given: strings.Join(head, ","), Allowed: "it needs the columns metric, at and value; segment and rows are optional"}
		}
	}
	for {
		fields, err := r.Read()
		if err == io.EOF {
			return nil
		}
		n, _ := r.FieldPos(0)
		var parse *csv.ParseError
		if errors.As(err, &parse) {
			p.refuse(parse.Line, parse.Err)
			continue
		}
		if err != nil {
			return unreadable(n, err)
		}
		field := func(column string) string {
			if i, there := index[column]; there && i < len(fields) {
				return fields[i]
			}
			return ""
		}
		line := Line{Metric: field("metric"), Segment: field("segment"), At: field("at")}
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
