package logs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"tinbell/core/timeline"
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
	if err := k.storeValues(ctx, log); err != nil {
		return err
	}
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
	from = timeline.Later(from, to.Add(-farthest))
	if !from.Before(to) {
		return nil
	}
	counts, err := k.store.LogPeriods(ctx, log.ID, from, to)
	if err != nil {
		return err
	}
	metric, err := k.metric(ctx, log.Metric, log.Dataset, "severity", 0)
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
			begin[c.Severity] = timeline.Later(log.FirstAt.Truncate(record.LogPeriod), to.Add(-farthest))
		}
		n[record.LogCount{At: c.At.UTC(), Severity: c.Severity}] += c.N
	}
	var lines bytes.Buffer
	if err := k.followed(ctx, log, &lines, from, to); err != nil {
		return err
	}
	if err := k.apart(ctx, log, &lines, from, to); err != nil {
		return err
	}
	for _, s := range slices.Sorted(maps.Keys(begin)) {
		for at := begin[s].UTC(); at.Before(to); at = at.Add(record.LogPeriod) {
			fmt.Fprintf(&lines, `{"metric":%q,"segment":%q,"at":%q,"value":%d}`+"\n", log.Metric, s, at.Format(time.RFC3339),
				n[record.LogCount{At: at, Severity: s}])
		}
	}
	receipt, err := k.collector.Push(ctx, &lines, "ndjson", false, nil)
	if err != nil {
		return err
	}
	if receipt.Refused > 0 {
		return fmt.Errorf("log %s: %d samples were refused, the first: %s", log.Name, receipt.Refused, receipt.Problems[0].Reason)
	}
	return k.store.CountedLog(ctx, log.ID, log.TouchedFrom, to)
}

// Sentences is the metric of the sentences of a log that are followed.
func Sentences(log string) string { return "log-" + log + "-sentences" }

// followed writes the samples of the sentences that are followed. One that became part
// of another has the lines of that.
func (k *Keeper) followed(ctx context.Context, log record.Log, lines *bytes.Buffer, from, to time.Time) error {
	rows, err := k.store.LogTemplates(ctx, log.ID)
	if err != nil {
		return err
	}
	into := map[int]int{}
	var followed []int
	for _, t := range rows {
		if into[t.Number] = t.MergedInto; t.Followed {
			followed = append(followed, t.Number)
		}
	}
	if len(followed) == 0 {
		return nil
	}
	final := make([]int, len(followed))
	for i, n := range followed {
		for into[n] != 0 {
			n = into[n]
		}
		final[i] = n
	}
	counts, err := k.store.LogPeriodsOf(ctx, log.ID, final, from, to)
	if err != nil {
		return err
	}
	n := map[record.LogCount]int64{}
	for _, c := range counts {
		n[record.LogCount{Number: c.Number, At: c.At.UTC()}] = c.N
	}
	for i, number := range followed {
		for at := from.UTC(); at.Before(to); at = at.Add(record.LogPeriod) {
			fmt.Fprintf(lines, `{"metric":%q,"segment":"sentence %d","at":%q,"value":%d}`+"\n", Sentences(log.Name), number,
				at.Format(time.RFC3339), n[record.LogCount{Number: final[i], At: at}])
		}
	}
	return nil
}

// By is the metric of a log's lines by an attribute.
func By(log, attribute string) string { return "log-" + log + "-by-" + attribute }

// apart writes the samples of lines by attributes.
func (k *Keeper) apart(ctx context.Context, log record.Log, lines *bytes.Buffer, from, to time.Time) error {
	if len(log.By) == 0 {
		return nil
	}
	counts, err := k.store.LogPartPeriods(ctx, log.ID, from, to)
	if err != nil {
		return err
	}
	values, err := k.store.LogAttributes(ctx, log.ID)
	if err != nil {
		return err
	}
	n := map[record.LogPart]int64{}
	for _, c := range counts {
		n[record.LogPart{At: c.At.UTC(), Attribute: c.Attribute, Value: c.Value}] = c.N
	}
	for _, name := range log.By {
		metric := By(log.Name, name)
		_, err := k.metric(ctx, metric, log.Dataset, name, mostApart+1)
		if err != nil {
			return err
		}
		for _, v := range values {
			if v.Attribute != name {
				continue
			}
			for at := from.UTC(); at.Before(to); at = at.Add(record.LogPeriod) {
				fmt.Fprintf(lines, `{"metric":%q,"segment":%q,"at":%q,"value":%d}`+"\n", metric, v.Value, at.Format(time.RFC3339),
					n[record.LogPart{At: at, Attribute: name, Value: v.Value}])
			}
		}
	}
	return nil
}

// kept is how long a line is kept.
const kept = 90 * 24 * time.Hour

// Forget drops counts that are older than samples are kept; 0 keeps all.
func (k *Keeper) Forget(ctx context.Context, days int) error {
	if err := k.store.ForgetExports(ctx, k.now().AddDate(0, 0, -2)); err != nil {
		return err
	}
	if err := k.store.ForgetLogSamples(ctx, k.now().Add(-kept)); err != nil {
		return err
	}
	if err := k.store.ForgetLogValues(ctx, k.now().AddDate(0, 0, -valuesFor)); err != nil {
		return err
	}
	k.mu.Lock()
	clear(k.held) // so that lines are kept again in the place of those that went
	k.mu.Unlock()
	if days <= 0 {
		return nil
	}
	return k.store.ForgetLogCounts(ctx, k.now().AddDate(0, 0, -days))
}
