package benchmark

import "testing"

// Of generated logs whose sentences are known nearly every line is grouped rightly, and
// nearly every sentence's parts are; the other way round too.
func TestTheTemplatesOfKnownLogsAreFound(t *testing.T) {
	for _, seed := range []uint64{11, 12} { // with and without a head on each line
		r := Logs(LogScene{Templates: 200, Lines: 40_000, Seed: seed})
		if r.Grouping < 0.97 || r.Templates < 0.9 || r.Order < 0.97 || 5*r.Found > 6*r.True {
			t.Errorf("%+v", r)
		}
	}
}

// The measures measure: what is split or thrown together is not right.
func TestGroupsThatDifferAreNotAlike(t *testing.T) {
	for _, c := range []struct {
		found []int
		want  float64
	}{{[]int{7, 7, 8, 8, 9}, 1}, {[]int{7, 7, 8, 9, 9}, 0.4}, {[]int{7, 6, 8, 8, 9}, 0.6}, {[]int{1, 1, 1, 1, 1}, 0}} {
		if got := alike([]int{1, 1, 2, 2, 3}, c.found); got != c.want {
			t.Errorf("%v: %.2f, want %.2f", c.found, got, c.want)
		}
	}
}

// Over clean logs of sentences that no formula of the watch describes, bursts and sentences
// that vanish together are told at most one and a half times as often as is asked for;
// most heartbeats that end are missed within an hour or six beats.
func TestCleanLogsRingNoOftenerThanIsAskedFor(t *testing.T) {
	r, err := WatchLogs(6, 20, 5, 21)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%+v", r)
	if r.Either > 1.5 {
		t.Errorf("told %.2f times as often as is asked for", r.Either)
	}
	if r.Silence < 0.6 || r.Burst < 0.3 {
		t.Errorf("found are %.2f of ends and %.2f of bursts", r.Silence, r.Burst)
	}
}
