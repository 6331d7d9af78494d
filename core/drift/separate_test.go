package drift

import (
	"math"
	"math/rand/v2"
	"testing"
)

// rows draws a sample of normal features with days; change may alter a row.
func rows(rng *rand.Rand, n, features int, change func(row []float64)) Sample {
	s := Sample{Features: make([]Values, features), Block: make([]int32, n)}
	row := make([]float64, features)
	for i := range n {
		for f := range row {
			row[f] = rng.NormFloat64()
		}
		row[1] = 0.8*row[0] + 0.6*row[1] // goes with the first
		if change != nil {
			change(row)
		}
		for f, x := range row {
			s.Features[f].Kind = Number
			s.Features[f].Numbers = append(s.Features[f].Numbers, x)
		}
		s.Block[i] = int32(i * 14 / n)
	}
	return s
}

func TestSeparabilityAgreesWithTheMeasuredTable(t *testing.T) {
	// Mean shift .4 of one of eight features, spread 1.4 of one, and a broken
	// correlation with equal margins, 1,500 rows a side.
	for _, c := range []struct {
		name      string
		change    func([]float64)
		low, high float64
		top       []int
	}{
		{"nothing", nil, 0, 0.07, nil},
		{"mean", func(r []float64) { r[2] += 0.4 }, 0.12, 0.28, []int{2}},
		{"spread", func(r []float64) { r[3] *= 1.4 }, 0.08, 0.26, []int{3}},
		{"correlation of .8 turned round", func(r []float64) { r[1] = -r[1] }, 0.6, 0.85, []int{0, 1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			rng := rand.New(rand.NewPCG(3, 9))
			reference := rows(rng, 1500, 8, nil)
			s := Separate(reference, rows(rng, 1500, 8, c.change), 5)
			limit := NullLimit(reference, nil, 1500, 5)
			t.Logf("%.3f (%.3f to %.3f), limit %.3f, %.2f", s.Score, s.Low, s.High, limit, s.Importance)
			if s.Score < c.low || s.Score > c.high || s.Low > s.Score || s.High < s.Score {
				t.Errorf("separability %.3f (%.3f to %.3f), wanted %g to %g", s.Score, s.Low, s.High, c.low, c.high)
			}
			if over := s.Score > limit; over != (c.change != nil) {
				t.Errorf("%.3f over the limit %.3f: %v", s.Score, limit, over)
			}
			for _, f := range c.top {
				if s.Importance[f] < 0.3 {
					t.Errorf("feature %d has importance %.2f of %.2f", f, s.Importance[f], s.Importance)
				}
			}
		})
	}
}

func TestTheSameSeedGivesTheSameSeparability(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	a, b := rows(rng, 400, 5, nil), rows(rng, 400, 5, func(r []float64) { r[4] += 1 })
	first, second := Separate(a, b, 3), Separate(a, b, 3)
	if first.Score != second.Score || first.Importance[4] != second.Importance[4] {
		t.Errorf("%v then %v", first, second)
	}
	if other := Separate(a, b, 4); math.Abs(other.Score-first.Score) > 0.1 {
		t.Errorf("another seed moves it from %g to %g", first.Score, other.Score)
	}
}

func TestPairsFindWhatTheMarginsHide(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 2))
	reference := rows(rng, 3000, 8, nil)
	clean := Pairs(reference, rows(rng, 3000, 8, nil), 0.01, nil, 3)
	if clean[0].Beyond > clean[0].Limit {
		t.Errorf("clean pair %d, %d: %.3f over %.3f", clean[0].A, clean[0].B, clean[0].Beyond, clean[0].Limit)
	}
	broken := Pairs(reference, rows(rng, 3000, 8, func(r []float64) { r[1] = -r[1] }), 0.01, nil, 3)
	if p := broken[0]; p.A != 0 || p.B != 1 || p.Beyond < 3*p.Limit || broken[1].Beyond > broken[1].Limit {
		t.Errorf("found first %d, %d: %.3f over %.3f, then %.3f", p.A, p.B, p.Beyond, p.Limit, broken[1].Beyond)
	}
	// However far each alone moves and spreads, they go together as before.
	for name, change := range map[string]func([]float64){
		"moved":          func(r []float64) { r[0] += 0.8; r[1] -= 0.5 },
		"spread":         func(r []float64) { r[0] *= 2 },
		"turned to logs": func(r []float64) { r[1] = math.Exp(r[1]) },
	} {
		p := Pairs(reference, rows(rng, 3000, 8, change), 0.01, nil, 1)[0]
		if p.Beyond > p.Limit {
			t.Errorf("%s: %d, %d are said to go together in another way: %.3f over %.3f", name, p.A, p.B, p.Beyond, p.Limit)
		}
	}
	sum := 0.0
	for _, row := range broken[0].Period {
		for _, v := range row {
			sum += v
		}
	}
	if math.Abs(sum-1) > 1e-9 {
		t.Errorf("shares of the period add up to %g", sum)
	}
}

func BenchmarkSeparability20kRows20Features(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 2))
	x, y := rows(rng, 10000, 20, nil), rows(rng, 10000, 20, func(r []float64) { r[2] += 0.3 })
	for b.Loop() {
		Separate(x, y, 1)
	}
}

func BenchmarkNullLimit10kRows20Features(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 2))
	x := rows(rng, 10000, 20, nil)
	for b.Loop() {
		NullLimit(x, nil, 10000, 1)
	}
}

func BenchmarkCountNumbers(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 2))
	l := normalLayout(rng)
	l.Ready()
	values := make([]float64, 1<<16)
	for i := range values {
		values[i] = rng.NormFloat64()
	}
	c := NewCounts(l)
	for b.Loop() {
		c.Numbers(l, values)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(len(values)), "ns/value")
}
