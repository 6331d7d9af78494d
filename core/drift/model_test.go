package drift

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestAUCAgreesWithThePublishedRatings(t *testing.T) {
	// 109 tomograms rated 1 to 5 (Hanley and McNeil 1982, table I): area .893.
	normal, abnormal := []int64{33, 6, 6, 11, 2}, []int64{3, 2, 2, 11, 33}
	bins := make([]ScoreBin, 5)
	for i := range bins {
		bins[i] = ScoreBin{Rows: normal[i] + abnormal[i], Positive: abnormal[i]}
	}
	auc, variance := AUC(bins)
	near(t, "area", auc, 0.893, 0.0005)
	near(t, "standard error", math.Sqrt(variance), 0.032, 0.002)
	if auc, variance := AUC([]ScoreBin{{Rows: 5}}); auc != 0.5 || variance != 0.25 {
		t.Errorf("without positive rows: %g, %g", auc, variance)
	}
}

// scored bins scores and what came true of them.
func scored(scores, came []float64) []ScoreBin {
	bins := make([]ScoreBin, 100)
	for i, x := range scores {
		b := &bins[min(99, int(x*100))]
		b.Rows++
		b.Score += x
		b.Squares += x * x
		if came[i] > 0 {
			b.Positive++
			b.Hit += x
		}
	}
	return bins
}

// believed draws scores, and outcomes that come true as often as the scores say
// times over.
func believed(rng *rand.Rand, n int, over float64) (scores, came []float64) {
	for range n {
		x := 0.6 * rng.Float64()
		scores, came = append(scores, x), append(came, 0)
		if rng.Float64() < x*over {
			came[len(came)-1] = 1
		}
	}
	return scores, came
}

func TestQualityIsThatOfTheRowsThemselves(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 4))
	scores, came := believed(rng, 4000, 1)
	q := QualityOf(scored(scores, came))
	brier, positive := 0.0, 0.0
	for i, x := range scores {
		brier += (x - came[i]) * (x - came[i]) / float64(len(scores))
		positive += came[i]
	}
	near(t, "Brier", q.Brier, brier, 1e-9)
	if q.Positive != int64(positive) || !q.Judged() {
		t.Errorf("%d came true, counted %g", q.Positive, positive)
	}
	if q.RatioLow > 1 || q.RatioHigh < 1 || q.Error > 0.03 {
		t.Errorf("scores that say it well: ratio %.3f (%.3f to %.3f), error %.3f", q.Ratio, q.RatioLow, q.RatioHigh, q.Error)
	}
	scores, came = believed(rng, 4000, 1.5)
	if q := QualityOf(scored(scores, came)); q.RatioLow < 1.2 || q.Error < 0.1 {
		t.Errorf("half more came true than was said: ratio %.3f (%.3f to %.3f), error %.3f", q.Ratio, q.RatioLow, q.RatioHigh, q.Error)
	}
	if q := QualityOf(nil); q.Judged() || q.Rows != 0 {
		t.Errorf("nothing is judged: %+v", q)
	}
}

func TestCalibrationSaysOfEachTenthWhatCameTrue(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 4))
	for _, over := range []float64{1, 1.5} {
		scores, came := believed(rng, 5000, over)
		points := Calibration(scored(scores, came))
		rows, held := int64(0), 0
		for i, p := range points {
			if i > 0 && p.Said <= points[i-1].Said || p.Share < p.Low || p.Share > p.High {
				t.Errorf("points are out of order: %+v", points)
			}
			if rows += p.Rows; p.Low <= p.Said && p.Said <= p.High {
				held++
			}
		}
		if len(points) < 9 || rows != 5000 {
			t.Fatalf("%d points of %d rows", len(points), rows)
		}
		if over == 1 && held < len(points)-2 || over > 1 && held > 2 {
			t.Errorf("scores that are short by %g: %d of %d intervals hold what was said", over, held, len(points))
		}
	}
	if points := Calibration(nil); points == nil || len(points) != 0 {
		t.Errorf("of nothing: %v", points)
	}
}

func TestIntervalsHoldTheTruthAsOftenAsTheySay(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 3))
	truth := 0.0
	{
		scores, came := believed(rng, 400_000, 1)
		truth, _ = AUC(scored(scores, came))
	}
	const rounds = 600
	held, clear := 0, 0
	for range rounds {
		a, b := scored(believed(rng, 500, 1)), scored(believed(rng, 500, 1))
		if q := QualityOf(a); q.AUCLow <= truth && truth <= q.AUCHigh {
			held++
		}
		if ConceptDrift(a, b).Clear() {
			clear++
		}
	}
	// 95 % and 5 % of 600, within three standard errors.
	if held < 554 || clear > 46 {
		t.Errorf("the interval held the truth in %d of %d, %d clean differences were called clear", held, rounds, clear)
	}
}

func TestConceptDriftIsSeenThoughScoresStay(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	scores, came := believed(rng, 3000, 1)
	before := scored(scores, came)
	rng.Shuffle(len(came), func(i, j int) { came[i], came[j] = came[j], came[i] })
	d := ConceptDrift(before, scored(scores, came))
	if !d.Clear() || d.Value > -0.1 {
		t.Errorf("ranking is lost, the difference is %.3f (%.3f to %.3f)", d.Value, d.Low, d.High)
	}
}

func TestVersionsAreComparedOnTheSameRowsAndOnLikeOnes(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	var p Paired
	for range 2000 {
		a := rng.Float64()
		b := min(1, a+0.05+0.01*rng.NormFloat64())
		p.Rows++
		p.A, p.B, p.Squares, p.SquaresOfB, p.Product = p.A+a, p.B+b, p.Squares+a*a, p.SquaresOfB+b*b, p.Product+a*b
		if (a >= 0.5) != (b >= 0.5) {
			p.Apart++
		}
	}
	c := p.Compare()
	if c.Difference.Low > 0.05 || c.Difference.High < 0.047 || c.Correlation < 0.99 || math.Abs(c.Apart-0.05) > 0.02 {
		t.Errorf("the same rows: %+v", c)
	}

	// Later rows have higher inputs, and both versions score what they see: on
	// like inputs nothing differs, though the means do.
	draw := func(shift, lift float64) (Sample, []float64) {
		s := rows(rng, 2000, 3, func(r []float64) { r[0] += shift })
		var scores []float64
		for _, x := range s.Features[0].Numbers {
			scores = append(scores, 1/(1+math.Exp(-x))+lift)
		}
		return s, scores
	}
	a, scoresA := draw(0, 0)
	b, scoresB := draw(0.5, 0)
	like, ok := Like(a, b, scoresA, scoresB, 1)
	if !ok || math.Abs(like.Difference.Value) > 0.03 {
		t.Errorf("like inputs, the same model: %+v", like)
	}
	b, scoresB = draw(0.5, 0.1)
	like, ok = Like(a, b, scoresA, scoresB, 1)
	if !ok || math.Abs(like.Difference.Value-0.1) > 0.03 || !like.Difference.Clear() {
		t.Errorf("like inputs, a model that says a tenth more: %+v", like)
	}
	far, scoresFar := draw(40, 0)
	if c, ok := Like(a, far, scoresA, scoresFar, 1); ok {
		t.Errorf("inputs without overlap cannot be compared: %+v", c)
	}
}
