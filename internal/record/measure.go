package record

import "tinbell/core/timeline"

// Measure is one thing a probe can take of a table's rows.
type Measure struct {
	Name   string        `json:"name"`
	Kind   timeline.Kind `json:"kind"`
	Column bool          `json:"column" doc:"it needs a column"`
	Empty  Empty         `json:"-"`
	Says   string        `json:"says"`
}

// Empty says what a period without rows is.
type Empty uint8

const (
	Zero    Empty = iota // a value of zero
	Nothing              // no value, of no rows
	Age                  // as old as before, and a period older
)

// Measures of a warehouse table. Names of what is pushed are free.
const (
	MeasureRows       = "rows"
	MeasureFreshness  = "freshness"
	MeasureNullShare  = "null_share"
	MeasureDistinct   = "distinct"
	MeasureMean       = "mean"
	MeasureSum        = "sum"
	MeasureMin        = "min"
	MeasureMax        = "max"
	MeasureSD         = "sd"
	MeasureQuantile   = "quantile"
	MeasureValueShare = "value_share"
	MeasureExpression = "expression"
	MeasureTableBytes = "table_bytes"
)

// Measures lists them in the order they are told to people.
var Measures = []Measure{
	{MeasureRows, timeline.Count, false, Zero, "rows"},
	{MeasureFreshness, timeline.Duration, false, Age, "age of the newest row at the end of each period"},
	{MeasureNullShare, timeline.Share, true, Nothing, "share of rows in which the column is null"},
	{MeasureDistinct, timeline.Count, true, Zero, "different values of the column"},
	{MeasureMean, timeline.Value, true, Nothing, "mean of the column"},
	{MeasureSum, timeline.Value, true, Zero, "sum of the column"},
	{MeasureMin, timeline.Value, true, Nothing, "smallest value of the column"},
	{MeasureMax, timeline.Value, true, Nothing, "largest value of the column"},
	{MeasureSD, timeline.Value, true, Nothing, "standard deviation of the column"},
	{MeasureQuantile, timeline.Value, true, Nothing, "a quantile of the column, half of them if none is given"},
	{MeasureValueShare, timeline.Share, true, Nothing, "share of rows in which the column has the value given"},
	{MeasureExpression, timeline.Value, false, Nothing, "an SQL aggregate of your own"},
	{MeasureTableBytes, timeline.Count, false, Nothing, "size of the table with its indexes"},
}

// MeasureNamed gives a measure of a warehouse table.
func MeasureNamed(name string) (Measure, bool) {
	for _, m := range Measures {
		if m.Name == name {
			return m, true
		}
	}
	return Measure{}, false
}
