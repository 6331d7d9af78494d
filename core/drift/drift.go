// Package drift compares the rows of a period with those of a reference: feature
// by feature, two features together, all of them by a classifier, and a model's
// scores by its versions.
//
// Rows come in as counts over a fixed layout, which can be added up: a day's
// counts are enough for every figure of any stretch of days. The classifier and
// the pairs work on a sample of rows. The package reads and stores nothing and
// imports the standard library, gonum and core/score.
package drift

// Kind is what a feature's values are.
type Kind string

const (
	Number   Kind = "number"
	Category Kind = "category"
	Boolean  Kind = "boolean"
	Time     Kind = "time" // counted in hours from the row's own time
)

// Numeric tells whether values of the kind have an order and a distance.
func (k Kind) Numeric() bool { return k == Number || k == Time }

// MinRows is the least number of rows that a verdict is given on.
const MinRows = 30
