package drift

import (
	"math"

	"tinbell/core/score"
)

// ScoreBin is the rows of a model whose scores lie together, and how many of
// them came true: enough for ranking and calibration. Sums are of scores.
type ScoreBin struct {
	Rows     int64   `json:"rows"`
	Positive int64   `json:"positive"`
	Score    float64 `json:"score"`
	Squares  float64 `json:"squares"`
	Hit      float64 `json:"hit"` // scores of the positive ones
}

// AUC is the chance that a positive row is scored above a negative one, ties
// (rows of the same bin) counted half, and the variance of that estimate (DeLong,
// DeLong and Clarke-Pearson 1988). Bins are in ascending order of score. Without
// positive or without negative rows it is 0.5 and the variance 1/4.
func AUC(bins []ScoreBin) (auc, variance float64) {
	var positive, negative float64
	for _, b := range bins {
		positive += float64(b.Positive)
		negative += float64(b.Rows - b.Positive)
	}
	if positive == 0 || negative == 0 {
		return 0.5, 0.25
	}
	var below, above float64
	var v10, v01 [2]float64
	above = positive
	for _, b := range bins {
		p, n := float64(b.Positive), float64(b.Rows-b.Positive)
		above -= p
		x, y := (below+n/2)/negative, (above+p/2)/positive
		v10[0], v10[1] = v10[0]+p*x, v10[1]+p*x*x
		v01[0], v01[1] = v01[0]+n*y, v01[1]+n*y*y
		below += n
	}
	auc = v10[0] / positive
	spread := func(v [2]float64, n float64) float64 { return max(0, v[1]/n-(v[0]/n)*(v[0]/n)) / n }
	return auc, spread(v10, positive) + spread(v01, negative)
}

// Quality is how well a model's scores ranked what came true, and how well they
// stood for its chance, each with a 95 % interval.
type Quality struct {
	Rows     int64 `json:"rows"`
	Positive int64 `json:"positive"`

	AUC     float64 `json:"auc"`
	AUCLow  float64 `json:"auc_low"`
	AUCHigh float64 `json:"auc_high"`

	Brier float64 `json:"brier"` // mean squared error of the scores

	// Calibration in the large: how many came true over how many the scores
	// said, 1 if they say it well.
	Ratio     float64 `json:"ratio"`
	RatioLow  float64 `json:"ratio_low"`
	RatioHigh float64 `json:"ratio_high"`

	Error float64 `json:"error"` // mean distance of score and share, over tenths of the rows
}

// Judged tells whether there was something to judge: both kinds of rows.
func (q Quality) Judged() bool { return q.Positive > 0 && q.Positive < q.Rows }

// QualityOf judges scores between 0 and 1 by what came true.
func QualityOf(bins []ScoreBin) Quality {
	var q Quality
	var said, squares, hit float64
	for _, b := range bins {
		q.Rows, q.Positive = q.Rows+b.Rows, q.Positive+b.Positive
		said, squares, hit = said+b.Score, squares+b.Squares, hit+b.Hit
	}
	if q.Rows == 0 {
		return q
	}
	auc, variance := AUC(bins)
	se := 1.96 * math.Sqrt(variance)
	q.AUC, q.AUCLow, q.AUCHigh = auc, max(0, auc-se), min(1, auc+se)
	n, came := float64(q.Rows), float64(q.Positive)
	q.Brier = (squares - 2*hit + came) / n
	if said > 0 {
		spread := 1.96 * math.Sqrt(max(0, said-squares)) // the variance of what the scores say
		q.Ratio, q.RatioLow, q.RatioHigh = came/said, max(0, came-spread)/said, (came+spread)/said
	}
	for _, tenth := range tenths(bins) {
		q.Error += math.Abs(tenth.Score-float64(tenth.Positive)) / n
	}
	return q
}

// tenths joins neighbouring bins of scores to groups of a tenth of the rows or
// more.
func tenths(bins []ScoreBin) (groups []ScoreBin) {
	total := int64(0)
	for _, b := range bins {
		total += b.Rows
	}
	var group ScoreBin
	for i, b := range bins {
		group.Rows, group.Positive, group.Score = group.Rows+b.Rows, group.Positive+b.Positive, group.Score+b.Score
		if group.Rows > 0 && (group.Rows*10 >= total || i == len(bins)-1) {
			groups = append(groups, group)
			group = ScoreBin{}
		}
	}
	return groups
}

// CalibrationPoint is a tenth of a model's rows, of like scores: what they said
// and what came true, with a 95 % interval (Wilson 1927).
type CalibrationPoint struct {
	Rows  int64   `json:"rows"`
	Said  float64 `json:"said"` // mean score
	Share float64 `json:"share"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// Calibration says of tenths of the rows, by ascending score, how many came true.
func Calibration(bins []ScoreBin) []CalibrationPoint {
	list := []CalibrationPoint{}
	for _, g := range tenths(bins) {
		came := score.Wilson(int(g.Positive), int(g.Rows))
		list = append(list, CalibrationPoint{g.Rows, g.Score / float64(g.Rows), float64(g.Positive) / float64(g.Rows), came.Low, came.High})
	}
	return list
}

// Difference is a figure's difference between two models or stretches, with a 95 %
// interval.
type Difference struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// Clear tells that the difference is no chance.
func (c Difference) Clear() bool { return c.Low > 0 || c.High < 0 }

// Sigmas is how many standard errors the difference is from none; NaN without any.
func (c Difference) Sigmas() float64 { return c.Value / ((c.High - c.Low) / 3.92) }

func changeOf(value, variance float64) Difference {
	se := 1.96 * math.Sqrt(max(0, variance))
	return Difference{value, value - se, value + se}
}

// ConceptDrift is how much worse (below 0) a period ranks than a reference did,
// for its own sake: inputs may have stayed as they were.
func ConceptDrift(reference, period []ScoreBin) Difference {
	was, v := AUC(reference)
	is, w := AUC(period)
	return changeOf(is-was, v+w)
}

// Paired is two versions of a model that scored the same rows.
type Paired struct {
	Rows                int64
	A, B                float64 // sums of scores
	Squares, SquaresOfB float64
	Product             float64
	Apart               int64 // rows on different sides of the threshold
}

// Compared is what two versions came to on the same or on like inputs.
type Compared struct {
	Rows        int64      `json:"rows"`
	Same        bool       `json:"same"` // rows that both scored; else like inputs
	MeanA       float64    `json:"mean_a"`
	MeanB       float64    `json:"mean_b"`
	Difference  Difference `json:"difference"` // b less a
	Correlation float64    `json:"correlation"`
	Apart       float64    `json:"apart"` // share of rows on different sides of the threshold
}

// Compare sums up paired scores.
func (p Paired) Compare() Compared {
	n := float64(p.Rows)
	if n == 0 {
		return Compared{Same: true}
	}
	a, b := p.A/n, p.B/n
	va, vb, cov := p.Squares/n-a*a, p.SquaresOfB/n-b*b, p.Product/n-a*b
	c := Compared{Rows: p.Rows, Same: true, MeanA: a, MeanB: b, Difference: changeOf(b-a, (va+vb-2*cov)/n), Apart: float64(p.Apart) / n}
	if va > 0 && vb > 0 {
		c.Correlation = min(1, max(-1, cov/math.Sqrt(va*vb)))
	}
	return c
}

// Like compares two versions that scored different rows: those of a are weighed
// so that their inputs are like those of b (odds of the classifier's out-of-fold
// chances, Rosenbaum 1987), and what differs then is the versions' own doing. ok
// is false if a has rows like fewer than half of b's: the odds of its rows add up
// to as many as b has where inputs overlap.
func Like(a, b Sample, scoreA, scoreB []float64, seed uint64) (c Compared, ok bool) {
	t := newTrial(a, b, seed)
	var sum, total, squares, square float64
	for k := range folds {
		columns, test, forest := t.fit(k)
		for _, row := range test {
			if int(row) >= len(scoreA) || scoreA[row] != scoreA[row] {
				continue
			}
			w := min(50, math.Exp(predict(forest, columns, row)))
			x := scoreA[row]
			total, sum, squares, square = total+w, sum+w*x, squares+w*x*x, square+w*w
		}
	}
	var n, mean, spread float64
	for _, x := range scoreB {
		if x == x {
			n++
			mean += x
			spread += x * x
		}
	}
	if n < 2 || total < n/2 || total*total/square < MinRows {
		return c, false
	}
	was := sum / total
	mean /= n
	variance := max(0, squares/total-was*was)*square/total/total + max(0, spread/n-mean*mean)/n
	return Compared{Rows: int64(n), MeanA: was, MeanB: mean, Difference: changeOf(mean-was, variance)}, true
}
