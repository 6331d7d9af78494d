package bound_test

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"

	"tinbell/internal/collect/bound"
)

func TestOneItemMayBeSoLongAndManyAnyNumber(t *testing.T) {
	rows := strings.Repeat("a,"+strings.Repeat("x", 400)+"\n", 5000)
	r := bound.New(strings.NewReader(rows), 8192)
	lines := csv.NewReader(r)
	n := 0
	for {
		r.Next()
		if _, err := lines.Read(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("row %d: %v", n, err)
		}
		n++
	}
	if n != 5000 {
		t.Errorf("%d rows", n)
	}
	r = bound.New(strings.NewReader("a,\""+strings.Repeat("x", 1<<20)), 8192)
	if _, err := csv.NewReader(r).Read(); !errors.Is(err, bound.ErrTooLong) {
		t.Errorf("a value of a megabyte: %v", err)
	}
	if _, err := bound.All(strings.NewReader(strings.Repeat("x", 100)), 99); !errors.As(err, new(bound.TooLarge)) {
		t.Errorf("a hundred bytes of 99: %v", err)
	}
	if whole, err := bound.All(strings.NewReader("abc"), 3); err != nil || string(whole) != "abc" {
		t.Errorf("%q, %v", whole, err)
	}
}

// depth counts as the standard library's reader sees it.
func depth(t *testing.T, raw []byte) (values, deepest int) {
	d := json.NewDecoder(bytes.NewReader(raw))
	level := 0
	for {
		token, err := d.Token()
		if err != nil {
			return values, deepest
		}
		switch token {
		case json.Delim('{'), json.Delim('['):
			level++
			values++
			deepest = max(deepest, level)
		case json.Delim('}'), json.Delim(']'):
			level--
		default:
			values++
		}
	}
}

// FuzzShape holds that the rough count is never under what a reader would make of
// valid JSON, so that what passes it is within the limits.
func FuzzShape(f *testing.F) {
	for _, seed := range []string{`{"a":[1,2,{"b":null}]}`, `"\\\"["`, `[[[]]]`, `{"[":"]"}`, ``} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		values, deepest := bound.Shape(raw)
		if !json.Valid(raw) {
			return
		}
		if v, d := depth(t, raw); v > values || d != deepest {
			t.Errorf("%q: %d values %d deep, a reader sees %d and %d", raw, values, deepest, v, d)
		}
	})
}

// The length of a Parquet file's description is four bytes of its own: what they say is room
// that a reader takes.
func TestADescriptionThatCannotBeTrueIsRefused(t *testing.T) {
	file := func(size int, length uint32) *bytes.Reader {
		content := make([]byte, size)
		binary.LittleEndian.PutUint32(content[size-8:], length)
		return bytes.NewReader(content)
	}
	for _, c := range []struct {
		size   int
		length uint32
		says   string
	}{
		{1000, 900, ""},
		{1000, 989, "989 bytes, and it has 1000 itself"},
		{1000, 4_000_000_000, "and it has 1000 itself"},
		{10 << 20, 9 << 20, "its description has 9 MB"},
		{9, 1, "it has only 9 bytes"},
	} {
		err := bound.Footer(file(c.size, c.length), int64(c.size))
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%d bytes with a description of %d: %v, want %q", c.size, c.length, err, c.says)
		}
	}
}
