package columns

import (
	"bufio"
	"compress/gzip"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"

	"tinbell/core/drift"
)

const (
	csvBlock = 16384 // rows
	looked   = 5000  // rows that tell what a column holds
	mostly   = 0.95  // of a column's values must be of a kind
)

type csvTable struct {
	path    string
	columns []Column
}

func openCSV(path string) (Table, error) {
	t := &csvTable{path: path}
	counts := []kinds(nil)
	n := 0
	err := t.read(func(head []string) {
		for _, name := range head {
			t.columns = append(t.columns, Column{Name: strings.TrimPrefix(name, "\ufeff"), Type: "text"})
		}
		counts = make([]kinds, len(head))
	}, func(row []string) error {
		for i, value := range row {
			counts[i].look(value)
		}
		if n++; n == looked {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	if len(t.columns) == 0 {
		return nil, fmt.Errorf("%s is empty: its first line names the columns", path)
	}
	for i := range t.columns {
		t.columns[i].Kind = counts[i].kind()
	}
	return t, nil
}

var errEnough = errors.New("enough")

// kinds counts what the values of a column could be.
type kinds struct{ values, numbers, times, truths int }

func (k *kinds) look(value string) {
	if value == "" {
		return
	}
	k.values++
	if _, err := strconv.ParseFloat(value, 64); err == nil {
		k.numbers++
	} else if _, ok := parseTime(value); ok {
		k.times++
	} else if lower := strings.ToLower(value); lower == "true" || lower == "false" {
		k.truths++
	}
}

func (k *kinds) kind() drift.Kind {
	most := int(math.Ceil(mostly * float64(k.values)))
	switch {
	case k.values == 0:
		return drift.Category
	case k.numbers >= most:
		return drift.Number
	case k.times >= most:
		return drift.Time
	case k.truths >= most:
		return drift.Boolean
	}
	return drift.Category
}

func (t *csvTable) Columns() []Column { return t.columns }
func (t *csvTable) Close() error      { return nil }

// read goes through the file: its head, then row by row.
func (t *csvTable) read(head func([]string), row func([]string) error) error {
	f, err := os.Open(t.path)
	if err != nil {
		return err
	}
	defer f.Close()
	var body io.Reader = bufio.NewReaderSize(f, 256<<10)
	if strings.HasSuffix(strings.ToLower(t.path), ".gz") {
		if body, err = gzip.NewReader(body); err != nil {
			return fmt.Errorf("%s is not gzip: %w", t.path, err)
		}
	}
	r := csv.NewReader(body)
	r.ReuseRecord = true
	first := true
	for {
		record, err := r.Read()
		if err == io.EOF {
			return nil
		}
		var wrong *csv.ParseError
		switch {
		case errors.As(err, &wrong):
			return fmt.Errorf("%s, line %d: %w", t.path, wrong.Line, wrong.Err)
		case errors.Is(err, io.ErrUnexpectedEOF):
			return fmt.Errorf("%s ends too early", t.path)
		case err != nil:
			return fmt.Errorf("%s: %w", t.path, err)
		}
		if first {
			head(record)
			first = false
			continue
		}
		if err := row(record); err != nil {
			return err
		}
	}
}

func (t *csvTable) Blocks(do func(Block) error) error {
	b := &csvRows{columns: t.columns, values: make([][]string, len(t.columns))}
	flush := func() error {
		if b.Rows() == 0 {
			return nil
		}
		err := do(b)
		for i := range b.values {
			b.values[i] = b.values[i][:0]
		}
		return err
	}
	err := t.read(func([]string) {}, func(row []string) error {
		for i, v := range row {
			b.values[i] = append(b.values[i], v)
		}
		if b.Rows() == csvBlock {
			return flush()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return flush()
}

// csvRows are a block's values as they stand in the file.
type csvRows struct {
	columns []Column
	values  [][]string
}

func (b *csvRows) Rows() int { return len(b.values[0]) }

func (b *csvRows) Numbers(column int, do func(int, []float64)) error {
	numbers := make([]float64, 0, batch)
	timely := b.columns[column].Kind == drift.Time
	at := 0
	for _, text := range b.values[column] {
		numbers = append(numbers, numberOf(text, timely))
		if len(numbers) == batch {
			do(at, numbers)
			at, numbers = at+batch, numbers[:0]
		}
	}
	do(at, numbers)
	return nil
}

func numberOf(text string, timely bool) float64 {
	if text == "" {
		return math.NaN()
	}
	if timely {
		if when, ok := parseTime(text); ok {
			return float64(when.UnixNano()) / 1e9
		}
		return math.Inf(1)
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return math.Inf(1)
	}
	return v
}

func (b *csvRows) Words(column int, do func(int, [][]byte)) error {
	words := make([][]byte, 0, batch)
	at := 0
	for _, text := range b.values[column] {
		var word []byte
		if text != "" {
			word = []byte(text)
		}
		words = append(words, word)
		if len(words) == batch {
			do(at, words)
			at, words = at+batch, words[:0]
		}
	}
	do(at, words)
	return nil
}
