package collect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Line is one pushed sample, or, with Declare, what a pushed series is.
type Line struct {
	Metric  string       `json:"metric,omitempty"`
	Segment string       `json:"segment,omitempty"`
	At      string       `json:"at,omitempty"`
	Value   *float64     `json:"value,omitempty"`
	Rows    *float64     `json:"rows,omitempty"`
	Declare *Declaration `json:"declare,omitempty"`
}

// Declaration says once what a pushed metric is.
type Declaration struct {
	Metric    string        `json:"metric" doc:"its name, unique" minLength:"1"`
	Dataset   string        `json:"dataset" minLength:"1"`
	Namespace string        `json:"namespace,omitempty"`
	Owner     string        `json:"owner,omitempty"`
	Measure   string        `json:"measure" doc:"what is measured, for example rows or mean_fare" minLength:"1"`
	Kind      timeline.Kind `json:"kind" enum:"count,share,value,duration"`
	Unit      string        `json:"unit,omitempty"`
	Period    string        `json:"period" doc:"for example 5m, 1h, 1d, or 1w, 1mo, 1y: a week, month or year of the calendar"`
	Zone      string        `json:"zone,omitempty" doc:"of the tz database; UTC if left out"`
	OTLP      string        `json:"otlp,omitempty" doc:"OTLP metric that it takes; its own name if left out"`
	SegmentBy []string      `json:"segment_by,omitempty" doc:"OTLP attributes whose values name the segment"`

	MaxSegments int        `json:"max_segments,omitempty" minimum:"1" maximum:"100000" doc:"so many have series of their own, all others are counted together as (other); 500 if left out"`
	StartsAt    *time.Time `json:"starts_at,omitempty" doc:"samples from before are refused; if left out, those of more than 25 years ago"`
}

// Receipt tells what became of a push.
type Receipt struct {
	Accepted int64     `json:"accepted" doc:"samples stored; sent twice they count once"`
	Changed  int64     `json:"changed" doc:"of these, new or corrected"`
	Refused  int64     `json:"refused"`
	Together int64     `json:"together" doc:"of the accepted, those of segments beyond the metric's limit: they are counted together as (other)"`
	Problems []Problem `json:"problems" doc:"the first hundred refused lines"`
}

// Problem names a line that was refused.
type Problem struct {
	Line   int    `json:"line"`
	Reason string `json:"reason"`
}

const (
	maxProblems = 100
	chunk       = 50000   // samples written at once
	maxLine     = 1 << 20 // bytes of a line, or of a CSV record
	maxValue    = 64 << 10
)

// ErrStrict is returned when a strict push had a bad line; nothing was stored.
var ErrStrict = errors.New("nothing was stored: strict was asked for and there are bad lines")

// Push stores samples from a stream of NDJSON, CSV or JSON. Good lines are stored and
// bad ones named; strict makes it all or nothing. When Push returns without an
// error, what it accepted is durable.
func (c *Collector) Push(ctx context.Context, body io.Reader, format string, strict bool, may May) (Receipt, error) {
	if strict {
		return c.pushAll(ctx, body, format, may)
	}
	p := c.pushing(false, may)
	err := p.read(ctx, body, format)
	var broken record.Invalid
	if err == nil || errors.As(err, &broken) {
		err = errors.Join(p.flush(ctx), err)
	}
	return p.receipt, errors.Join(p.settle(), err)
}

// May tells whether samples of a metric may be pushed, or (with a dataset) a metric of it be
// declared; nil is whatever there is.
type May func(metric, dataset string) error

func (c *Collector) pushing(strict bool, may May) *push {
	p := &push{collector: c, metrics: map[string]*target{}, strict: strict, may: may}
	p.find = func(ctx context.Context, name string) (record.Metric, error) {
		if may != nil {
			if err := may(name, ""); err != nil {
				return record.Metric{}, err
			}
		}
		return p.store().Metric(ctx, name)
	}
	p.receipt.Problems = []Problem{}
	return p
}

func (p *push) read(ctx context.Context, body io.Reader, format string) error {
	switch format {
	case "csv":
		return p.readCSV(ctx, body)
	case "json":
		return p.readJSON(ctx, body)
	}
	return p.readNDJSON(ctx, body)
}

// pushAll stores all of a push or nothing, in one transaction. What comes is laid down in
// a file first: no transaction waits for a slow sender, and one that the server ended for
// the sake of another reads it again.
func (c *Collector) pushAll(ctx context.Context, body io.Reader, format string, may May) (Receipt, error) {
	file, err := os.CreateTemp("", "tinbell-push-*")
	if err != nil {
		return Receipt{Problems: []Problem{}}, err
	}
	defer file.Close()
	os.Remove(file.Name())
	if _, err := io.Copy(file, body); err != nil {
		return Receipt{Problems: []Problem{}}, err
	}
	var p *push
	err = c.store.InTx(ctx, func(tx pgx.Tx) error {
		p = c.pushing(true, may)
		p.tx = tx
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		if err := p.read(ctx, file, format); err != nil {
			return err
		}
		if p.receipt.Refused > 0 {
			return ErrStrict
		}
		return p.flush(ctx)
	})
	if p == nil { // no connection became free
		return Receipt{Problems: []Problem{}}, err
	}
	if err != nil {
		p.receipt.Accepted, p.receipt.Changed = 0, 0
	}
	return p.receipt, err
}

// target is a metric that takes samples.
type target struct {
	record.Metric
	grid   timeline.Grid
	series map[string]int64 // by segment, those that are known
}

type push struct {
	may       May
	collector *Collector
	metrics   map[string]*target
	strict    bool
	tx        pgx.Tx
	find      func(context.Context, string) (record.Metric, error)
	pending   []taken
	writing   chan written // result of the batch on its way
	receipt   Receipt
	line      bytes.Reader // what decoder reads
	decoder   *jsontext.Decoder
}

func (p *push) refuse(line int, err error) { p.refuseSome(line, 1, err) }

func (p *push) refuseSome(line int, n int64, err error) {
	p.receipt.Refused += n
	if len(p.receipt.Problems) < maxProblems {
		p.receipt.Problems = append(p.receipt.Problems, Problem{line, err.Error()})
	}
}

func (p *push) take(ctx context.Context, n int, line Line) error {
	if line.Declare != nil {
		return p.declare(ctx, n, *line.Declare)
	}
	m, err := p.metric(ctx, line.Metric)
	if err != nil {
		if internal := (storing{}); errors.As(err, &internal) {
			return err
		}
		p.refuse(n, err)
		return nil
	}
	sample, err := m.check(line, p.collector.now())
	if err != nil {
		p.refuse(n, err)
		return nil
	}
	p.pending = append(p.pending, taken{n, m, line.Segment, sample})
	if len(p.pending) >= chunk {
		return p.flush(ctx)
	}
	return nil
}

// declare takes a declaration within a stream. Said again it changes nothing.
func (p *push) declare(ctx context.Context, n int, d Declaration) error {
	if p.may != nil {
		if err := p.may(d.Metric, d.Dataset); err != nil {
			p.refuse(n, err)
			return nil
		}
	}
	s := p.store()
	_, err := p.collector.declareIn(ctx, s, d)
	var conflict record.Conflict
	switch {
	case err == nil:
	case errors.As(err, &conflict):
		if known, _ := p.metric(ctx, d.Metric); known == nil || !known.same(d) {
			p.refuse(n, fmt.Errorf("metric %q is declared already, and differently", d.Metric))
		}
	case store.Unavailable(err):
		return err
	default:
		p.refuse(n, err)
	}
	return nil
}

// store is where a push reads and makes things: within its transaction, if it is
// all or nothing.
func (p *push) store() *store.Store {
	if p.tx != nil {
		return p.collector.store.In(p.tx)
	}
	return p.collector.store
}

func (p *push) metric(ctx context.Context, name string) (*target, error) {
	if known := p.metrics[name]; known != nil {
		return known, nil
	}
	if err := record.CheckName("metric", name); err != nil {
		return nil, err
	}
	m, err := p.find(ctx, name)
	if err != nil {
		var missing record.NotFound
		if errors.As(err, &missing) {
			return nil, fmt.Errorf("no metric named %q: declare it first, by a line {\"declare\": …} or 'tinbell metric declare'", name)
		}
		return nil, storing{err}
	}
	if !m.Pushed() {
		return nil, fmt.Errorf("metric %q is collected from a warehouse and takes no pushed samples", name)
	}
	t, err := targetOf(ctx, p.store(), m)
	if err != nil {
		return nil, storing{err}
	}
	p.metrics[name] = t
	return t, nil
}

// targetOf prepares a pushed metric for samples.
func targetOf(ctx context.Context, s *store.Store, m record.Metric) (*target, error) {
	t := &target{Metric: m, series: map[string]int64{}}
	var err error
	if t.grid, err = m.Grid(); err != nil {
		return nil, err
	}
	list, err := s.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	for _, one := range list {
		t.series[one.Segment] = one.ID
	}
	return t, nil
}

// same tells whether a declaration says what the metric already is.
func (t *target) same(d Declaration) bool {
	period, err := ParsePeriod(d.Period)
	return err == nil && t.Dataset == d.Dataset && t.Measure == d.Measure && t.Kind == d.Kind &&
		t.PeriodSeconds == int64(period.Seconds()) && (d.Zone == "" || d.Zone == t.Zone)
}

func (t *target) check(line Line, now time.Time) (record.Sample, error) {
	s := record.Sample{Value: line.Value, Rows: line.Rows}
	at, err := time.Parse(time.RFC3339, line.At)
	if err != nil {
		return s, record.Invalid{Field: "at", Given: line.At,
			Allowed: "the start of the period as RFC 3339, for example 2026-06-18T09:00:00Z"}
	}
	if err := record.CheckName("segment", line.Segment); err != nil {
		return s, err
	}
	if line.Segment == record.OtherSegment {
		return s, record.Invalid{Field: "segment", Given: line.Segment,
			Allowed: "another name: this one holds what is counted together of segments beyond the metric's limit"}
	}
	s.At = at.UTC()
	if furthest := record.Furthest(now); t.StartsAt != nil && s.At.Before(*t.StartsAt) {
		return s, record.Invalid{Field: "at", Given: line.At,
			Allowed: "times from " + t.StartsAt.UTC().Format(time.RFC3339) + " on, when this metric was declared to start"}
	} else if s.At.Before(furthest) {
		return s, record.Invalid{Field: "at", Given: line.At,
			Allowed: "times from " + furthest.Format(time.DateOnly) + " on: what lies further back is a wrong clock or a wrong unit"}
	}
	if start := t.grid.Floor(s.At); !start.Equal(s.At) {
		return s, record.Invalid{Field: "at", Given: line.At, Allowed: "a period of this metric starts at " + start.Format(time.RFC3339)}
	}
	if end := t.grid.Next(s.At); end.After(now) {
		return s, record.Invalid{Field: "at", Given: line.At, Allowed: "its period ends at " + end.Format(time.RFC3339) +
			", and a period's sample is known at its end, never before"}
	}
	if s.Value == nil {
		if t.Kind == timeline.Share && s.Rows != nil && *s.Rows == 0 {
			return s, nil
		}
		return s, record.Invalid{Field: "value", Given: "", Allowed: "a number; leave the line out if the period is missing"}
	}
	v := *s.Value
	switch {
	case math.IsNaN(v) || math.IsInf(v, 0):
		return s, record.Invalid{Field: "value", Given: fmt.Sprint(v),
			Allowed: "finite numbers; leave the line out if the period is missing"}
	case t.Kind == timeline.Count && (v < 0 || v != math.Trunc(v)):
		return s, record.Invalid{Field: "value", Given: fmt.Sprint(v), Allowed: "a count is a whole number from 0 up"}
	case t.Kind == timeline.Share && (v < 0 || v > 1):
		return s, record.Invalid{Field: "value", Given: fmt.Sprint(v), Allowed: "a share is 0 to 1"}
	case t.Kind == timeline.Duration && v < 0:
		return s, record.Invalid{Field: "value", Given: fmt.Sprint(v), Allowed: "a duration is 0 seconds or more"}
	case s.Rows != nil && (*s.Rows < 0 || *s.Rows != math.Trunc(*s.Rows)):
		return s, record.Invalid{Field: "rows", Given: fmt.Sprint(*s.Rows), Allowed: "a whole number from 0 up"}
	}
	return s, nil
}
