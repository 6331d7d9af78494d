package landing

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/parquet-go/parquet-go"

	"tinbell/internal/collect/bound"
	"tinbell/internal/record"
)

// Content is what a file holds. Rows is −1 where the format is not known.
type Content struct {
	Digest  []byte // SHA-256 of the file as it is
	Rows    int64
	Columns []record.Column
}

// Read goes through a file once, keeping nothing of it. A file that does not
// hold what its name says returns an error that tells where.
func Read(full string) (Content, error) {
	f, err := os.Open(full)
	if err != nil {
		return Content{}, err
	}
	defer f.Close()
	digest := sha256.New()
	through := io.TeeReader(f, digest)
	c := Content{Rows: -1}
	plain, zipped := strings.CutSuffix(full, ".gz")
	var body io.Reader = bufio.NewReaderSize(through, 256<<10)
	if zipped {
		unzipped, err := gzip.NewReader(body)
		if err != nil {
			return c, fmt.Errorf("it is not gzip: %w", err)
		}
		body = unzipped
	}
	switch filepath.Ext(plain) {
	case ".csv":
		err = c.csv(body)
	case ".ndjson", ".jsonl":
		err = c.ndjson(body)
	case ".parquet":
		if zipped {
			return c, errors.New("a Parquet file inside gzip cannot be read: Parquet is packed already")
		}
		err = c.parquet(f)
		if err == nil {
			_, err = f.Seek(0, io.SeekStart)
		}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return c, fmt.Errorf("it ends too early, after %d rows", max(c.Rows, 0))
	}
	if err != nil {
		return c, err
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return c, fmt.Errorf("it ends too early: %w", err)
	}
	c.Digest = digest.Sum(nil)
	return c, nil
}

func (c *Content) csv(body io.Reader) error {
	bounded := bound.New(body, longestRow)
	r := csv.NewReader(bounded)
	r.ReuseRecord = true
	head, err := r.Read()
	c.Rows = 0
	if err == io.EOF {
		return nil
	}
	if len(head) > mostColumns {
		return fmt.Errorf("its head has %d columns: %d are read", len(head), mostColumns)
	}
	for i := 0; err == nil && i < len(head); i++ {
		if err := record.CheckName("column", head[i]); err != nil {
			return err
		}
		c.Columns = append(c.Columns, record.Column{Name: strings.TrimPrefix(head[i], "\ufeff"), Type: "text", Nullable: true})
	}
	for err == nil {
		bounded.Next()
		if _, err = r.Read(); err == nil {
			c.Rows++
		}
	}
	if err == io.EOF {
		return nil
	}
	var wrong *csv.ParseError
	if errors.Is(err, bound.ErrTooLong) {
		return fmt.Errorf("after row %d: %w", c.Rows, bound.ErrTooLong)
	}
	if errors.As(err, &wrong) {
		return fmt.Errorf("line %d: %w", wrong.Line, wrong.Err)
	}
	return err
}

const (
	// longestRow is how many bytes one row may have. A file may have any number of
	// rows, which are never held.
	longestRow  = 4 << 20
	mostColumns = 10_000
	deepest     = 64
)

// named is how many lines of NDJSON are looked at for columns.
const named = 100

func (c *Content) ndjson(body io.Reader) error {
	lines := bufio.NewScanner(body)
	lines.Buffer(make([]byte, 64<<10), longestRow)
	types := map[string]string{}
	c.Rows = 0
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		if c.Rows < named {
			if values, depth := bound.Shape(line); depth > deepest || values > 20*mostColumns {
				return fmt.Errorf("line %d has %d values, nested %d deep: %d are read, nested %d deep", n, values, depth,
					20*mostColumns, deepest)
			}
			var object map[string]json.RawMessage
			if err := json.Unmarshal(line, &object); err != nil {
				return fmt.Errorf("line %d is no JSON object: %w", n, err)
			}
			for key, v := range object {
				if err := record.CheckName("key", key); err != nil {
					return fmt.Errorf("line %d: %w", n, err)
				}
				if string(v) != "null" {
					types[key] = map[bool]string{true: "number", false: "text"}[isNumber(v)]
				} else if types[key] == "" {
					types[key] = "null"
				}
			}
			if len(types) > mostColumns {
				return fmt.Errorf("its first %d lines have more than %d keys", n, mostColumns)
			}
		} else if !json.Valid(line) {
			return fmt.Errorf("line %d is no JSON", n)
		}
		c.Rows++
	}
	for _, key := range slices.Sorted(maps.Keys(types)) {
		c.Columns = append(c.Columns, record.Column{Name: key, Type: types[key], Nullable: true})
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d has more than %d MB", c.Rows+1, longestRow>>20)
	} else if err != nil {
		return err
	}
	return nil
}

func isNumber(v json.RawMessage) bool {
	return len(v) > 0 && (v[0] == '-' || v[0] >= '0' && v[0] <= '9')
}

func (c *Content) parquet(f *os.File) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("it is no Parquet file: %v", broken)
		}
	}()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := bound.Footer(f, info.Size()); err != nil {
		return err
	}
	opened, err := parquet.OpenFile(f, info.Size(), parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return fmt.Errorf("it is no Parquet file: %w", err)
	}
	c.Rows = opened.NumRows()
	for _, field := range opened.Schema().Fields() {
		kind := "group"
		if field.Leaf() {
			kind = field.Type().String()
		}
		c.Columns = append(c.Columns, record.Column{Name: field.Name(), Type: kind, Nullable: field.Optional()})
	}
	return nil
}
