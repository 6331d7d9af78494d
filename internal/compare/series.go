package compare

import (
	"context"
	"errors"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// figure is one kind of drift figure that is a metric, its segments the features
// or the versions of a model.
type figure struct {
	suffix  string
	measure string
	unit    string
	kind    timeline.Kind
	by      string // what the segments are
	read    func(f record.DriftResult, put func(segment string, value, rows float64))
}

func measured(name string) func(record.DriftResult, func(string, float64, float64)) {
	return func(found record.DriftResult, put func(string, float64, float64)) {
		for _, f := range found.Features {
			if m, there := f.Measure(name); there {
				put(f.Feature, m.Value, float64(f.Period.Rows))
			}
		}
	}
}

func moment(of func(drift.Moments) float64) func(record.DriftResult, func(string, float64, float64)) {
	return func(found record.DriftResult, put func(string, float64, float64)) {
		for _, f := range found.Features {
			if _, numeric := f.Measure(drift.MeasureKS); numeric {
				put(f.Feature, of(f.Period), float64(f.Period.Rows))
			}
		}
	}
}

func ofVersions(of func(m record.ModelResult) (float64, bool)) func(record.DriftResult, func(string, float64, float64)) {
	return func(found record.DriftResult, put func(string, float64, float64)) {
		for _, m := range found.Models {
			if v, ok := of(m); ok {
				put(m.Version, v, float64(m.Rows))
			}
		}
	}
}

// figures are all that become series.
var figures = []figure{
	{"", record.MeasureDrift, "times its limit", timeline.Value, "feature", overLimits},
	{"psi", drift.MeasurePSI, "PSI", timeline.Value, "feature", measured(drift.MeasurePSI)},
	{"jensen-shannon", drift.MeasureJS, "Jensen-Shannon distance", timeline.Value, "feature", measured(drift.MeasureJS)},
	{"ks", drift.MeasureKS, "Kolmogorov-Smirnov distance", timeline.Value, "feature", measured(drift.MeasureKS)},
	{"chi-square", drift.MeasureChiSquare, "chi-square", timeline.Value, "feature", measured(drift.MeasureChiSquare)},
	{"wasserstein", drift.MeasureWasserstein, "Wasserstein distance", timeline.Value, "feature", measured(drift.MeasureWasserstein)},
	{"missing", drift.MeasureMissing, "missing share", timeline.Share, "feature", measured(drift.MeasureMissing)},
	{"new", drift.MeasureNew, "share of new categories", timeline.Share, "feature", measured(drift.MeasureNew)},
	{"vanished", drift.MeasureVanished, "vanished categories", timeline.Count, "feature", measured(drift.MeasureVanished)},
	{"outside", drift.MeasureOutside, "share outside the reference's range", timeline.Share, "feature", measured(drift.MeasureOutside)},
	{"mean", "mean", "mean", timeline.Value, "feature", moment(func(m drift.Moments) float64 { return m.Mean })},
	{"sd", "sd", "standard deviation", timeline.Value, "feature", moment(func(m drift.Moments) float64 { return m.SD })},
	{"min", "min", "smallest value", timeline.Value, "feature", moment(func(m drift.Moments) float64 { return m.Min })},
	{"max", "max", "largest value", timeline.Value, "feature", moment(func(m drift.Moments) float64 { return m.Max })},
	{"separability", "separability", "separability", timeline.Share, "", func(found record.DriftResult,
		put func(string, float64, float64)) {
		if s := found.Separability; s != nil {
			put("", s.Score, float64(s.Rows))
		}
	}},
	{"over", "over", "features over their limits", timeline.Count, "", func(found record.DriftResult, put func(string, float64, float64)) {
		put("", float64(found.Over), float64(found.Rows))
	}},
	{"score", "mean", "mean score", timeline.Value, "version", ofVersions(func(m record.ModelResult) (float64, bool) {
		return m.Scores.Period.Mean, len(m.Classes) == 0
	})},
	{"above", "above", "share scored at or above the threshold", timeline.Share, "version",
		ofVersions(func(m record.ModelResult) (float64, bool) { return m.Above, len(m.Classes) == 0 })},
	{"missing-input", "missing_input", "share lacking an input", timeline.Share, "version",
		ofVersions(func(m record.ModelResult) (float64, bool) { return m.MissingInput, true })},
	{"auc", "auc", "ranking quality (AUC)", timeline.Share, "version", ofVersions(func(m record.ModelResult) (float64, bool) {
		if m.Quality == nil {
			return 0, false
		}
		return m.Quality.AUC, true
	})},
	{"calibration", "calibration", "came true over what the scores said", timeline.Value, "version",
		ofVersions(func(m record.ModelResult) (float64, bool) {
			if m.Quality == nil {
				return 0, false
			}
			return m.Quality.Ratio, true
		})},
	{"class", "class_share", "share of answers", timeline.Share, "class", func(found record.DriftResult,
		put func(string, float64, float64)) {
		for _, m := range found.Models {
			for class, share := range m.Classes {
				put(m.Version+" / "+class, share, float64(m.Rows))
			}
		}
	}},
}

// overLimits says of everything that has a limit how far on the way to it it is.
func overLimits(found record.DriftResult, put func(string, float64, float64)) {
	for _, f := range found.Features {
		if f.State == drift.AsExpected || f.State == drift.Over {
			put(f.Feature, f.Ratio, float64(f.Period.Rows))
		}
	}
	if s := found.Separability; s != nil && s.Limit > 0 {
		put(record.DriftTogether, s.Score/s.Limit, float64(s.Rows))
	}
	if len(found.Pairs) > 0 && found.Pairs[0].Limit > 0 {
		put(record.DriftPair, found.Pairs[0].Beyond/found.Pairs[0].Limit, float64(found.Pairs[0].Rows))
	}
	worst, rows := 0.0, 0.0
	known := false
	for _, m := range found.Models {
		if m.Concept != nil {
			known = true
			// 1 where ranking is worse than by a chance of one in a thousand.
			if clear := -m.Concept.Sigmas() / 3.09; clear > worst {
				worst, rows = clear, float64(m.Rows)
			}
		}
	}
	if known && !math.IsNaN(worst) {
		put(record.DriftRanking, worst, rows)
	}
}

// metricName is what a figure's metric of a comparison is called.
func metricName(comparison string, f figure) string {
	if f.suffix == "" {
		return comparison + "-drift"
	}
	return comparison + "-drift-" + f.suffix
}

// series writes the figures of the periods from one on. On each day a series
// holds the figure of the last whole period that had ended by that day's end, so
// that weeks and months are daily series too.
func (r *run) series(ctx context.Context, from int64) error {
	start := PeriodOf(r.v.Settings.Period, from-43200, r.zone).From
	periods, err := r.store.DriftPeriods(ctx, r.v.ID, time.Unix(start, 0), time.Unix(r.until, 0))
	if err != nil || len(periods) == 0 {
		return err
	}
	today := PeriodOf("day", r.now().Add(-settle).Unix(), r.zone).From
	for _, f := range figures {
		samples := map[string][]record.Sample{}
		for i, p := range periods {
			// The last day of the period, until the last of the next.
			last := PeriodOf("day", p.To.Unix()-1, r.zone)
			end := today
			if i+1 < len(periods) {
				end = min(end, PeriodOf("day", periods[i+1].To.Unix()-1, r.zone).From)
			} else {
				next := PeriodOf(r.v.Settings.Period, p.To.Unix(), r.zone)
				end = min(end, PeriodOf("day", next.To-1, r.zone).From)
			}
			f.read(p.Found, func(segment string, value, rows float64) {
				if math.IsNaN(value) || math.IsInf(value, 0) {
					return
				}
				for day := last.From; day < end; day = PeriodOf("day", day+36*3600, r.zone).From {
					samples[segment] = append(samples[segment], record.Sample{At: time.Unix(day, 0).UTC(), Value: &value, Rows: &rows})
				}
			})
		}
		if err := r.put(ctx, f, samples); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) put(ctx context.Context, f figure, samples map[string][]record.Sample) error {
	if len(samples) == 0 {
		return nil
	}
	m, err := r.metric(ctx, f)
	if err != nil {
		return err
	}
	segments := make([]string, 0, len(samples))
	for segment := range samples {
		segments = append(segments, segment)
	}
	ids, err := r.store.EnsureSeries(ctx, m.ID, segments)
	if err != nil {
		return err
	}
	var list []record.Sample
	for segment, some := range samples {
		for _, s := range some {
			s.SeriesID = ids[segment]
			list = append(list, s)
		}
	}
	err = r.store.InTx(ctx, func(tx pgx.Tx) error {
		changes, err := store.PutSamples(ctx, tx, list, store.RecentFrom(r.now()))
		if err != nil {
			return err
		}
		return collect.Judge(ctx, tx, r.queue, m.ID, time.Duration(m.PeriodSeconds)*time.Second, changes, r.now())
	})
	if err != nil || f.measure != record.MeasureDrift {
		return err
	}
	return r.watched(ctx, m)
}

// metric is a figure's metric, made when it is first needed.
func (r *run) metric(ctx context.Context, f figure) (record.Metric, error) {
	m := metricOf(r.v, f)
	known, err := r.store.Metric(ctx, m.Name)
	if missing := (record.NotFound{}); err == nil && known.Comparison == r.v.Name || err != nil && !errors.As(err, &missing) {
		return known, err
	}
	if err := r.store.InTx(ctx, func(tx pgx.Tx) error { return store.SetMetric(ctx, tx, m) }); err != nil {
		return m, err
	}
	return r.store.Metric(ctx, m.Name)
}

// metricOf is the metric that holds a figure of a comparison.
func metricOf(v record.Comparison, f figure) record.Metric {
	m := record.Metric{Dataset: v.Dataset, Name: metricName(v.Name, f), Measure: f.measure, Kind: f.kind, Unit: f.unit,
		PeriodSeconds: 86400, Zone: v.Zone,
		SegmentBy: record.Strings{}, KeptSegments: record.Strings{}, MaxSegments: maxSeries, Quantile: 0.5, Comparison: v.Name}
	if f.by != "" {
		m.SegmentBy = record.Strings{f.by}
	}
	return m
}

// maxSeries is how many segments a metric of a comparison may have.
const maxSeries = 10000

// Watched is the metric of a comparison that has a monitor by itself.
func Watched(v record.Comparison) record.Metric { return metricOf(v, figures[0]) }

// watched makes the monitor that rings when a figure is over its limit; one that
// somebody changed or paused stays as it is.
func (r *run) watched(ctx context.Context, m record.Metric) error {
	_, err := r.store.Monitor(ctx, m.Name)
	if missing := (record.NotFound{}); !errors.As(err, &missing) {
		return err
	}
	none, limit := 0.0, 1.0 // the band, so that it is drawn
	s := record.DefaultSettings()
	s.Low, s.High = &none, &limit
	s.Method, s.Direction, s.Spikes, s.Missing, s.StuckOff, s.SilenceOff, s.AdoptAfterSeconds, s.Sustained = "fixed", "high",
		true, -1, true, true, -1, "off"
	_, err = r.setup.AddMonitor(ctx, record.Monitor{Metric: m.Name, Name: m.Name, Owner: r.v.Owner, Settings: s})
	return err
}
