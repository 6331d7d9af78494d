package tune

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// candidateOf is a monitor whose second setting tells some of today's alerts, and more.
func candidateOf(today []Told, known []Known, other ...Told) *Candidate {
	return &Candidate{Told: [][]Told{today, other}, Known: known}
}

func TestWhatIsToldOtherwiseIsNotMissing(t *testing.T) {
	alert := func(series, since int64) Told {
		return Told{Series: series, Since: since, Raised: since + 5, Closed: since + 20}
	}
	of := func(a Told, incident string) Told { a.Incident = incident; return a }
	today := []Told{alert(1, 100), alert(1, 200), of(alert(2, 300), "I-1"), alert(3, 400), alert(1, 900)}
	known := make([]Known, 5)
	known[2].Incident, known[3].Skip = "I-1", true
	for name, c := range map[string]struct {
		other []Told
		want  []int
	}{
		"nothing told":                       {nil, []int{0, 1, 2}},
		"the same":                           {today, nil},
		"a little later, of the same series": {[]Told{alert(1, 110)}, []int{1, 2}},
		"at the time, of another series":     {[]Told{alert(2, 105)}, []int{0, 1, 2}},
		"right after its end":                {[]Told{alert(1, 120)}, []int{0, 1, 2}},
		"the incident from another series":   {[]Told{of(alert(9, 310), "I-1")}, []int{0, 1}},
		"one that is open still":             {[]Told{{Series: 1, Since: 50, Raised: 60}}, []int{2}},
	} {
		if got := candidateOf(today, known, c.other...).Missing(1, 0, 500); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v are missing, want %v", name, got, c.want)
		}
	}
}

func TestNewAlertsCountAgainstASettingAndFoundIncidentsForIt(t *testing.T) {
	today := []Told{{Series: 1, Since: 100, Raised: 100, Closed: 150, Incident: "I-1"}}
	c := candidateOf(today, []Known{{Incident: "I-1"}},
		Told{Series: 1, Since: 110, Raised: 110, Closed: 120, Incident: "I-1"}, // told today too
		Told{Series: 2, Since: 200, Raised: 200, Closed: 210, Incident: "I-2"}, // missed today
		Told{Series: 3, Since: 205, Raised: 205, Closed: 210, Incident: "I-2"}, // the same again
		Told{Series: 2, Since: 300, Raised: 300, Closed: 310},                  // nobody knows it
		Told{Series: 2, Since: 350, Raised: 350, Closed: 360, Expected: true},
		Told{Series: 2, Since: 900, Raised: 900, Closed: 910}) // after the stretch
	gone, more := c.Change(1, 0, 500)
	if len(gone) != 0 || more.Lost != -1 || more.Spared != -1 {
		t.Errorf("gone %v, beside them %+v", gone, more)
	}
	if got := c.Gained(1); !slices.Equal(got, []string{"I-2"}) {
		t.Errorf("gained %v", got)
	}
}

// Time that a choice is tried on is none that it was made by: a setting that spares noise
// at first and loses faults later is chosen by the first and counted by the later.
func TestAChoiceIsCountedOnTimeItHasNotSeen(t *testing.T) {
	var today []Told
	var known []Known
	for i := range int64(40) {
		today = append(today, Told{Series: i, Since: 10 * i, Raised: 10 * i, Closed: 10*i + 5})
		known = append(known, Known{Gone: Gone{Answered: true, Fault: i >= 30, Chance: 0.5}})
	}
	c := candidateOf(today, known)
	kept := HoldOut([]*Candidate{c}, 0, 400, 4, 0.01)[0]
	if kept.Faults != 10 || kept.Noise != 20 {
		t.Fatalf("held out: %+v", kept)
	}
	if kept.NoiseSpared != 20 || kept.FaultsLost != 10 {
		t.Errorf("the silent setting was chosen by noise alone, and then loses all: %+v", kept)
	}
	if chosen, outlooks := Choose([]*Candidate{c}, 0, 400, 0.01); chosen[0] != 0 || outlooks[0][1].Lost != 10 || outlooks[0][1].Spared != 30 {
		t.Errorf("with everything known: %v, %+v", chosen, outlooks)
	}
}

// Whatever was told and is known: today's setting loses and spares nothing, what is kept
// never exceeds what there was, and the choice keeps the limit where all is answered.
func TestChoicesKeepTheLimitOnWhatIsKnown(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for range 500 {
		var list []*Candidate
		faults := 0.0
		for range 1 + rng.IntN(4) {
			c := &Candidate{Told: make([][]Told, 1+rng.IntN(5))}
			for i := range int64(rng.IntN(25)) {
				since := int64(rng.IntN(10_000))
				a := Told{Series: i % 3, Since: since, Raised: since + int64(rng.IntN(50)), Closed: since + 1 + int64(rng.IntN(90))}
				fault := rng.IntN(3) == 0
				if fault {
					faults++
				}
				c.Told[0] = append(c.Told[0], a)
				c.Known = append(c.Known, Known{Gone: Gone{Answered: true, Fault: fault, Chance: rng.Float64()}})
				for k := 1; k < len(c.Told); k++ {
					if rng.IntN(k+1) == 0 {
						c.Told[k] = append(c.Told[k], a)
					}
				}
			}
			list = append(list, c)
		}
		const limit = 0.1
		chosen, outlooks := Choose(list, 0, 20_000, limit)
		lost := 0.0
		for m := range list {
			if o := outlooks[m][0]; o != (Outlook{}) {
				t.Fatalf("today's setting changes %+v", o)
			}
			lost += outlooks[m][chosen[m]].Lost
		}
		if lost > limit*faults+1e-9 {
			t.Fatalf("%g of %g faults are lost", lost, faults)
		}
		for _, k := range HoldOut(list, 0, 10_000, 4, limit) {
			if k.FaultsLost > k.Faults || k.NoiseSpared > k.Noise {
				t.Fatalf("more gone than there was: %+v", k)
			}
		}
	}
}
