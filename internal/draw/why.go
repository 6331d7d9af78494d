package draw

import (
	"fmt"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"

	"tinbell/internal/diagnose"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Contribution draws, for each value of the most telling column, what came (filled)
// in what was expected (outlined), the largest contribution on top; what is far off
// is red.
func Contribution(c diagnose.Contribution, title, path string) error {
	if len(c.By) == 0 {
		return record.Invalid{Field: "alert", Given: title, Allowed: "one whose change is taken apart by at least one column"}
	}
	by := c.By[0]
	unit := c.Unit
	if unit == "" {
		unit = c.Measure
	}
	p, err := sheet(title, fmt.Sprintf("%s by %s; outlined: the mean of the same hours of %d earlier weeks; filled: what came",
		unit, by.Column, c.Weeks), path)
	if err != nil {
		return err
	}
	low, high := 0.0, 0.0
	for _, v := range by.Values {
		low, high = min(low, v.Observed, v.Expected), max(high, v.Observed, v.Expected)
	}
	if high == low {
		high = low + 1
	}
	box := func(y, half, to float64) plotter.XYs {
		return plotter.XYs{{X: 0, Y: y - half}, {X: to, Y: y - half}, {X: to, Y: y + half}, {X: 0, Y: y + half}, {X: 0, Y: y - half}}
	}
	rows := float64(len(by.Values))
	var names plot.ConstantTicks
	for i, v := range by.Values {
		y := rows - float64(i) - 0.5
		shade := noise
		if math.Abs(v.Z) >= farOff {
			shade = vermilion
		}
		fill(p, box(y, 0.18, v.Observed), shade)
		line(p, box(y, 0.34, v.Expected), pewterLine, 0.9, false)
		observed, expected := words.NumbersApart(v.Observed, v.Expected)
		if c.Measure == "share" {
			observed, expected = words.Apart(v.Observed, v.Expected)
		}
		said := observed + ", expected " + expected
		if v.Share > 0 {
			said += fmt.Sprintf("; %.0f %% of all that %s", 100*v.Share, c.Way)
		}
		note(p, plotter.XY{X: max(v.Observed, v.Expected, 0) + 0.01*(high-low), Y: y - 0.12}, said)
		names = append(names, plot.Tick{Value: y, Label: shorten(v.Tags[0].Value, 24)})
	}
	p.Y.Tick.Marker = names
	p.Y.Min, p.Y.Max = 0, max(rows, 3)
	p.X.Min, p.X.Max = low, high+0.42*(high-low)
	if c.Measure == "share" {
		p.X.Tick.Marker = shares{high}
	}
	return save(p, path)
}

// farOff is how many standard deviations mark a value.
const farOff = 4
