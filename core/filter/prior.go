package filter

// ShippedPrior is what the filter starts from before anybody has labelled
// anything: fitted by tools/prior on made-up fleets.
var ShippedPrior = Prior{
	Weights: Weights{
		-2.753, // always
		1.698,  // excess over the threshold
		2.675,  // mean deviation
		-0.672, // largest deviation
		-0.032, // newest deviation
		3.279,  // how long it deviates
		-0.267, // upwards
		-0.568, // size of counts
		0.891,  // a count
		0.325,  // change in proportion
		-0.531, // nothing at all came
		2.092,  // silence rule
		5.063,  // stuck rule
		4.516,  // missing-data rule
		5.823,  // step rule
		0.000,  // overdue rule
		-0.026, // alerts in the fortnight before
		-0.057, // others at the same time
		0.229,  // answers about the series
		0.025,  // answers about the monitor
		-1.709, // a share
		-0.953, // a duration
		-0.981, // a value
		1.033,  // excess, of a share
		-0.500, // excess, of a duration or value
		0.717,  // excess by size of counts
		1.012,  // mean deviation, of a share
		0.567,  // mean deviation, of a duration or value
		-0.174, // hardly over the threshold
		0.394,  // rarity
		0.303,  // rarity beyond a hundredfold
		-0.505, // rarity, of a share
		-0.049, // rarity, of a duration or value
		-0.384, // rarity by size of counts
		-0.572, // budget of its monitor
		0.247,  // budget, of a share
		0.057,  // budget, of a duration or value
		0.090,  // budget by size of counts
		0.482,  // mean deviation beyond 1.5
		-2.033, // mean deviation beyond 3
		-0.204, // excess beyond a third
		-1.594, // many periods
		0.557,  // many periods that deviate much
	},
	Cuts: [][2]float64{
		{0.005, 0.1344},
		{0.01, 0.1773},
		{0.02, 0.2619},
		{0.05, 0.5173},
		{0.1, 0.7604},
		{0.2, 0.9527},
	},
}
