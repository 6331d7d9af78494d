package replay

import (
	"errors"
	"math"
	"slices"
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Doubt is a stretch of the past of which no statistic can say whether it was a
// fault or what the series does, and what the answer changes.
type Doubt struct {
	detect.Episode
	Series  []int   // jobs that show it, the one it moves most first
	Others  int     // stretches at least as strong that must be faults as well
	Gain    float64 // by how much limits fall then, as a logarithm, for each of them
	Fall    float64 // by how much they fall for all of them
	LossNow float64 // share lost that shows within a day where it is ordinary; 0 where that says nothing
	LossIf  float64 // … if it is a fault
}

// Falls is the share by which a limit falls for a gain.
func Falls(gain float64) float64 { return 1 - math.Exp(-gain) }

const (
	candidates = 5    // stretches of a series and side whose answers are tried
	leastGain  = 0.07 // an answer that changes less is not worth asking for
	joined     = 3 * time.Hour
)

// Doubts finds, over the series of one monitor, the stretches before From whose
// answers would move limits most: of lows and of highs the strongest, the two
// strongest and so on are taken out and the series fitted again. What counts for a
// stretch is the best that it and stronger ones bring, divided among them: where a
// series has two of a kind, one answer alone changes nothing.
// Stretches of several series at about the same time are one question; those that
// somebody has called ordinary are not asked about again.
func Doubts(jobs []Job, most int) ([]Doubt, error) {
	var all []Doubt
	for n := range jobs {
		own, err := jobs[n].doubts()
		if err != nil {
			return nil, err
		}
		for _, q := range own {
			q.Series = []int{n}
			all = append(all, q)
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].Gain > all[j].Gain })
	var list []Doubt
	slack := int64(joined.Seconds())
	for _, q := range all {
		i := slices.IndexFunc(list, func(o Doubt) bool { return q.From < o.To+slack && o.From < q.To+slack })
		if i < 0 {
			list = append(list, q)
			continue
		}
		o := &list[i]
		o.From, o.To = min(o.From, q.From), max(o.To, q.To)
		if !slices.Contains(o.Series, q.Series[0]) {
			o.Series = append(o.Series, q.Series[0])
		}
	}
	return list[:min(len(list), most)], nil
}

func (j *Job) doubts() ([]Doubt, error) {
	end := sort.Search(len(j.History), func(k int) bool { return j.History[k].At >= j.From })
	history, mask := j.History[:end], Mask(j.Exclusions, j.From)
	now, err := detect.Fit(j.Config, j.Rule, history, mask)
	var short baseline.TooShort
	if errors.As(err, &short) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	episodes, err := now.Episodes(history, mask)
	if err != nil {
		return nil, err
	}
	var ordinary []timeline.Span
	for _, x := range j.Exclusions {
		if x.Ordinary {
			ordinary = append(ordinary, x.Span)
		}
	}
	answered := timeline.NewMask(ordinary...)
	limits, loss := now.Limits(), lossWithin(now)
	var all []Doubt
	for _, side := range []detect.Direction{detect.Low, detect.High} {
		out, list := mask, []Doubt(nil)
		for _, e := range episodes {
			if len(list) == candidates {
				break
			}
			if e.Direction != side || answered.Touches(e.From, e.To) {
				continue
			}
			out = out.And(timeline.Span{From: e.From, To: e.To})
			without, err := detect.Fit(j.Config, j.Rule, history, out)
			if errors.As(err, &short) {
				break
			}
			if err != nil {
				return nil, err
			}
			list = append(list, Doubt{Episode: e, LossNow: loss})
			fall, lost := without.Limits().Lower(limits), lossWithin(without)
			for i := range list {
				if each := fall / float64(len(list)); each > list[i].Gain {
					list[i].Gain, list[i].Fall, list[i].LossIf, list[i].Others = each, fall, lost, len(list)-1
				}
			}
		}
		all = append(all, list...)
	}
	return slices.DeleteFunc(all, func(q Doubt) bool { return q.Gain < leastGain }), nil
}

// lossWithin is the share lost that shows within a day or the nearest to it.
func lossWithin(e *detect.Evaluator) float64 {
	best, off := 0.0, int64(1<<62)
	for _, l := range e.Losses() {
		if d := max(l.Seconds-86400, 86400-l.Seconds); d < off {
			best, off = l.Sometimes, d
		}
	}
	return best
}
