package record

import "time"

// Shape is what a point's value stands for.
type Shape int16

const (
	Gauge      Shape = iota // a value at an instant
	Delta                   // a sum since the stream's last point
	Cumulative              // a sum since the stream began
)

// Point is one value of a stream. Weight is how many values it sums up, NaN
// where it is no histogram.
type Point struct {
	At     time.Time
	Stream int64
	Shape  Shape
	Value  float64
	Weight float64
}
