package pack

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"tinbell/core/timeline"
)

const day = 20_500

func same(a, b timeline.Sample) bool {
	return a.At == b.At && math.Float64bits(a.Rows) == math.Float64bits(b.Rows) &&
		(a.Missing() && b.Missing() || math.Float64bits(a.Value) == math.Float64bits(b.Value))
}

func check(t *testing.T, list []timeline.Sample) int {
	t.Helper()
	b := Pack(list)
	kept := []timeline.Sample{{At: 1}}
	got, err := Unpack(kept, day, b)
	if err != nil || len(got) != len(list)+1 || got[0] != kept[0] {
		t.Fatalf("%d samples came back as %d: %v", len(list), len(got)-1, err)
	}
	for i, s := range list {
		if !same(got[i+1], s) {
			t.Fatalf("sample %d came back as %+v, was %+v", i, got[i+1], s)
		}
	}
	return len(b)
}

func made(n int, step int64, value func(i int) float64) []timeline.Sample {
	list := make([]timeline.Sample, n)
	for i := range list {
		list[i] = timeline.Sample{At: day*DaySeconds + int64(i)*step, Value: value(i)}
	}
	return list
}

func TestWhatGoesInComesOut(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	cases := map[string]func(int) float64{
		"counts":       func(int) float64 { return float64(rng.IntN(5000)) },
		"two decimals": func(int) float64 { return float64(rng.IntN(9999)) / 100 },
		"any":          func(int) float64 { return rng.NormFloat64() * 1e9 }, "constant": func(int) float64 { return 42 },
		"negative": func(i int) float64 { return -float64(i) },
		"edges": func(i int) float64 {
			return []float64{math.MaxFloat64, -math.MaxFloat64, math.SmallestNonzeroFloat64, 0, math.Copysign(0, -1), 1 << 53,
				0.1, math.Inf(1)}[i%8]
		},
		"gaps": func(i int) float64 {
			if i%3 == 0 {
				return math.NaN()
			}
			return float64(i)
		},
	}
	for name, value := range cases {
		t.Run(name, func(t *testing.T) {
			for _, n := range []int{0, 1, 2, 24, 288} {
				list := made(n, 300, value)
				check(t, list)
				for i := range list {
					list[i].Rows = []float64{0, 17, timeline.NoRows, 3.5}[rng.IntN(4)]
					list[i].At += int64(rng.IntN(300)) // not on a grid
				}
				check(t, list)
			}
		})
	}
}

func TestADayTakesFewBytes(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for _, c := range []struct {
		name string
		most float64
		next func(int) float64
	}{
		{"counts", 1.6, func(int) float64 { return float64(40 + rng.IntN(60)) }},
		{"two decimals", 2.3, func(int) float64 { return float64(4000+rng.IntN(600)) / 100 }},
		{"one value", 1.1, func(int) float64 { return 7 }},
	} {
		if per := float64(check(t, made(288, 300, c.next))) / 288; per > c.most {
			t.Errorf("%s take %.2f bytes a sample, at most %.1f are meant", c.name, per, c.most)
		}
	}
}

func TestBrokenChunksAreTold(t *testing.T) {
	whole := Pack(made(40, 600, func(i int) float64 { return float64(i) / 7 }))
	for n := range len(whole) {
		if _, err := Unpack(nil, day, whole[:n]); !errors.Is(err, ErrBroken) {
			t.Fatalf("the first %d of %d bytes: %v", n, len(whole), err)
		}
	}
	if _, err := Unpack(nil, day, append([]byte{9}, whole[1:]...)); !errors.Is(err, ErrBroken) {
		t.Errorf("another version: %v", err)
	}
}

func TestDaysBeforeTheEpochCountDown(t *testing.T) {
	for unix, want := range map[int64]int32{0: 0, 86399: 0, 86400: 1, -1: -1, -86400: -1, -86401: -2} {
		if got := DayOf(unix); got != want {
			t.Errorf("second %d lies in day %d, want %d", unix, got, want)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack(made(3, 3600, func(i int) float64 { return float64(i) })))
	f.Add(Pack(made(30, 60, func(i int) float64 { return math.Sqrt2 * float64(i) })))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := Unpack(nil, day, b)
		if err != nil && (len(list) > 0 || !errors.Is(err, ErrBroken)) {
			t.Fatal(fmt.Errorf("%d samples beside the error: %w", len(list), err))
		}
	})
}

func BenchmarkUnpackHourlyDay(b *testing.B) {
	packed := Pack(made(24, 3600, func(i int) float64 { return float64(50 + i*i%37) }))
	var list []timeline.Sample
	for b.Loop() {
		list, _ = Unpack(list[:0], day, packed)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/24, "ns/sample")
}
