package diagnose

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"tinbell/core/diagnose"
	"tinbell/core/timeline"
	"tinbell/internal/store"
)

// Together is which other series broke at the same time.
type Together struct {
	Series  int           `json:"series" doc:"that were compared with their past"`
	Broken  int           `json:"broken" doc:"of them, far off"`
	Most    []Beside      `json:"most" doc:"the most surprising, largest first"`
	Shared  []SharedValue `json:"shared" doc:"values that the broken ones have and the sound ones do not"`
	Took    float64       `json:"took_seconds"`
	Skipped int           `json:"skipped" doc:"series beyond those that are compared"`
}

// Beside is a series in the stretch of the alert.
type Beside struct {
	SeriesID int64   `json:"series_id"`
	Dataset  string  `json:"dataset"`
	Metric   string  `json:"metric"`
	Segment  string  `json:"segment"`
	Kind     string  `json:"kind"`
	Unit     string  `json:"unit"`
	Now      float64 `json:"now" doc:"sum (counts) or mean of the stretch"`
	Usual    float64 `json:"usual" doc:"median of the same stretch before"`
	Z        float64 `json:"z" doc:"robust standard deviations"`
	Alert    int64   `json:"alert" doc:"that its monitor raised at the time; 0 if it raised none"`
}

// SharedValue is a value that marks the broken series off.
type SharedValue struct {
	Column      string  `json:"column"`
	Value       string  `json:"value"`
	Broken      int     `json:"broken"`
	Sound       int     `json:"sound"`
	OtherBroken int     `json:"other_broken"`
	OtherSound  int     `json:"other_sound"`
	Surprise    float64 `json:"surprise" doc:"−log10 of the chance of so many"`
}

const (
	mostCompared = 12_000
	shownBeside  = 10
)

// settling is how long after its end a period's figures may still come.
func settling(period int64) int64 {
	if period >= 86400 {
		return 6 * 3600
	}
	return min(period, 3600)
}

// together compares every series in the alert's stretch with the same of the weeks
// before.
func (d *Diagnoser) together(ctx context.Context, q asked) (*Together, error) {
	begun := time.Now()
	list, err := d.store.Comparables(ctx, []string{q.Dataset}, mostCompared+1)
	if err != nil {
		return nil, err
	}
	t := &Together{Most: []Beside{}, Shared: []SharedValue{}}
	if t.Skipped = max(len(list)-mostCompared, 0); t.Skipped > 0 {
		list = list[:mostCompared]
	}
	figures, err := d.figures(ctx, list, q.from, q.to)
	if err != nil {
		return nil, err
	}
	rang, err := d.store.RangIn(ctx, q.from, q.to)
	if err != nil {
		return nil, err
	}
	var moved []diagnose.Moved
	besides := map[int64]Beside{}
	for _, s := range list {
		f := figures[s.ID]
		if f == nil {
			continue
		}
		all := f.values
		var before []float64
		for _, v := range all[1:] {
			if !math.IsNaN(v) {
				before = append(before, v)
			}
		}
		now, count := all[0], s.Kind == "count"
		if math.IsNaN(now) && count && len(before) > 0 && s.Period < 86400 && q.to.Unix()+settling(s.Period) <= d.now().Unix() {
			now = 0
		}
		if math.IsNaN(now) || len(before) < 3 {
			continue
		}
		var chance func(float64) float64
		if count || s.Kind == "share" {
			chance = func(usual float64) float64 { return diagnose.ByChance(usual, figures[s.ID].rows, count) }
		}
		z := diagnose.Surprise(now, before, chance)
		t.Series++
		m := diagnose.Moved{ID: s.ID, Z: z, Rang: rang[s.ID] != 0}
		if values := strings.Split(s.Segment, " / "); s.Segment != "" && len(values) == len(s.SegmentBy) {
			for i, column := range s.SegmentBy {
				m.Segment = append(m.Segment, diagnose.Tag{Column: column, Value: values[i]})
			}
		}
		moved = append(moved, m)
		if m.Broken() {
			t.Broken++
			if s.ID != q.SeriesID {
				slices.Sort(before)
				besides[s.ID] = Beside{s.ID, s.Dataset, s.Metric, s.Segment, s.Kind, s.Unit, now, before[len(before)/2], z, rang[s.ID]}
			}
		}
	}
	for _, b := range besides {
		t.Most = append(t.Most, b)
	}
	slices.SortFunc(t.Most, func(a, b Beside) int {
		return cmp.Or(cmp.Compare(math.Abs(b.Z), math.Abs(a.Z)), cmp.Compare(a.SeriesID, b.SeriesID))
	})
	t.Most = t.Most[:min(len(t.Most), shownBeside)]
	for _, s := range diagnose.Common(moved) {
		t.Shared = append(t.Shared, SharedValue{s.Column, s.Value, s.Broken, s.Sound, s.OtherBroken, s.OtherSound, s.Surprise})
	}
	t.Shared = t.Shared[:min(len(t.Shared), 3)]
	t.Took = time.Since(begun).Seconds()
	return t, nil
}

// figure is what a stretch came to, now and in the weeks before; NaN without samples.
type figure struct {
	values []float64
	rows   float64 // of a share or mean, now
}

// figures gives, by series, the sum or mean of the stretch and of the same one to
// six weeks before.
func (d *Diagnoser) figures(ctx context.Context, list []store.BrokenStretch, from, to time.Time) (map[int64]*figure, error) {
	kinds := make(map[int64]store.BrokenStretch, len(list))
	var ids, long []int64
	for _, s := range list {
		if kinds[s.ID] = s; s.Period < 86400 {
			ids = append(ids, s.ID)
		} else {
			long = append(long, s.ID) // read by whole days: those are longer than most stretches
		}
	}
	back := []int{0, 7, 14, 21, 28, 35, 42}
	figures := make(map[int64]*figure, len(list))
	for i, days := range back {
		begin, end := from.AddDate(0, 0, -days), to.AddDate(0, 0, -days)
		take := func(id int64, samples []timeline.Sample) error {
			s := kinds[id]
			sum, n := 0.0, 0.0
			for _, x := range samples {
				// Periods that are not over now are left out of every week alike.
				over := x.At+s.Period+settling(s.Period) <= d.now().AddDate(0, 0, -days).Unix()
				if !over || x.At+s.Period <= begin.Unix() || x.At >= end.Unix() || math.IsNaN(x.Value) || s.Period < 86400 &&
					x.At < begin.Unix() {
					continue
				}
				weight := 1.0
				if s.Kind != "count" && x.Rows > 0 {
					weight = x.Rows
				}
				sum, n = sum+weight*x.Value, n+weight
			}
			f := figures[id]
			if f == nil {
				f = &figure{values: make([]float64, len(back))}
				for k := range f.values {
					f.values[k] = math.NaN()
				}
				figures[id] = f
			}
			if n > 0 {
				if f.values[i] = sum; s.Kind != "count" {
					f.values[i] = sum / n
				}
				if i == 0 {
					f.rows = n
				}
			}
			return nil
		}
		if err := d.store.EachSeries(ctx, ids, begin, end, take); err != nil {
			return nil, err
		}
		if err := d.store.EachSeries(ctx, long, begin.Add(-24*time.Hour), end, take); err != nil {
			return nil, err
		}
	}
	return figures, nil
}
