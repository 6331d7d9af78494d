package record

import "tinbell/core/timeline"

// Measure is one thing that can be taken of a table's rows, or of files that
// landed.
type Measure struct {
	Name   string        `json:"name"`
	Kind   timeline.Kind `json:"kind"`
	Column bool          `json:"column" doc:"it needs a column"`
	Empty  Empty         `json:"-"`
	Of     Of            `json:"of" enum:"table,files,both"`
	Says   string        `json:"says"`
}

// Empty says what a period without rows is.
type Empty uint8

const (
	Zero    Empty = iota // a value of zero
	Nothing              // no value, of no rows
	Age                  // as old as before, and a period older
)

// Of says what a measure can be taken of.
type Of string

const (
	OfTable Of = "table"
	OfFiles Of = "files"
	OfBoth  Of = "both"
)

// Measures of tables and files. Names of what is pushed are free.
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
	MeasureDeliveries = "deliveries"
	MeasureBytes      = "bytes"
	MeasureRowBytes   = "bytes_per_row"
)

// Measures lists them in the order they are told to people.
var Measures = []Measure{
	{MeasureRows, timeline.Count, false, Zero, OfBoth, "rows"},
	{MeasureFreshness, timeline.Duration, false, Age, OfBoth, "age of the newest row at the end of each period"},
	{MeasureNullShare, timeline.Share, true, Nothing, OfTable, "share of rows in which the column is null"},
	{MeasureDistinct, timeline.Count, true, Zero, OfTable, "different values of the column"},
	{MeasureMean, timeline.Value, true, Nothing, OfTable, "mean of the column"},
	{MeasureSum, timeline.Value, true, Zero, OfTable, "sum of the column"},
	{MeasureMin, timeline.Value, true, Nothing, OfTable, "smallest value of the column"},
	{MeasureMax, timeline.Value, true, Nothing, OfTable, "largest value of the column"},
	{MeasureSD, timeline.Value, true, Nothing, OfTable, "standard deviation of the column"},
	{MeasureQuantile, timeline.Value, true, Nothing, OfTable, "a quantile of the column, half of them if none is given"},
	{MeasureValueShare, timeline.Share, true, Nothing, OfTable, "share of rows in which the column has the value given"},
	{MeasureExpression, timeline.Value, false, Nothing, OfTable, "an SQL aggregate of your own"},
	{MeasureTableBytes, timeline.Count, false, Nothing, OfTable, "size of the table with its indexes"},
	{MeasureDeliveries, timeline.Count, false, Zero, OfFiles, "files"},
	{MeasureBytes, timeline.Count, false, Zero, OfFiles, "size of the files"},
	{MeasureRowBytes, timeline.Value, false, Nothing, OfFiles, "bytes per row"},
}

// LandedAt is the time column of files.
const LandedAt = "landed_at"

// MeasureNamed gives a measure of tables or files.
func MeasureNamed(name string) (Measure, bool) {
	for _, m := range Measures {
		if m.Name == name {
			return m, true
		}
	}
	return Measure{}, false
}
