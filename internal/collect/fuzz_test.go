package collect

import (
	"bytes"
	"context"
	"errors"
	"math"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// reading is a push that knows one metric and writes nothing.
func reading(t testing.TB) *push {
	now := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	m := record.Metric{ID: 1, Name: "queue", Kind: timeline.Count, PeriodSeconds: 3600, Zone: "UTC", MaxSegments: 10}
	grid, err := m.Grid()
	if err != nil {
		t.Fatal(err)
	}
	p := &push{collector: &Collector{now: func() time.Time { return now }},
		metrics: map[string]*target{"queue": {Metric: m, grid: grid, series: map[string]int64{}}}}
	p.find = func(_ context.Context, name string) (record.Metric, error) {
		return record.Metric{}, record.NotFound{Kind: "metric", Name: name}
	}
	return p
}

// FuzzFormats holds that whatever is pushed, in any format, is read to an end: what
// is taken could be kept, what is refused has a reason, and nothing panics.
func FuzzFormats(f *testing.F) {
	for _, seed := range []string{
		`{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}`, `[{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4},{}]`,
		"metric,at,value\nqueue,2026-06-18T08:00:00Z,4\n", "metric,at,value\nqueue,\"2026",
		"metric,at,value,rows,segment\nqueue,2026-06-18T08:00:00Z,4,\xff,a\x00b\n",
		`{"metric":"queue"}{"metric":"queue"} x`, "[[[[[[[[[[[[", "\ufeffmetric,at,value\n", `{"value":1e999,"metric":"queue"}`,
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		if bytes.Contains(body, []byte("eclare")) {
			return // which needs storage
		}
		for format, read := range map[string]func(*push) error{
			"ndjson": func(p *push) error { return p.readNDJSON(t.Context(), bytes.NewReader(body)) },
			"json":   func(p *push) error { return p.readJSON(t.Context(), bytes.NewReader(body)) },
			"csv":    func(p *push) error { return p.readCSV(t.Context(), bytes.NewReader(body)) },
		} {
			p := reading(t)
			if err := read(p); err != nil && !errors.As(err, new(record.Invalid)) {
				t.Fatalf("%s: %v", format, err)
			}
			for _, v := range p.pending {
				if !utf8.ValidString(v.segment) || strings.ContainsRune(v.segment, 0) || len(v.segment) > record.LongestName {
					t.Fatalf("%s: segment %q cannot be kept", format, v.segment)
				}
				if v.sample.Value == nil || math.IsNaN(*v.sample.Value) || math.IsInf(*v.sample.Value, 0) ||
					v.sample.At.Year() < 2001 || v.sample.At.Year() > 2026 {
					t.Fatalf("%s: %+v was taken", format, v.sample)
				}
			}
			for _, problem := range p.receipt.Problems {
				if problem.Reason == "" {
					t.Fatalf("%s: line %d is refused without a reason", format, problem.Line)
				}
			}
		}
	})
}
