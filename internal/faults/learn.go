package faults

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/fault"
	"tinbell/core/timeline"
	"tinbell/internal/store"
)

const (
	wobbled    = 8 * 7 * 24 * time.Hour // past that the wobble of rows is looked for in
	disturbed  = 180 * 24 * time.Hour   // past that faults are looked for in
	paced      = 28 * 24 * time.Hour    // past that runs are looked at
	furthest   = 48 * 3600              // seconds that a lag of hours is looked for
	learnEvery = 6 * time.Hour
	fewSeries  = 64 // series of a metric that are read
	leastPace  = 8  // runs that a pace needs
	sharesFrom = 28 * 24 * time.Hour
)

// Learn learns of each step of the lineage how long after upstream a dataset shows
// a disturbance: from the wobble of their rows or, where that shows nothing, from
// faults that people confirmed or how often its job runs; and of each dataset the
// shares of its segments. It does so again where there are others now, and four times
// a day.
func (d *Desk) Learn(ctx context.Context) error {
	now := d.now()
	steps, err := d.store.Steps(ctx)
	if err != nil {
		return err
	}
	series, err := d.store.RowSeries(ctx, fewSeries)
	if err != nil {
		return err
	}
	world := learned{now, len(steps), len(series)}
	if d.learned.steps == world.steps && d.learned.series == world.series && now.Sub(d.learned.at) < learnEvery {
		return nil
	}
	whole := rowsByDataset{store: d.store, series: series, known: map[string]rows{}}
	apart, err := d.store.Apartnesses(ctx, now.Add(-disturbed))
	if err != nil {
		return err
	}
	paces, err := d.store.Paces(ctx, now.Add(-paced))
	if err != nil {
		return err
	}
	var lags []store.LineageLag
	for _, step := range steps {
		l := store.LineageLag{From: step.From, To: step.To, LearnedAt: now}
		if learned, ok, err := whole.lag(ctx, step, now); err != nil {
			return err
		} else if ok {
			l.Low, l.High, l.Spread, l.Pass, l.Learned = learned.Lag.Low, learned.Lag.High, learned.Lag.Spread, learned.Pass, "rows"
		} else if lag, ok := fault.Observed(apartOf(apart, step)); ok {
			l.Low, l.High, l.Spread, l.Learned = lag.Low, lag.High, lag.Spread, "faults"
		} else if i := slices.IndexFunc(paces, func(p store.Pace) bool { return p.From == step.From && p.To == step.To }); i >= 0 && paces[i].Runs >= leastPace {
			// A disturbance waits for the next run at the longest.
			l.High, l.Spread, l.Learned = paces[i].Seconds+3600, max(3600, paces[i].Seconds/4), "runs"
		} else {
			continue
		}
		lags = append(lags, l)
	}
	shares, err := d.shares(ctx, series, now)
	if err != nil {
		return err
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.PutLineageLags(ctx, tx, lags); err != nil {
			return err
		}
		return store.PutSegmentShares(ctx, tx, shares)
	})
	if err == nil {
		d.learned = world
	}
	return err
}

// learned is of what was learned last; only the duty that learns reads it.
type learned struct {
	at            time.Time
	steps, series int
}

func apartOf(list []store.Apartness, step store.Step) (seconds []float64) {
	for _, a := range list {
		if a.From == step.From && a.To == step.To {
			seconds = append(seconds, a.Seconds)
		}
	}
	return seconds
}

// rows are a dataset's counts by period.
type rows struct {
	period int64
	from   time.Time
	values []float64
}

// rowsByDataset reads the rows of whole datasets, each once.
type rowsByDataset struct {
	store  *store.Store
	series []store.RowSeries
	known  map[string]rows
}

// lag learns a step from the wobble of rows, where both ends have the same period.
func (r *rowsByDataset) lag(ctx context.Context, step store.Step, now time.Time) (l fault.Learned, ok bool, err error) {
	up, err := r.of(ctx, step.From, now)
	if err != nil {
		return l, false, err
	}
	down, err := r.of(ctx, step.To, now)
	if err != nil || up.period == 0 || up.period != down.period || len(up.values) != len(down.values) {
		return l, false, err
	}
	reach := float64(furthest)
	if up.period >= 86400 {
		reach = 7 * 86400
	}
	l, ok = fault.Learn(up.values, down.values, up.period, reach)
	return l, ok, nil
}

// of sums what the series of a dataset's first metric of rows counted, all of its
// segments or the whole.
func (r *rowsByDataset) of(ctx context.Context, dataset string, now time.Time) (rows, error) {
	if known, ok := r.known[dataset]; ok {
		return known, nil
	}
	var ids []int64
	var v rows
	metric := int64(0)
	for _, s := range r.series {
		if s.Dataset == dataset && (metric == 0 || metric == s.MetricID) {
			metric, v.period = s.MetricID, s.Period
			ids = append(ids, s.SeriesID)
		}
	}
	if v.period < 900 || len(ids) == fewSeries { // minutes are no lag's measure, and some of many series are no whole
		r.known[dataset] = rows{}
		return rows{}, nil
	}
	from := time.Unix(now.Add(-wobbled).Unix()/v.period*v.period, 0).UTC()
	v.from, v.values = from, make([]float64, int(now.Sub(from).Seconds())/int(v.period))
	for i := range v.values {
		v.values[i] = math.NaN()
	}
	err := r.store.EachSeries(ctx, ids, from, now, func(_ int64, list []timeline.Sample) error {
		for _, x := range list {
			i := int(x.At-from.Unix()) / int(v.period)
			if i < 0 || i >= len(v.values) || math.IsNaN(x.Value) {
				continue
			}
			if math.IsNaN(v.values[i]) {
				v.values[i] = 0
			}
			v.values[i] += x.Value
		}
		return nil
	})
	r.known[dataset] = v
	return v, err
}

// shares gives which share of each dataset's rows the values of its columns have.
func (d *Desk) shares(ctx context.Context, series []store.RowSeries, now time.Time) ([]store.SegmentShare, error) {
	var shares []store.SegmentShare
	seen := map[[3]string]bool{}
	for i := 0; i < len(series); {
		j := i
		for j < len(series) && series[j].MetricID == series[i].MetricID {
			j++
		}
		part := series[i:j]
		i = j
		if len(part[0].SegmentBy) == 0 {
			continue
		}
		ids := make([]int64, len(part))
		sum := map[int64]float64{}
		for k, s := range part {
			ids[k] = s.SeriesID
		}
		total := 0.0
		err := d.store.EachSeries(ctx, ids, now.Add(-sharesFrom), now, func(id int64, list []timeline.Sample) error {
			for _, x := range list {
				if !math.IsNaN(x.Value) {
					sum[id], total = sum[id]+x.Value, total+x.Value
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		byValue := map[[2]string]float64{}
		for _, s := range part {
			values := strings.Split(s.Segment, " / ")
			if len(values) != len(s.SegmentBy) || total <= 0 {
				continue
			}
			for k, column := range s.SegmentBy {
				byValue[[2]string{column, values[k]}] += sum[s.SeriesID] / total
			}
		}
		for key, share := range byValue {
			if id := [3]string{part[0].Dataset, key[0], key[1]}; !seen[id] {
				seen[id] = true
				shares = append(shares, store.SegmentShare{Dataset: part[0].Dataset, Column: key[0], Value: key[1], Share: share})
			}
		}
	}
	return shares, nil
}
