package diagnose

import (
	"math"
	"slices"
	"testing"
)

func TestStagesArePairedALagApart(t *testing.T) {
	up := map[int64]float64{0: 100, 3600: 200, 7200: 300}
	down := map[int64]float64{3600: 90, 7200: 200, 10800: 330, 14400: 7}
	got := Reconcile(up, down, 3600, 3600)
	if len(got) != 3 || got[0].Up != 100 || math.Abs(got[0].Apart-0.1) > 1e-12 || got[1].Apart != 0 ||
		math.Abs(got[2].Apart-30.0/330) > 1e-12 {
		t.Errorf("an hour apart: %+v", got)
	}
	// Half an hour: each period lies half in one upstream and half in the one before.
	if got := Reconcile(up, map[int64]float64{3600: 150}, 3600, 1800); len(got) != 1 || got[0].Up != 150 || got[0].Apart != 0 {
		t.Errorf("half an hour apart: %+v", got)
	}
	if got := Reconcile(map[int64]float64{0: 0}, map[int64]float64{0: 0}, 3600, 0); got[0].Apart != 0 {
		t.Errorf("nothing on both sides: %+v", got)
	}
	if got := Reconcile(map[int64]float64{0: -5}, map[int64]float64{0: 5}, 3600, 0); got[0].Apart != 1 {
		t.Errorf("opposite sums: %+v", got)
	}
}

func TestKeysOfOneSideAreListedOnce(t *testing.T) {
	list, n := OneSided([]string{"a", "b", "c", "b", "d"}, []string{"c"}, 2)
	if n != 3 || !slices.Equal(list, []string{"a", "b"}) {
		t.Errorf("%v of %d", list, n)
	}
}
