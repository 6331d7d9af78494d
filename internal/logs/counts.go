package logs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"tinbell/internal/contain"
	"tinbell/internal/record"
)

// settle is how long after a period's end its lines are waited for; later ones correct it.
const settle = time.Minute

// farthest is how far back late lines correct samples.
const farthest = 31 * 24 * time.Hour

// Unsaid names the lines that say no severity.
const Unsaid = "(unsaid)"

// Due makes samples of what was counted, by severity: each log's lines are a series like
// any other.
func (k *Keeper) Due(ctx context.Context) error {
	list, err := k.store.Logs(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, log := range list {
		failed = append(failed, contain.Run(func() error { return k.sampled(ctx, log) }))
	}
	return errors.Join(failed...)
}

func (k *Keeper) sampled(ctx context.Context, log record.Log) error {
	if log.FirstAt == nil {
		return nil
	}
	to := k.now().Add(-settle).Truncate(record.LogPeriod)
	from := log.FirstAt.Truncate(record.LogPeriod)
	if log.CountedTo != nil {
		if from = *log.CountedTo; log.TouchedFrom != nil && log.TouchedFrom.Before(from) {
			from = log.TouchedFrom.Truncate(record.LogPeriod)
		}
	}
	from = later(from, to.Add(-farthest))
	if !from.Before(to) {
		return nil
	}
	counts, err := k.store.LogPeriods(ctx, log.ID, from, to)
	if err != nil {
		return err
	}
	metric, err := k.store.Metric(ctx, log.Metric)
	if missing := (record.NotFound{}); errors.As(err, &missing) {
		metric, err = k.declare(ctx, log.Name, log.Dataset)
	}
	if err != nil {
		return err
	}
	known, err := k.store.SeriesOf(ctx, metric.ID)
	if err != nil {
		return err
	}
	begin := map[string]time.Time{}
	for _, s := range known {
		begin[s.Segment] = from
	}
	n := map[record.LogCount]int64{}
	for _, c := range counts {
		if c.Severity == "" {
			c.Severity = Unsaid
		}
		if _, there := begin[c.Severity]; !there { // none came before: that is its past
			begin[c.Severity] = later(log.FirstAt.Truncate(record.LogPeriod), to.Add(-farthest))
		}
		n[record.LogCount{At: c.At.UTC(), Severity: c.Severity}] += c.N
	}
	var lines bytes.Buffer
	for _, s := range slices.Sorted(maps.Keys(begin)) {
		for at := begin[s].UTC(); at.Before(to); at = at.Add(record.LogPeriod) {
			fmt.Fprintf(&lines, `{"metric":%q,"segment":%q,"at":%q,"value":%d}`+"\n", log.Metric, s, at.Format(time.RFC3339), n[record.LogCount{At: at, Severity: s}])
		}
	}
	receipt, err := k.collector.Push(ctx, &lines, "ndjson", false)
	if err != nil {
		return err
	}
	if receipt.Refused > 0 {
		return fmt.Errorf("log %s: %d samples were refused, the first: %s", log.Name, receipt.Refused, receipt.Problems[0].Reason)
	}
	return k.store.CountedLog(ctx, log.ID, log.TouchedFrom, to)
}

// Forget drops counts that are older than samples are kept; 0 keeps all.
func (k *Keeper) Forget(ctx context.Context, days int) error {
	if err := k.store.ForgetExports(ctx, k.now().AddDate(0, 0, -2)); err != nil || days <= 0 {
		return err
	}
	return k.store.ForgetLogCounts(ctx, k.now().AddDate(0, 0, -days))
}
