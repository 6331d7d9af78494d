// Package health says how datasets stand: their rows beside what was expected, how fresh
// they are, when the next load is due, and which promises about them are kept.
package health

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"time"

	"tinbell/core/arrival"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
)

// Reader sums datasets up.
type Reader struct {
	store   *store.Store
	watcher *watch.Watcher
	now     func() time.Time

	mu   sync.Mutex
	rest map[int64]time.Time // datasets that took long to sum up, and until when they are left alone
}

func New(s *store.Store, w *watch.Watcher, now func() time.Time) *Reader {
	return &Reader{store: s, watcher: w, now: now, rest: map[int64]time.Time{}}
}

// Health is the ingestion health of one dataset.
type Health struct {
	Dataset    record.Dataset  `json:"dataset"`
	Spark      Spark           `json:"spark" doc:"rows of all segments, last 7 days"`
	Rows24h    *float64        `json:"rows_24h"`
	Rows7d     *float64        `json:"rows_7d"`
	Rows30d    *float64        `json:"rows_30d"`
	Lowest24h  *float64        `json:"lowest_24h" doc:"rows of the day with the fewest, of the last 30"`
	Highest24h *float64        `json:"highest_24h"`
	Bytes24h   *float64        `json:"bytes_24h" doc:"of files that landed, or as runs say"`
	Bytes7d    *float64        `json:"bytes_7d"`
	Bytes30d   *float64        `json:"bytes_30d"`
	RowBytes   *float64        `json:"bytes_per_row" doc:"over 30 days"`
	Expected24 *float64        `json:"expected_24h"`
	Deviation  *float64        `json:"deviation_24h" doc:"of the rows in the last 24 hours from expected, in half-widths of the band"`
	Period     int64           `json:"period_seconds" doc:"of the small chart"`
	SparkOf    string          `json:"spark_of" doc:"what the small chart shows: rows, or of what has none to count the first metric"`
	Newest     *time.Time      `json:"newest" doc:"the newest load, or of what has none the end of the newest sample"`
	AgeSeconds *float64        `json:"age_seconds" doc:"since then"`
	Failed     string          `json:"failed" doc:"why a metric cannot be read"`
	Load       *watch.Expected `json:"load,omitempty" doc:"when the next load is due, if the pattern is known"`
	State      string          `json:"state" enum:"running,waiting,overdue,failed,silent,unknown"`
	Message    string          `json:"message"`
	Open       int             `json:"open_alerts"`
	Worst      string          `json:"worst" enum:"critical,warning,overdue," doc:"of the open alerts"`
	Loads      []time.Time     `json:"loads" doc:"loads of the last 24 hours, thinned to at most 300"`
}

// Spark is a small chart: plain columns on equal periods.
type Spark struct {
	From          time.Time  `json:"from"`
	PeriodSeconds int64      `json:"period_seconds"`
	Observed      []*float64 `json:"observed"`
	Expected      []*float64 `json:"expected"`
	Low           []*float64 `json:"low"`
	High          []*float64 `json:"high"`

	stored json.RawMessage
}

// MarshalJSON passes on a stored chart as it is: an overview holds a thousand.
func (s Spark) MarshalJSON() ([]byte, error) {
	if s.stored != nil {
		return s.stored, nil
	}
	type plain Spark
	return wire.Marshal(plain(s))
}

// restore reads a stored summary and leaves its small chart unread.
func (h *Health) restore(summary []byte) error {
	type plain Health
	var v struct {
		plain
		Spark json.RawMessage `json:"spark"`
	}
	if err := json.Unmarshal(summary, &v); err != nil {
		return err
	}
	*h = Health(v.plain)
	if bytes.Contains(v.Spark, []byte(`"observed":null`)) { // written before lists were never null
		return json.Unmarshal(v.Spark, &h.Spark)
	}
	h.Spark.stored = v.Spark
	return nil
}

// All gives every dataset's ingestion health: what was summed up when it was
// last collected, with what the clock and the open alerts say now.
func (r *Reader) All(ctx context.Context) ([]Health, error) {
	datasets, err := r.store.Datasets(ctx)
	if err != nil {
		return nil, err
	}
	open, err := r.store.Alerts(ctx, store.AlertFilter{State: "open", Held: "told"})
	if err != nil {
		return nil, err
	}
	stored, err := r.store.Healths(ctx)
	if err != nil {
		return nil, err
	}
	byDataset := map[string][]record.Alert{}
	for _, a := range open {
		byDataset[a.Dataset] = append(byDataset[a.Dataset], a)
	}
	list := make([]Health, len(datasets))
	for i, d := range datasets {
		if err := r.healthOf(ctx, &list[i], d, stored); err != nil {
			return nil, err
		}
		for _, a := range byDataset[d.Name] {
			list[i].Open++
			list[i].Worst = a.Worst(list[i].Worst)
		}
	}
	return list, nil
}

// healthOf brings a dataset's stored summary up to now, or makes the first.
func (r *Reader) healthOf(ctx context.Context, h *Health, d record.Dataset, stored map[int64]store.Summary) error {
	if s, there := stored[d.ID]; there && h.restore(s.Summary) == nil {
		h.Dataset = d
		h.bring(r.now())
		return nil
	}
	fresh, err := r.Summarise(ctx, d)
	*h = fresh
	return err
}

// restAfter is how long a dataset is left alone after summing it up took so long: what has many
// series takes seconds and is pushed to each minute, and is to take a hundredth of a core.
func restAfter(took time.Duration) time.Duration {
	if took <= 250*time.Millisecond {
		return 0
	}
	return min(100*took, 15*time.Minute)
}

// Rests tells how long a dataset need not be summed up again, since it was and that took long.
func (r *Reader) Rests(datasetID int64) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return time.Until(r.rest[datasetID])
}

// Refresh sums a dataset up again and keeps the summary.
func (r *Reader) Refresh(ctx context.Context, datasetID int64) error {
	began := time.Now()
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if rest := restAfter(time.Since(began)); rest > 0 {
			r.rest[datasetID] = time.Now().Add(rest)
		}
	}()
	d, err := r.store.DatasetByID(ctx, datasetID)
	if err != nil {
		return err
	}
	h, err := r.Summarise(ctx, d)
	if err != nil {
		return err
	}
	return r.store.PutHealth(ctx, d.ID, h, r.now())
}

// Summarise sums up one dataset from its samples and loads.
func (r *Reader) Summarise(ctx context.Context, d record.Dataset) (Health, error) {
	h := Health{Dataset: d, Loads: []time.Time{}}
	metrics, err := r.store.MetricsOf(ctx, d.ID)
	if err != nil {
		return h, err
	}
	for _, m := range metrics {
		if m.State == "failed" {
			h.Failed = m.Message
		}
		if m.Measure == record.MeasureRows && h.Rows7d == nil {
			if err := r.volume(ctx, &h, m); err != nil {
				return h, err
			}
		}
	}
	// What has no rows to count shows its first metric.
	for _, m := range metrics {
		if len(h.Spark.Observed) == 0 && m.Measure != record.MeasureFreshness {
			if err := r.figure(ctx, &h, m); err != nil {
				return h, err
			}
		}
	}
	if err := r.arrivals(ctx, &h); err != nil {
		return h, err
	}
	size, err := r.store.BytesOf(ctx, d, r.now())
	if err != nil {
		return h, err
	}
	h.Bytes24h, h.Bytes7d, h.Bytes30d, h.RowBytes = size.Day, size.Week, size.Month, size.PerRow
	h.bring(r.now())
	return h, nil
}

// bring says what the clock makes of a summary.
func (h *Health) bring(now time.Time) {
	h.AgeSeconds = nil
	if h.Newest != nil {
		age := max(now.Sub(*h.Newest).Seconds(), 0)
		h.AgeSeconds = &age
	}
	recent := h.Loads[:0]
	for _, at := range h.Loads {
		if now.Sub(at) <= 24*time.Hour {
			recent = append(recent, at)
		}
	}
	h.Loads = recent
	h.State, h.Message = "unknown", h.Failed
	switch {
	case h.Dataset.State == "failed":
		h.State, h.Message = "failed", h.Dataset.Message
	case h.Failed != "":
		h.State = "failed"
	case h.Load != nil:
		h.Load.Overdue = now.After(h.Load.Deadline)
		switch {
		case h.Load.Overdue:
			h.State = "overdue"
		case h.Load.Expected.Sub(h.Load.Last) > 3*time.Hour:
			h.State = "waiting"
		default:
			h.State = "running"
		}
	case h.Newest != nil && now.Sub(*h.Newest) <= 3*time.Duration(h.Period)*time.Second:
		h.State = "running"
	}
}

// arrivals fills in the newest load, or of what has none the newest sample, and
// when the next load is due.
func (r *Reader) arrivals(ctx context.Context, h *Health) error {
	now := r.now()
	zone, err := time.LoadLocation(h.Dataset.Zone)
	if err != nil {
		return err
	}
	monitors, err := r.store.MonitorsOn(ctx, h.Dataset.Name)
	if err != nil {
		return err
	}
	rule := record.DefaultSettings().Rule(1)
	for _, m := range monitors {
		if m.Settings.Method == record.MethodArrival {
			rule = m.ArrivalRule()
		}
	}
	loads, err := r.store.Loads(ctx, h.Dataset.ID, now.Add(-24*time.Hour), now.Add(time.Second))
	if err != nil {
		return err
	}
	stride := len(loads)/300 + 1
	for i := 0; i < len(loads); i += stride {
		h.Loads = append(h.Loads, loads[i].At)
	}
	next, err := r.watcher.NextLoad(ctx, h.Dataset.ID, zone, rule)
	var few arrival.TooFew
	switch {
	case err == nil:
		h.Load, h.Newest = &next, &next.Last
	case !errors.As(err, &few):
		return err
	case few.Have > 0 && len(loads) > 0:
		h.Newest = &loads[len(loads)-1].At
	case few.Have == 0:
		newest, err := r.store.NewestSample(ctx, h.Dataset.ID, now)
		if err != nil || newest == nil {
			return err
		}
		end := newest.Add(time.Duration(h.Period) * time.Second)
		h.Newest = &end
	}
	return nil
}

// volume fills in rows, their expectation and the sparkline.
func (r *Reader) volume(ctx context.Context, h *Health, m record.Metric) error {
	t, err := r.total(ctx, m)
	if err != nil || t == nil {
		return err
	}
	h.Spark, h.Period, h.SparkOf, h.Deviation = t.spark, m.PeriodSeconds, "rows", wire.Finite(t.Deviation)
	if m.Long() {
		return nil // rows of a week or month are no rows of a day
	}
	h.Rows24h, h.Rows7d, h.Rows30d = wire.Finite(t.Day), wire.Finite(t.Week), wire.Finite(t.Month)
	h.Lowest24h, h.Highest24h, h.Expected24 = wire.Finite(t.Lowest), wire.Finite(t.Highest), wire.Finite(t.Expected)
	return nil
}

// figure shows a metric that is no row count: the mean of its segments.
func (r *Reader) figure(ctx context.Context, h *Health, m record.Metric) error {
	t, err := r.total(ctx, m)
	if err == nil && t != nil {
		h.Spark, h.Period, h.SparkOf = t.spark, m.PeriodSeconds, strings.ReplaceAll(m.Measure, "_", " ")
	}
	return err
}
