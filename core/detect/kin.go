package detect

// Kinship is what the series of one monitor together say of each of them: a series of a few
// weeks knows little of its own extremes, and its kin know them too. The zero value says
// nothing.
type Kinship struct {
	Low     KinTail `json:"low"`
	High    KinTail `json:"high"`
	Silence KinTail `json:"silence"`
	Missing KinTail `json:"missing"`
	Stuck   KinTail `json:"stuck"`
	Young   float64 `json:"young" doc:"by what share the limits of a series without any past are raised, falling to 0 as it grows old: by how much farther its kin deviated in weeks that they were not fitted to; 0: not known, 0.6 is taken"`
}

// KinTail is how the largest values of a statistic fall off in alike series.
type KinTail struct {
	Slope float64 `json:"slope" doc:"mean excess of a day's (of daily series a week's) largest values"`
	Worth float64 `json:"worth" doc:"how many of its own largest values that is worth to one series: more, the more alike the series are; 0: not known, or they are not alike"`
}

// youngRaise is by what share the limits of a series without any past are raised where its
// kin do not say.
const youngRaise = 0.6

// raise is the factor of limits at an age.
func (k *Kinship) raise(youth float64) float64 {
	if k.Young == 0 {
		return 1 + youngRaise*youth
	}
	return 1 + k.Young*youth
}

// windows is what is believed of the windows' largest deviations to a side.
func (k *Kinship) windows(side int) slopePrior {
	t := &k.Low
	if side == high {
		t = &k.High
	}
	return t.over(slopePrior{slope: windowPrior, worth: tailPrior})
}

// surprise is what is believed of the largest runs of a rule.
func (k *Kinship) surprise(rule Cause) slopePrior {
	t := &k.Silence
	switch rule {
	case Missing:
		t = &k.Missing
	case Stuck:
		t = &k.Stuck
	}
	return t.over(slopePrior{slope: surprisePrior, worth: tailPrior, rare: true})
}

// over is a belief, in whose place the kin's comes where it is known.
func (t *KinTail) over(p slopePrior) slopePrior {
	if t.Worth > 0 {
		p.slope, p.worth = t.Slope, t.Worth
	}
	return p
}

// KinOf pools what alike series know of their extremes.
func KinOf(series []*Evaluator) Kinship {
	runs := func(rule Cause, of func(*Evaluator) *surprise) KinTail {
		return kinTail(series, func(e *Evaluator) *tail {
			s := of(e)
			s.limits(e, rule)
			return &s.Peaks.fit
		})
	}
	return Kinship{
		Low:     kinTail(series, func(e *Evaluator) *tail { return &e.Maxima[low].All.fit }),
		High:    kinTail(series, func(e *Evaluator) *tail { return &e.Maxima[high].All.fit }),
		Silence: runs(Silence, func(e *Evaluator) *surprise { return &e.Silence.Odds }),
		Missing: runs(Missing, func(e *Evaluator) *surprise { return &e.Absence.Odds }),
		Stuck:   runs(Stuck, func(e *Evaluator) *surprise { return &e.Stuck.Odds }),
	}
}

// leastKin is of how many series a common slope is taken.
const leastKin = 3

// kinTail is the common slope of one statistic. What it is worth to one series follows from
// how much their own slopes differ beyond chance, that of k values having a relative variance
// of 1/k (random effects by moments, DerSimonian and Laird 1986), and is never more than all
// their values.
func kinTail(series []*Evaluator, of func(*Evaluator) *tail) KinTail {
	var own []*tail
	for _, e := range series {
		if t := of(e); t.own > 0 {
			own = append(own, t)
		}
	}
	return pool(own)
}

func pool(own []*tail) KinTail {
	if len(own) < leastKin {
		return KinTail{}
	}
	var sum, values, squares, apart float64
	for _, t := range own {
		sum, values, squares = sum+t.own, values+t.above, squares+t.above*t.above
	}
	slope := sum / values
	for _, t := range own {
		d := t.own/t.above/slope - 1
		apart += t.above * d * d
	}
	differ := max(0, (apart-float64(len(own)-1))/(values-squares/values))
	if worth := 1 / (differ + 1/values); worth > tailPrior {
		return KinTail{Slope: slope, Worth: worth}
	}
	return KinTail{} // no more than what is believed anyway
}
