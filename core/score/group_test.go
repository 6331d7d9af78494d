package score

import (
	"math/rand/v2"
	"reflect"
	"testing"
)

func TestAlertsOfOneDisturbanceAreOneGroup(t *testing.T) {
	const h = 3600
	for name, c := range map[string]struct {
		alerts []Span
		group  []int
		n      int
	}{
		"none":                          {nil, []int{}, 0},
		"apart":                         {[]Span{{0, h}, {24 * h, 25 * h}}, []int{0, 1}, 2},
		"two segments at once":          {[]Span{{0, 5 * h}, {h, 2 * h}}, []int{0, 0}, 1},
		"again within the gap":          {[]Span{{0, h}, {6 * h, 7 * h}}, []int{0, 0}, 1},
		"a chain":                       {[]Span{{0, h}, {5 * h, 6 * h}, {11 * h, 12 * h}}, []int{0, 0, 0}, 1},
		"given out of order":            {[]Span{{30 * h, 31 * h}, {0, h}}, []int{1, 0}, 2},
		"one that lasts over another":   {[]Span{{0, 48 * h}, {40 * h, 41 * h}, {53 * h, 54 * h}}, []int{0, 0, 0}, 1},
		"open counts from its start on": {[]Span{{0, 0}, {7 * h, 0}}, []int{0, 1}, 2},
	} {
		group, n := Groups(c.alerts, GroupGap)
		if n != c.n || !reflect.DeepEqual(group, c.group) {
			t.Errorf("%s: %v, %d groups; want %v, %d", name, group, n, c.group, c.n)
		}
	}
}

func TestGroupingDoesNotDependOnOrder(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 5))
	for range 200 {
		alerts := make([]Span, 1+rng.IntN(20))
		for i := range alerts {
			alerts[i].Start = rng.Int64N(500_000)
			alerts[i].End = alerts[i].Start + rng.Int64N(30_000)
		}
		_, n := Groups(alerts, GroupGap)
		rng.Shuffle(len(alerts), func(i, j int) { alerts[i], alerts[j] = alerts[j], alerts[i] })
		if _, again := Groups(alerts, GroupGap); again != n {
			t.Fatalf("%d groups, in another order %d", n, again)
		}
		if _, wider := Groups(alerts, 10*GroupGap); wider > n {
			t.Fatalf("a wider gap makes more groups: %d, %d", n, wider)
		}
	}
}
