package bound_test

import (
	"bytes"
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
