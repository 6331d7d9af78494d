package group

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// ferries is gates → scans → load factor ← sales, and two more that read scans.
func ferries() *Graph {
	g := &Graph{}
	g.Step("gates", "scans")
	g.Step("scans", "load factor")
	g.Step("sales", "load factor")
	g.Step("scans", "features")
	g.Step("scans", "queues")
	for _, d := range []string{"gates", "scans", "sales", "load factor", "features", "queues", "rosters"} {
		g.Hold("source:warehouse", d)
	}
	return g
}

func at(id int64, place string, since, raised int64) Alert {
	return Alert{ID: id, Place: place, Period: hour, Since: since * hour, Raised: raised * hour}
}

func TestOneCauseIsOneGroup(t *testing.T) {
	for name, c := range map[string]struct {
		alerts []Alert
		groups int
		origin string
	}{
		"segments of one table":                       {[]Alert{at(1, "scans", 0, 2), at(2, "scans", 1, 3), at(3, "scans", 2, 4)}, 1, "scans"},
		"upstream and downstream":                     {[]Alert{at(1, "scans", 1, 2), at(2, "gates", 0, 1)}, 1, "gates"},
		"a late-found upstream is the origin":         {[]Alert{at(1, "load factor", 2, 3), at(2, "gates", 0, 8)}, 1, "gates"},
		"upstream that broke long after is not":       {[]Alert{at(1, "scans", 0, 1), at(2, "gates", 20, 21)}, 2, "scans"},
		"tables without a path":                       {[]Alert{at(1, "scans", 0, 1), at(2, "rosters", 0, 1)}, 2, "scans"},
		"readers of one table that is quiet":          {[]Alert{at(1, "features", 0, 1), at(2, "queues", 1, 2)}, 1, "scans"},
		"readers of one table, hours apart":           {[]Alert{at(1, "features", 0, 1), at(2, "queues", 5, 6)}, 2, "features"},
		"a source that cannot be read":                {[]Alert{at(1, "rosters", 1, 2), at(2, "source:warehouse", 0, 1), at(3, "sales", 1, 2)}, 1, "source:warehouse"},
		"the same table days later":                   {[]Alert{at(1, "scans", 0, 1), at(2, "scans", 40, 41)}, 2, "scans"},
		"two groups that a late alert holds together": {[]Alert{at(1, "gates", 0, 1), at(2, "sales", 0, 2), at(3, "load factor", 1, 3)}, 1, "gates"},
	} {
		g := ferries()
		groups := g.All(c.alerts)
		if len(groups) != c.groups {
			t.Errorf("%s: %d groups, want %d: %v", name, len(groups), c.groups, groups)
			continue
		}
		if origin := g.Origin(groups[0]); origin.Place != c.origin {
			t.Errorf("%s: origin %q, want %q", name, origin.Place, c.origin)
		}
	}
}

func TestADailyMartJoinsTheNightAfter(t *testing.T) {
	g := ferries()
	mart := Alert{ID: 2, Place: "load factor", Period: day, Since: 0, Raised: 30 * hour}
	if groups := g.All([]Alert{at(1, "scans", 8, 10), mart}); len(groups) != 1 {
		t.Errorf("a mart that is measured a day later stands alone: %v", groups)
	}
}

func TestARestlessTableMakesNoEndlessGroup(t *testing.T) {
	var alerts []Alert
	for i := range int64(40) {
		alerts = append(alerts, at(i+1, "scans", 5*i, 5*i+1))
	}
	for _, members := range ferries().All(alerts) {
		from, to := members[0].Raised, members[0].Raised
		for _, m := range members {
			from, to = min(from, m.Raised), max(to, m.Raised)
		}
		if to-from > Growth+hour {
			t.Errorf("a group of %d alerts over %d hours", len(members), (to-from)/hour)
		}
	}
}

func TestEveryAlertIsInExactlyOneGroupWhateverTheOrder(t *testing.T) {
	places := []string{"gates", "scans", "sales", "load factor", "features", "queues", "rosters", "elsewhere"}
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 5))
		alerts := make([]Alert, 30)
		for i := range alerts {
			since := rng.Int64N(200)
			alerts[i] = at(int64(i+1), places[rng.IntN(len(places))], since, since+1+rng.Int64N(4))
		}
		count := func(groups [][]Alert) (ids []int64) {
			for _, members := range groups {
				for _, m := range members {
					ids = append(ids, m.ID)
				}
			}
			slices.Sort(ids)
			return ids
		}
		groups := ferries().All(alerts)
		if ids := count(groups); len(ids) != 30 || len(slices.Compact(ids)) != 30 {
			t.Fatalf("seed %d: %d alerts in groups", seed, len(ids))
		}
		rng.Shuffle(len(alerts), func(i, j int) { alerts[i], alerts[j] = alerts[j], alerts[i] })
		if again := ferries().All(alerts); len(again) > len(groups)+2 || len(again) < len(groups)-2 {
			t.Errorf("seed %d: %d groups, %d after shuffling", seed, len(groups), len(again))
		}
		for _, members := range groups {
			g, origin := ferries(), Origin{}
			if origin = g.Origin(members); origin.Alert != 0 && !slices.ContainsFunc(members, func(m Alert) bool { return m.ID == origin.Alert }) {
				t.Errorf("seed %d: the origin %v is no member", seed, origin)
			}
		}
	}
}

func TestACycleOfJobsHasAnOriginToo(t *testing.T) {
	g := &Graph{}
	g.Step("a", "b")
	g.Step("b", "a")
	if o := g.Origin([]Alert{at(1, "a", 3, 4), at(2, "b", 1, 2)}); o.Place != "b" || o.Alert != 2 {
		t.Errorf("origin %+v, want the one that deviated first", o)
	}
}

func BenchmarkJoins(b *testing.B) {
	g := ferries()
	groups := make([][]Alert, 100)
	for i := range groups {
		groups[i] = []Alert{at(int64(i), "rosters", int64(i), int64(i))}
	}
	a := at(999, "scans", 50, 51)
	for b.Loop() {
		g.Joins(a, groups)
	}
}
