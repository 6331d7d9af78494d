package grouping

import (
	"testing"

	"tinbell/core/fault"
)

// A few worlds only: the bench command runs many more.
func TestFaultsAreToldApartAndTraced(t *testing.T) {
	for name, dense := range map[string]bool{"sparse": false, "dense": true} {
		inferred, nearby, err := Run([]uint64{31, 32, 33, 34}, dense, nil)
		if err != nil {
			t.Fatal(err)
		}
		if inferred.Faults < 12 || inferred.Alerts < 60 {
			t.Fatalf("%s: %d faults rang %d times: too few to say anything", name, inferred.Faults, inferred.Alerts)
		}
		if inferred.Purity < 0.9 || inferred.Hidden > 0.12 || inferred.Segment < 0.7 || inferred.Messages > 1.4 ||
			inferred.Corrections > 0.5 {
			t.Errorf("%s: %+v", name, inferred)
		}
		if inferred.Segment < nearby.Segment || inferred.Hidden > nearby.Hidden {
			t.Errorf("%s: no better than nearness: %+v, %+v", name, inferred, nearby)
		}
	}
}

func TestScoresCountWhatTheySay(t *testing.T) {
	at := func(cause int) ring { return ring{cause: cause} }
	p := past{rings: []ring{at(0), at(0), at(1), at(-1), at(2)},
		origin: func(cause int) fault.Origin { return fault.Origin{Place: name(cause)} }}
	var s Score
	s.add(p, outcome{corrections: 3, groups: []named{
		{[]int{0, 2}, fault.Origin{Place: name(0)}}, // one of each: of the first
		{[]int{1}, fault.Origin{Place: name(7)}},
		{[]int{3}, fault.Origin{Place: name(1)}},
		{[]int{4}, fault.Origin{Place: name(2), Segment: fault.Segment{{Column: "mill", Value: "north"}}}},
	}})
	s.finish()
	if s.Faults != 3 || s.Alerts != 5 || s.False != 1 || s.Groups != 4 {
		t.Errorf("counted %+v", s)
	}
	if s.Messages != 1 || s.Purity != 0.75 || s.Hidden != 1.0/3 || s.Origin != 2.0/3 || s.Segment != 1.0/3 || s.Corrections != 1 {
		t.Errorf("scored %+v", s)
	}
}
