package study

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/outlier"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Standing is one value that stands out.
type Standing struct {
	Place    string     `json:"place" doc:"of a file: the row; of a series: its segment"`
	SeriesID int64      `json:"series_id,omitempty"`
	At       *time.Time `json:"at"`
	Value    *float64   `json:"value" doc:"null of what is no number"`
	Usual    float64    `json:"usual" doc:"the median, of its part of the season where it has one"`
	Z        *float64   `json:"z"`
	Modified *float64   `json:"modified_z"`
	Judged   *float64   `json:"judged" doc:"what the rules judge: the value, or by how many spreads of its part of the season it is off"`
	Fences   *float64   `json:"interquartile_ranges" doc:"beyond the nearer quartile"`
	Rules    []string   `json:"rules" doc:"by which it stands out"`
}

// SetSummary sums up a set of values.
type SetSummary struct {
	N         int      `json:"n"`
	Sum       *float64 `json:"sum"`
	Mean      *float64 `json:"mean"`
	Median    *float64 `json:"median"`
	SD        *float64 `json:"sd"`
	MAD       *float64 `json:"mad"`
	Quartile1 *float64 `json:"quartile_1"`
	Quartile3 *float64 `json:"quartile_3"`
	Smallest  *float64 `json:"smallest"`
	Largest   *float64 `json:"largest"`
}

// StandingRule is a rule as it was applied.
type StandingRule struct {
	Name   string   `json:"name" enum:"z,modified z,fences,allowed range"`
	Low    *float64 `json:"low" doc:"of judged; null: any"`
	High   *float64 `json:"high"`
	Beyond int      `json:"beyond"`
	Word   string   `json:"word" doc:"what to know about it here"`
}

// OutlierStudy says which values of a set stand out, and what it would be without them.
type OutlierStudy struct {
	Of       string         `json:"of"`
	Key      string         `json:"key" doc:"whose rows these are; empty: all"`
	Unit     string         `json:"unit"`
	Kind     timeline.Kind  `json:"kind"`
	Zone     string         `json:"zone"`
	Missing  int            `json:"missing"`
	Seasonal bool           `json:"seasonal" doc:"values were judged against their hour and weekday"`
	All      SetSummary     `json:"all"`
	Judged   SetSummary     `json:"judged" doc:"of what the rules judge"`
	Without  SetSummary     `json:"without" doc:"without those that stand out"`
	Rules    []StandingRule `json:"rules"`
	Odd      []Standing     `json:"odd" doc:"farthest first"`
	More     int            `json:"more" doc:"stand out beside those listed"`
	Sentence string         `json:"sentence"`
}

// summaryOf is a summary as JSON has it.
func summaryOf(s outlier.Summary) SetSummary {
	return SetSummary{s.N, wire.Finite(s.Sum), wire.Finite(s.Mean), wire.Finite(s.Median), wire.Finite(s.SD), wire.Finite(s.MAD), wire.Finite(s.Quartile1),
		wire.Finite(s.Quartile3), wire.Finite(s.Smallest), wire.Finite(s.Largest)}
}

// Stand makes a study of what was found; place says where a value is.
func Stand(r outlier.Result, s OutlierStudy, most int, place func(outlier.Odd) Standing) OutlierStudy {
	s.Missing, s.Seasonal, s.All, s.Judged, s.Without, s.Rules, s.Odd = r.Missing, r.Seasonal, summaryOf(r.All),
		summaryOf(r.Judged), summaryOf(r.Without), []StandingRule{}, []Standing{}
	for _, rule := range r.Rules {
		s.Rules = append(s.Rules, StandingRule{rule.Name, wire.Finite(rule.Low), wire.Finite(rule.High), rule.Beyond, rule.Word})
	}
	for _, o := range r.Odd[:min(len(r.Odd), most)] {
		one := place(o)
		one.Value, one.Usual, one.Z, one.Modified, one.Fences, one.Judged, one.Rules = wire.Finite(o.Value), o.Usual, wire.Finite(o.Z),
			wire.Finite(o.Modified), wire.Finite(o.Fences), wire.Finite(o.Judged), o.Rules
		s.Odd = append(s.Odd, one)
	}
	s.More = len(r.Odd) - len(s.Odd)
	judged := ""
	if r.Seasonal {
		judged = ", each judged by its hour and weekday"
	}
	if len(r.Odd) == 0 {
		s.Sentence = fmt.Sprintf("None of %s of %s stands out%s.", words.Plural(r.All.N, "value"), s.Of, judged)
		return s
	}
	s.Sentence = fmt.Sprintf("Of %s of %s %s out%s; without, the mean is %s instead of %s, the median %s instead of %s.",
		words.Plural(r.All.N, "value"), s.Of, words.Agree(len(r.Odd), "stands", "stand"), judged,
		said(r.Without.Mean), said(r.All.Mean), said(r.Without.Median), said(r.All.Median))
	return s
}

func said(x float64) string {
	if math.IsNaN(x) {
		return "nothing"
	}
	return words.Number(x)
}

// Outliers finds what stands out of the samples of a metric in [from, to): of each
// segment by itself, judged against its hour and weekday where that explains it.
func (r *Reader) Outliers(ctx context.Context, name, segment string, from, to time.Time, o outlier.Options,
	most int) ([]OutlierStudy, error) {
	metric, err := r.store.Metric(ctx, name)
	if err != nil {
		return nil, err
	}
	grid, err := metric.Grid()
	if err != nil {
		return nil, err
	}
	series, err := r.store.SeriesOf(ctx, metric.ID)
	if err != nil {
		return nil, err
	}
	slotter, daily := timeline.NewSlotter(grid), grid.Dated()
	studies := []OutlierStudy{}
	known := segment == ""
	for _, one := range series {
		if segment != "" && one.Segment != segment {
			continue
		}
		known = true
		samples, err := r.store.Samples(ctx, []int64{one.ID}, from, to)
		if err != nil {
			return nil, err
		}
		list := samples[one.ID]
		values, own := make([]float64, len(list)), o
		own.Slots = make([]int, len(list))
		for i, s := range list {
			slot := slotter.At(s.At)
			values[i] = s.Value
			if own.Slots[i] = int(slot.Day); !daily {
				weekend := map[bool]int{true: 24}[time.Weekday(slot.Day) == time.Saturday || time.Weekday(slot.Day) == time.Sunday]
				own.Slots[i] = weekend + time.Unix(s.At, 0).In(grid.Zone).Hour()
			}
		}
		r, err := outlier.Look(values, own)
		var few outlier.TooFew
		if errors.As(err, &few) {
			continue
		}
		if err != nil {
			return nil, err
		}
		of := metric.Name
		if one.Segment != "" {
			of += " at " + one.Segment
		}
		studies = append(studies, Stand(r, OutlierStudy{Of: of, Unit: metric.Unit, Kind: metric.Kind, Zone: metric.Zone}, most,
			func(odd outlier.Odd) Standing {
				at := time.Unix(list[odd.Index].At, 0).UTC()
				return Standing{Place: one.Segment, SeriesID: one.ID, At: &at}
			}))
	}
	switch {
	case !known:
		return nil, record.NotFound{Kind: "segment of " + name, Name: segment}
	case len(studies) == 0:
		return nil, record.Invalid{Field: "from", Given: from.Format(time.RFC3339),
			Allowed: fmt.Sprintf("a stretch with at least %d samples of a series", outlier.Least)}
	}
	slices.SortStableFunc(studies, FarthestFirst)
	return studies, nil
}

// FarthestFirst orders studies by how far off what stands out farthest in them is.
func FarthestFirst(a, b OutlierStudy) int {
	farthest := func(s OutlierStudy) float64 {
		if len(s.Odd) == 0 || s.Odd[0].Modified == nil {
			return 0
		}
		return math.Abs(*s.Odd[0].Modified)
	}
	return cmp.Compare(farthest(b), farthest(a))
}
