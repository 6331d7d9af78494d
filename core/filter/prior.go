package filter

// ShippedPrior is what the filter starts from before anybody has labelled
// anything: fitted by tools/prior on made-up fleets.
var ShippedPrior = Prior{
	Weights: Weights{
		-1.290, // always
		1.060,  // excess over the threshold
		1.965,  // mean deviation
		-0.492, // largest deviation
		-0.010, // newest deviation
		1.081,  // how long it deviates
		-0.152, // upwards
		0.115,  // size of counts
		0.453,  // a count
		0.044,  // change in proportion
		0.156,  // nothing at all came
		3.780,  // silence rule
		5.167,  // stuck rule
		2.904,  // missing-data rule
		5.679,  // step rule
		0.000,  // overdue rule
		-0.267, // alerts in the fortnight before
		-0.118, // others at the same time
		0.431,  // answers about the series
		0.788,  // answers about the monitor
		-0.524, // a share
		-0.575, // a duration
		-0.645, // a value
		0.931,  // excess, of a share
		-0.149, // excess, of a duration or value
		-0.331, // excess by size of counts
		0.912,  // mean deviation, of a share
		0.597,  // mean deviation, of a duration or value
		0.174,  // hardly over the threshold
		0.939,  // rarity
		0.051,  // rarity beyond a hundredfold
		-0.514, // rarity, of a share
		-0.387, // rarity, of a duration or value
		-0.506, // rarity by size of counts
		-0.546, // budget of its monitor
		-0.125, // budget, of a share
		-0.054, // budget, of a duration or value
		0.002,  // budget by size of counts
		0.221,  // mean deviation beyond 1.5
		-1.927, // mean deviation beyond 3
		1.217,  // excess beyond a third
		-0.490, // many periods
		0.001,  // many periods that deviate much
	},
	Cuts: [][2]float64{
		{0.005, 0.1597},
		{0.01, 0.2077},
		{0.02, 0.2903},
		{0.05, 0.4922},
		{0.1, 0.7772},
		{0.2, 0.9318},
	},
}
