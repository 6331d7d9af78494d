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

// Extremes are how the largest values of each of a series' statistics fall off.
type Extremes struct{ low, high, silence, missing, stuck tail }

// Extremes gives those of the series.
func (e *Evaluator) Extremes() Extremes {
	runs := func(s *surprise, rule Cause) tail {
		s.limits(e, rule)
		return s.Peaks.fit
	}
	return Extremes{low: e.Maxima[low].All.fit, high: e.Maxima[high].All.fit, silence: runs(&e.Silence.Odds, Silence),
		missing: runs(&e.Absence.Odds, Missing), stuck: runs(&e.Stuck.Odds, Stuck)}
}

// KinOf pools what alike series know of their extremes.
func KinOf(series []Extremes) Kinship {
	of := func(one func(*Extremes) *tail) KinTail { return kinTail(series, one) }
	return Kinship{
		Low:     of(func(x *Extremes) *tail { return &x.low }),
		High:    of(func(x *Extremes) *tail { return &x.high }),
		Silence: of(func(x *Extremes) *tail { return &x.silence }),
		Missing: of(func(x *Extremes) *tail { return &x.missing }),
		Stuck:   of(func(x *Extremes) *tail { return &x.stuck }),
	}
}

// leastKin is of how many series a common slope is taken.
const leastKin = 3

// kinTail is the common slope of one statistic. What it is worth to one series follows from
// how much their own slopes differ beyond chance, that of k values having a relative variance
// of 1/k (random effects by moments, DerSimonian and Laird 1986), and is never more than all
// their values.
func kinTail(series []Extremes, of func(*Extremes) *tail) KinTail {
	var own []*tail
	for i := range series {
		if t := of(&series[i]); t.own > 0 {
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
