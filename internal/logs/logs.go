// Package logs counts what lines say: lines that are pushed become counts of the
// sentences that they are made from. Lines themselves are not kept, but a few of each
// sentence, with secrets masked.
package logs

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

const (
	mostTemplates = 10_000
	batch         = 20_000 // lines written at once
	mostHeld      = 200    // logs whose templates are held in memory
)

// Keeper keeps logs.
type Keeper struct {
	store     *store.Store
	collector *collect.Collector
	now       func() time.Time

	mu      sync.Mutex
	held    map[int64]*held
	pending map[int64]map[part]*template.Values // of parts, that are not stored yet
	watches map[int64]*watch
}

// held are a log's templates as they were at a version of it.
type held struct {
	version int64
	miner   *template.Miner
	rows    map[int]*record.LogTemplate
	says    map[int]map[string]int64 // severities of lines, since it is held
	samples map[int][]string
	apart   map[string]map[string]bool // values of attributes that are told apart
	vary    []template.PlaceOf
}

// New makes a keeper.
func New(s *store.Store, c *collect.Collector, now func() time.Time) *Keeper {
	return &Keeper{store: s, collector: c, now: now, held: map[int64]*held{}, pending: map[int64]map[part]*template.Values{},
		watches: map[int64]*watch{}}
}

// Order says what is pushed.
type Order struct {
	Log    string
	Owner         // of a log that is new; none: it must be there
	JSON   bool   // NDJSON, else plain lines
	Source string // the file; lines of it that were counted do not count again. Empty: all count
	First  int64  // number of the first line sent, from 1
}

// Owner is whose lines a log holds: a dataset's, those of a job that writes one, or of a
// service, which is watched as a dataset of its own.
type Owner struct{ Dataset, Job, Service string }

// LogReceipt tells what became of a push.
type LogReceipt struct {
	Lines    int64        `json:"lines" doc:"counted; those of a trace after its first belong to it"`
	Again    int64        `json:"again" doc:"counted before, by their place in the file"`
	Traces   int64        `json:"traces" doc:"further lines of traces"`
	New      int          `json:"new_templates"`
	Overflow int64        `json:"overflow" doc:"counted together: there are as many templates as are kept"`
	Cut      int64        `json:"cut" doc:"lines of which only the first 64 kB were looked at"`
	Refused  int64        `json:"refused"`
	Problems []LogProblem `json:"problems" doc:"the first hundred refused lines"`
}

// Push counts lines. When it returns without an error, what it counted is durable.
func (k *Keeper) Push(ctx context.Context, o Order, body io.Reader) (LogReceipt, error) {
	receipt := LogReceipt{Problems: []LogProblem{}}
	log, err := k.log(ctx, o)
	if err != nil {
		return receipt, err
	}
	zone, err := time.LoadLocation(log.Zone)
	if err != nil {
		zone = time.UTC
	}
	r := &reader{by: log.By, goesOn: o.First > 1, in: bufio.NewReaderSize(body, longestLine), json: o.JSON, now: k.now(),
		zone: zone, refuse: func(line int64, why error) {
			if receipt.Refused++; len(receipt.Problems) < maxProblems {
				receipt.Problems = append(receipt.Problems, LogProblem{line + max(o.First-1, 0), why.Error()})
			}
		}}
	for done := false; !done; {
		var list []entry
		for len(list) < batch && !done {
			e, err := r.next()
			switch {
			case errors.Is(err, io.EOF):
				done = true
			case err != nil:
				return receipt, err
			default:
				e.text = clean(e.text)
				list = append(list, e)
			}
		}
		if len(list) == 0 {
			break
		}
		counted, err := k.keep(ctx, log.ID, o, list)
		if err != nil {
			return receipt, err
		}
		receipt.Lines, receipt.Again, receipt.New, receipt.Overflow = receipt.Lines+counted.Lines, receipt.Again+counted.Again,
			receipt.New+counted.New, receipt.Overflow+counted.Overflow
	}
	receipt.Traces, receipt.Cut = r.lines, r.cut
	return receipt, nil
}

// keep counts some lines, durably.
func (k *Keeper) keep(ctx context.Context, log int64, o Order, list []entry) (r LogReceipt, err error) {
	var values map[part]*template.Values
	err = k.store.InTx(ctx, func(tx pgx.Tx) (err error) {
		r, values, err = k.count(ctx, tx, o, list)
		return err
	})
	if err != nil {
		k.forget(log)
		return r, err
	}
	k.addValues(log, values)
	return r, nil
}

// log finds a log, or makes it.
func (k *Keeper) log(ctx context.Context, o Order) (record.Log, error) {
	if err := (&record.Log{Name: o.Log}).Check(); err != nil {
		return record.Log{}, err
	}
	log, err := k.store.Log(ctx, o.Log)
	var missing record.NotFound
	switch {
	case err == nil && o.Dataset != "" && o.Dataset != log.Dataset:
		return log, record.Conflict{What: fmt.Sprintf("log %s is of %s already", o.Log, log.Dataset)}
	case err == nil && (o.Job != "" && o.Job != log.Job || o.Service != "" && o.Service != log.Service):
		return log, record.Conflict{What: fmt.Sprintf("log %s is there already: say whose it is with tinbell log set", o.Log)}
	case err == nil || !errors.As(err, &missing):
		return log, err
	case o.Owner == Owner{}:
		return log, record.Refused{Field: "dataset",
			Why: fmt.Sprintf("there is no log %s yet: say which dataset, job or service its lines are of", o.Log)}
	}
	dataset, err := k.datasetOf(ctx, o.Owner)
	if err != nil {
		return log, err
	}
	metric, err := k.metric(ctx, "log-"+o.Log, dataset, "severity", 0)
	if err != nil {
		return log, err
	}
	if metric.Dataset != dataset {
		return log, record.Conflict{What: fmt.Sprintf("metric %s is of %s already: give the log another name", metric.Name, metric.Dataset)}
	}
	err = k.store.InTx(ctx, func(tx pgx.Tx) error {
		return store.AddLog(ctx, tx, o.Log, metric.DatasetID, o.Job, o.Service)
	})
	if err != nil {
		return log, err
	}
	return k.store.Log(ctx, o.Log)
}

// datasetOf is the dataset under which a log is watched: the one that is named, the one
// that its job writes, or one that stands for its service.
func (k *Keeper) datasetOf(ctx context.Context, o Owner) (string, error) {
	if o.Job != "" && o.Service != "" {
		return "", record.Invalid{Field: "job and service", Given: o.Job + " and " + o.Service, Allowed: "one of both"}
	}
	if o.Service != "" && o.Dataset == "" {
		return "service." + o.Service, record.CheckName("service", o.Service)
	}
	if o.Job == "" {
		return o.Dataset, nil
	}
	writes, err := k.store.Writes(ctx)
	if err != nil {
		return "", err
	}
	var written []string
	for _, w := range writes {
		if w.Job == o.Job {
			written = append(written, w.Dataset)
		}
	}
	slices.Sort(written)
	switch {
	case o.Dataset != "":
		return o.Dataset, nil
	case len(written) == 0:
		return "", record.Refused{Field: "job",
			Why: fmt.Sprintf("of no job %s is it known what it writes: say the dataset too, or send its lineage first", o.Job)}
	case len(written) > 1:
		return "", record.Refused{Field: "job", Why: fmt.Sprintf("%s writes %s: say of which dataset its lines are", o.Job,
			words.List(written))}
	}
	return written[0], nil
}

// metric gives a metric of lines by what they are counted apart by, made if it is new; most is
// how many segments it has, 0 for what is usual.
func (k *Keeper) metric(ctx context.Context, name, dataset, by string, most int) (record.Metric, error) {
	m, err := k.store.Metric(ctx, name)
	if missing := (record.NotFound{}); !errors.As(err, &missing) {
		return m, err
	}
	m, err = k.collector.Declare(ctx, collect.Declaration{Metric: name, Dataset: dataset, Measure: "log_lines",
		Kind: timeline.Count, Unit: "lines", Period: "5m",
		SegmentBy: []string{by}, MaxSegments: most})
	if conflict := (record.Conflict{}); errors.As(err, &conflict) { // another made it meanwhile
		return k.store.Metric(ctx, name)
	}
	return m, err
}

// clean gives a copy of a line as text that can be stored: what is none becomes a mark.
func clean(line []byte) []byte {
	if utf8.Valid(line) && bytes.IndexByte(line, 0) < 0 {
		return slices.Clone(line)
	}
	return bytes.ReplaceAll(bytes.ToValidUTF8(line, []byte("\uFFFD")), []byte{0}, []byte("\uFFFD"))
}

func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}
