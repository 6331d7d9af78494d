package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
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
	Period    string        `json:"period" doc:"for example 5m, 1h, 24h"`
	Zone      string        `json:"zone,omitempty" doc:"of the tz database; UTC if left out"`
	OTLP      string        `json:"otlp,omitempty" doc:"OTLP metric that it takes; its own name if left out"`
	SegmentBy []string      `json:"segment_by,omitempty" doc:"OTLP attributes whose values name the segment"`
}

// Receipt tells what became of a push.
type Receipt struct {
	Accepted int64     `json:"accepted" doc:"samples stored; sent twice they count once"`
	Changed  int64     `json:"changed" doc:"of these, new or corrected"`
	Refused  int64     `json:"refused"`
	Problems []Problem `json:"problems" doc:"the first hundred refused lines"`
}

// Problem names a line that was refused.
type Problem struct {
	Line   int    `json:"line"`
	Reason string `json:"reason"`
}

const (
	maxProblems = 100
	chunk       = 20000
	maxLine     = 1 << 20
)

// ErrStrict is returned when a strict push had a bad line; nothing was stored.
var ErrStrict = errors.New("nothing was stored: strict was asked for and there are bad lines")

// Push stores samples from a stream of NDJSON, CSV or JSON. Good lines are stored and
// bad ones named; strict makes it all or nothing. When Push returns without an
// error, what it accepted is durable.
func (c *Collector) Push(ctx context.Context, body io.Reader, format string, strict bool) (Receipt, error) {
	p := push{collector: c, metrics: map[string]*target{}, strict: strict, touched: map[int64]time.Time{}}
	p.receipt.Problems = []Problem{}
	read := map[string]func(context.Context, io.Reader) error{"ndjson": p.readNDJSON, "csv": p.readCSV, "json": p.readJSON}[format]
	var err error
	if strict {
		err = c.store.InTx(ctx, func(tx pgx.Tx) error {
			p.tx = tx
			if err := read(ctx, body); err != nil {
				return err
			}
			if p.receipt.Refused > 0 {
				return ErrStrict
			}
			return p.flush(ctx)
		})
		if err != nil {
			p.receipt.Accepted, p.receipt.Changed = 0, 0
		}
		return p.receipt, err
	}
	err = read(ctx, body)
	var broken record.Invalid
	if err == nil || errors.As(err, &broken) {
		err = errors.Join(p.flush(ctx), err)
	}
	return p.receipt, errors.Join(p.settle(), err)
}

type target struct {
	record.Metric
	grid   timeline.Grid
	series map[string]int64
}

type push struct {
	collector *Collector
	metrics   map[string]*target
	strict    bool
	tx        pgx.Tx
	pending   []record.Sample
	touched   map[int64]time.Time // metric → earliest period in pending
	writing   chan error          // result of the batch on its way
	receipt   Receipt
}

func (p *push) refuse(line int, err error) {
	p.receipt.Refused++
	if len(p.receipt.Problems) < maxProblems {
		p.receipt.Problems = append(p.receipt.Problems, Problem{line, err.Error()})
	}
}

func (p *push) take(ctx context.Context, n int, line Line) error {
	if line.Declare != nil {
		if _, err := p.collector.Declare(ctx, *line.Declare); err != nil {
			var conflict record.Conflict
			if !errors.As(err, &conflict) {
				p.refuse(n, err)
			} else if known, _ := p.metric(ctx, line.Declare.Metric); known == nil || !known.same(*line.Declare) {
				p.refuse(n, fmt.Errorf("metric %q is declared already, and differently", line.Declare.Metric))
			}
		}
		return nil
	}
	m, err := p.metric(ctx, line.Metric)
	if err != nil {
		p.refuse(n, err)
		return nil
	}
	sample, err := m.check(line, p.collector.now())
	if err != nil {
		p.refuse(n, err)
		return nil
	}
	if m.series[line.Segment] == 0 {
		ids, err := p.collector.store.EnsureSeries(ctx, m.ID, []string{line.Segment})
		if err != nil {
			return err
		}
		m.series = ids
	}
	sample.SeriesID = m.series[line.Segment]
	p.pending = append(p.pending, sample)
	if at, there := p.touched[m.ID]; !there || sample.At.Before(at) {
		p.touched[m.ID] = sample.At
	}
	if len(p.pending) >= chunk {
		return p.flush(ctx)
	}
	return nil
}

func (p *push) metric(ctx context.Context, name string) (*target, error) {
	if known := p.metrics[name]; known != nil {
		return known, nil
	}
	m, err := p.collector.store.Metric(ctx, name)
	if err != nil {
		var missing record.NotFound
		if errors.As(err, &missing) {
			return nil, fmt.Errorf("no metric named %q: declare it first, by a line {\"declare\": …} or 'tinbell metric declare'", name)
		}
		return nil, err
	}
	if !m.Pushed() {
		return nil, fmt.Errorf("metric %q is collected from a warehouse and takes no pushed samples", name)
	}
	t, err := p.collector.targetOf(ctx, m)
	if err == nil {
		p.metrics[name] = t
	}
	return t, err
}

// targetOf prepares a pushed metric for samples.
func (c *Collector) targetOf(ctx context.Context, m record.Metric) (*target, error) {
	t := &target{Metric: m, series: map[string]int64{}}
	var err error
	if t.grid, err = m.Grid(); err != nil {
		return nil, err
	}
	list, err := c.store.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		t.series[s.Segment] = s.ID
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
		return s, record.Invalid{Field: "at", Given: line.At, Allowed: "the start of the period as RFC 3339, for example 2026-06-18T09:00:00Z"}
	}
	s.At = at.UTC()
	if start := t.grid.Floor(s.At); !start.Equal(s.At) {
		return s, record.Invalid{Field: "at", Given: line.At, Allowed: "a period of this metric starts at " + start.Format(time.RFC3339)}
	}
	if end := t.grid.Next(s.At); end.After(now) {
		return s, record.Invalid{Field: "at", Given: line.At, Allowed: "its period ends at " + end.Format(time.RFC3339) + ", and a period's sample is known at its end, never before"}
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
		return s, record.Invalid{Field: "value", Given: fmt.Sprint(v), Allowed: "finite numbers; leave the line out if the period is missing"}
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

// flush hands what is pending to be written, while the next lines are read; at
// most one batch is on its way. Within a strict push it is written at once.
func (p *push) flush(ctx context.Context) error {
	if err := p.settle(); err != nil || len(p.pending) == 0 {
		return err
	}
	batch, touched := p.pending, p.touched
	p.pending, p.touched = make([]record.Sample, 0, chunk), map[int64]time.Time{}
	if p.tx != nil {
		return p.write(ctx, p.tx, batch, touched)
	}
	p.writing = make(chan error, 1)
	go func() {
		p.writing <- p.collector.store.InTx(ctx, func(tx pgx.Tx) error { return p.write(ctx, tx, batch, touched) })
	}()
	return nil
}

// settle waits until the batch on its way is durable.
func (p *push) settle() error {
	if p.writing == nil {
		return nil
	}
	err := <-p.writing
	p.writing = nil
	return err
}

// write stores a batch and queues its evaluation with it.
func (p *push) write(ctx context.Context, tx pgx.Tx, batch []record.Sample, touched map[int64]time.Time) error {
	changed, _, err := store.PutSamples(ctx, tx, batch, store.RecentFrom(p.collector.now()))
	if err != nil {
		return err
	}
	p.receipt.Accepted += int64(len(batch))
	p.receipt.Changed += changed
	if changed == 0 {
		return nil
	}
	for metric, from := range touched {
		if err := p.collector.queue.Put(ctx, tx, work.Evaluate{MetricID: metric, From: from}); err != nil {
			return err
		}
	}
	return nil
}
