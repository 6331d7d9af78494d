package compare

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// reference is what periods are judged against: its days, added up, with what
// they wobble.
type reference struct {
	days     []Day
	features []drift.Reference
	models   map[string]*drift.VersionCounts
	blocks   int
	span     timeline.Span
}

// refer makes a reference of days. Of rows that are independent nothing but their
// number is taken.
func refer(w Wanted, layouts []*drift.Layout, days []Day, s record.ComparisonSettings) reference {
	r := reference{days: days}
	if len(days) > 0 {
		r.span = timeline.Span{From: days[0].At, To: PeriodOf("day", days[len(days)-1].At, w.Zone).To}
	}
	list := blocks(days, s.Period)
	if s.Independent {
		list = [][]Day{days}
	}
	for i, l := range layouts {
		counts := make([]drift.Counts, len(list))
		for b, part := range list {
			counts[b] = counted(l, part, i)
		}
		one := drift.NewReference(l, counts)
		if len(list) < len(days) && !s.Independent {
			one.Refine(each(l, days, i))
		}
		r.features = append(r.features, one)
		for known := &r.features[i].Wobble; known != nil; known = known.Finer {
			r.blocks = max(r.blocks, known.Blocks)
		}
	}
	if at := w.scorePlace(); at >= 0 {
		r.models = modelled(layouts[at], days)
	}
	return r
}

// each are the counts of one feature by day.
func each(l *drift.Layout, days []Day, feature int) []drift.Counts {
	list := make([]drift.Counts, len(days))
	for i := range days {
		list[i] = counted(l, days[i:i+1], feature)
	}
	return list
}

func (r *reference) told() record.DriftReference {
	return record.DriftReference{From: time.Unix(r.span.From, 0).UTC(), To: time.Unix(r.span.To, 0).UTC(), Rows: rowsOf(r.days),
		Blocks: r.blocks}
}

// judge compares the days of a period with a reference, feature by feature.
func judge(w Wanted, layouts []*drift.Layout, r *reference, days []Day, accept float64) record.DriftResult {
	found := record.DriftResult{Rows: rowsOf(days), Reference: r.told()}
	accept = acceptOf(accept)
	for i, f := range w.Features {
		period := counted(layouts[i], days, i)
		v := drift.Judge(&r.features[i], &period, accept)
		if v.State == drift.Over {
			found.Over++
		}
		found.Features = append(found.Features, record.FeatureResult{Feature: f.Name, Verdict: v})
	}
	if at := w.scorePlace(); at >= 0 {
		for _, v := range drift.JudgeVersions(layouts[at], r.models, modelled(layouts[at], days), r.features[at].Wobble, accept) {
			found.Models = append(found.Models, record.ModelResult(v))
		}
	}
	return found
}

// pairsKept is how many pairs of features are kept of a period.
const pairsKept = 6

// sampled adds what a sample of the rows shows: how well they can be told from
// the reference's, which features go together in another way, and how versions of
// a model differ on like inputs.
func sampled(w Wanted, layouts []*drift.Layout, found *record.DriftResult, of *level, after Drawn, rows int, accept float64) {
	before := of.whole.shorten(rows)
	found.Sample = record.SampleResult{Rows: after.Rows(), Reference: before.Rows(), Seed: w.Seed}
	places := usable(w, layouts, before)
	if len(places) == 0 || min(before.Rows(), after.Rows()) < 4*drift.MinRows {
		found.Message = fmt.Sprintf("%d sampled rows against %d: the classifier needs %d a side", after.Rows(), before.Rows(),
			4*drift.MinRows)
		return
	}
	a, b := chosen(before.Sample, places), chosen(after.Sample, places)
	s := drift.Separate(a, b, w.Seed)
	s.Limit = of.limit(w, layouts, after.Rows())
	found.Separability = &s
	inputs := w.inputs()
	name := func(place int) string { return w.Features[inputs[places[place]]].Name }
	for i := range places {
		found.Classified = append(found.Classified, name(i))
	}
	found.Pairs = pairResults(w, layouts, drift.Pairs(a, b, acceptOf(accept), of.pairs(w, layouts), pairsKept), places)
	found.Versions = versions(a, b, before, after, w.Seed)
}

func acceptOf(accept float64) float64 {
	if accept == 0 {
		return drift.DefaultAccept
	}
	return accept
}

// pairResults names what was found of pairs; places are those of their features
// among the inputs.
func pairResults(w Wanted, layouts []*drift.Layout, pairs []drift.Pair, places []int) []record.PairResult {
	inputs := w.inputs()
	var list []record.PairResult
	for _, p := range pairs {
		a, b := inputs[places[p.A]], inputs[places[p.B]]
		list = append(list, record.PairResult{Pair: p, First: w.Features[a].Name, Second: w.Features[b].Name,
			FirstBins: told(layouts[a], p.AUpto, p.ACodes)[:len(p.Period)], SecondBins: told(layouts[b], p.BUpto,
				p.BCodes)[:len(p.Period[0])]})
	}
	return list
}

// usable are the places among the inputs of features that a classifier can use:
// those with values in the reference and not more categories than it tells apart.
func usable(w Wanted, layouts []*drift.Layout, before Drawn) []int {
	var places []int
	for i, at := range w.inputs() {
		if l := layouts[at]; l.Usable() && !l.Many && i < len(before.Features) {
			places = append(places, i)
		}
	}
	return places
}

func chosen(s drift.Sample, places []int) drift.Sample {
	c := drift.Sample{Block: s.Block}
	for _, i := range places {
		c.Features = append(c.Features, s.Features[i])
	}
	return c
}

// told names the bins of one side of a pair.
func told(l *drift.Layout, upto []float64, codes []int32) []string {
	var list []string
	if l.Kind.Numeric() {
		if len(upto) == 0 {
			return []string{"all"}
		}
		list = append(list, "under "+short(upto[0]))
		for i := 1; i < len(upto); i++ {
			list = append(list, short(upto[i-1])+" to "+short(upto[i]))
		}
		return append(list, short(upto[len(upto)-1])+" and over")
	}
	for _, c := range codes {
		if int(c) < len(l.Words) {
			list = append(list, l.Words[c])
		} else {
			list = append(list, "all others")
		}
	}
	return append(list, "others")
}

// short writes the edge of a bin.
func short(v float64) string {
	if math.Abs(v) >= 1000 {
		return words.Number(v)
	}
	return fmt.Sprintf("%.3g", v)
}

// versions compares each version of a model with the one that most rows had
// before it, on like inputs.
func versions(a, b drift.Sample, before, after Drawn, seed uint64) []record.VersionResult {
	if before.Scores == nil || len(after.Versions) == 0 {
		return nil
	}
	of := func(d Drawn, s drift.Sample, version string) (drift.Sample, []float64) {
		var rows []int32
		var scores []float64
		for i, v := range d.Versions {
			if v == version && i < len(d.Scores) {
				rows, scores = append(rows, int32(i)), append(scores, d.Scores[i])
			}
		}
		return s.Pick(rows), scores
	}
	was := mostOf(before.Versions)
	list := []record.VersionResult{}
	for _, version := range slices.Compact(slices.Sorted(slices.Values(after.Versions))) {
		if version == was {
			continue
		}
		x, scoresX := of(before, a, was)
		y, scoresY := of(after, b, version)
		if min(x.Rows(), y.Rows()) < 4*drift.MinRows {
			continue
		}
		if c, ok := drift.Like(x, y, scoresX, scoresY, seed); ok {
			list = append(list, record.VersionResult{A: was, B: version, Compared: c})
		}
	}
	return list
}

func mostOf(list []string) string {
	n, most := map[string]int{}, ""
	for _, v := range list {
		if n[v]++; n[v] > n[most] || n[v] == n[most] && v < most {
			most = v
		}
	}
	return most
}

// sampleRows is how many rows a side a classifier is given.
func sampleRows(s record.ComparisonSettings) int {
	if s.SampleRows > 0 {
		return s.SampleRows
	}
	return drift.SampleRows
}

// level is a reference's sampled rows: of the whole, and of some of its blocks,
// which show how far it can be told apart from itself.
type level struct {
	whole  Drawn
	blocks []Drawn
	known  *record.Referred // what was found of it before
}

// drawReference samples a reference: three times the rows of a side of the whole,
// so that some are left when a block is taken out, and as many as a side has of
// each of up to twenty blocks, unless how far those can be told apart is known.
func drawReference(ctx context.Context, in Input, w Wanted, layouts []*drift.Layout, r *reference, s record.ComparisonSettings,
	span timeline.Span, apart bool) (level, error) {
	spans, rows := []timeline.Span{span}, []int{3 * sampleRows(s)}
	if list := blocks(r.days, s.Period); apart && len(list) >= drift.MinBlocks {
		// Stretches as long as a block, spread over the reference; they may overlap.
		long := len(list[0])
		many := min(drift.NullBlocks, len(r.days)-long+1)
		for i := range many {
			at := i * (len(r.days) - long) / max(many-1, 1)
			spans = append(spans, timeline.Span{From: r.days[at].At, To: PeriodOf("day", r.days[at+long-1].At, w.Zone).To})
			rows = append(rows, sampleRows(s))
		}
	}
	drawn, err := in.Samples(ctx, w, layouts, spans, rows)
	if err != nil {
		return level{}, err
	}
	return level{whole: drawn[0], blocks: drawn[1:], known: &record.Referred{Limits: map[int]float64{}}}, nil
}

// limit of separability for periods of so many sampled rows.
func (v *level) limit(w Wanted, layouts []*drift.Layout, rows int) float64 {
	rows = stepped(min(rows, v.whole.Rows()))
	limit, known := v.known.Limits[rows]
	if !known {
		whole, parts := v.chosen(w, layouts)
		limit = drift.NullLimit(whole, parts, rows, w.Seed)
		v.known.Limits[rows] = limit
	}
	return limit
}

// pairs is how much each pair of features wobbles.
func (v *level) pairs(w Wanted, layouts []*drift.Layout) []float64 {
	if v.known.Pairs == nil {
		whole, parts := v.chosen(w, layouts)
		v.known.Pairs = drift.PairWobble(whole, parts)
	}
	return v.known.Pairs
}

// chosen are the samples with the features that a classifier can use.
func (v *level) chosen(w Wanted, layouts []*drift.Layout) (whole drift.Sample, parts []drift.Sample) {
	places := usable(w, layouts, v.whole)
	for _, b := range v.blocks {
		parts = append(parts, chosen(b.Sample, places))
	}
	return chosen(v.whole.Sample, places), parts
}

// stepped rounds a number of rows down to one of few, a fifth apart: the limit of
// fewer rows is the wider.
func stepped(rows int) int {
	step := 4 * drift.MinRows
	for step*6/5 <= rows {
		step = step * 6 / 5
	}
	return min(step, rows)
}

// shorten leaves a number of rows of a sample, evenly taken.
func (d Drawn) shorten(rows int) Drawn {
	n := d.Rows()
	if n <= rows {
		return d
	}
	picked := make([]int32, rows)
	for i := range picked {
		picked[i] = int32(math.Floor(float64(i) * float64(n) / float64(rows)))
	}
	short := Drawn{Sample: d.Pick(picked)}
	for _, i := range picked {
		if d.Scores != nil {
			short.Scores = append(short.Scores, d.Scores[i])
		}
		short.Versions = append(short.Versions, d.Versions[i])
	}
	return short
}
