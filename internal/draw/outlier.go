package draw

import (
	"fmt"
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"tinbell/internal/inspect"
)

// Outliers draws what stands out of a set on one line, each rule's limits above, the
// middle half of all values as a bar, and names the farthest.
func Outliers(s inspect.OutlierStudy, path string) error {
	p, err := sheet(s.Sentence, or(s.Unit, s.Of)+"; the middle half of the values as a bar, each rule's limits as a line", path)
	if err != nil {
		return err
	}
	number := func(v *float64) float64 {
		if v == nil {
			return math.NaN()
		}
		return *v
	}
	low, high := number(s.All.Smallest), number(s.All.Largest)
	if math.IsNaN(low) {
		return fmt.Errorf("nothing to draw: no value")
	}
	pad := 0.04*(high-low) + 1e-9
	q1, q3 := number(s.All.Quartile1), number(s.All.Quartile3)
	fill(p, plotter.XYs{{X: q1, Y: -0.35}, {X: q3, Y: -0.35}, {X: q3, Y: 0.35}, {X: q1, Y: 0.35}}, pewter)
	line(p, plotter.XYs{{X: number(s.All.Median), Y: -0.35}, {X: number(s.All.Median), Y: 0.35}}, ink, 1.6, false)
	line(p, plotter.XYs{{X: low, Y: 0}, {X: high, Y: 0}}, pewterLine, 0.7, false)
	for i, rule := range s.Rules {
		y := 1 + 0.6*float64(i)
		shade := color.Color(ink3)
		if s.Seasonal && rule.Name != "allowed range" {
			continue // these limits are of what the season leaves, not of the values
		}
		a, b := math.Max(number(rule.Low), low-pad), math.Min(number(rule.High), high+pad)
		if rule.Low == nil {
			a = low - pad
		}
		if rule.High == nil {
			b = high + pad
		}
		line(p, plotter.XYs{{X: a, Y: y}, {X: b, Y: y}}, shade, 1.2, false)
		for _, end := range []*float64{rule.Low, rule.High} {
			if end != nil && *end > low-pad && *end < high+pad {
				line(p, plotter.XYs{{X: *end, Y: y - 0.14}, {X: *end, Y: y + 0.14}}, shade, 1.2, false)
			}
		}
		note(p, plotter.XY{X: a, Y: y + 0.16}, fmt.Sprintf("%s: %d beyond", rule.Name, rule.Beyond))
	}
	var odd plotter.XYs
	for i, o := range s.Odd {
		if o.Value == nil {
			continue
		}
		odd = append(odd, plotter.XY{X: *o.Value, Y: 0})
		if i < 5 {
			place := "row " + o.Place
			if o.At != nil {
				place = o.At.Format("2 Jan 15:04") + " UTC"
			}
			note(p, plotter.XY{X: *o.Value, Y: -0.6 - 0.32*float64(i)}, place)
		}
	}
	if scatter, err := plotter.NewScatter(odd); err == nil {
		scatter.GlyphStyle = draw.GlyphStyle{Color: vermilion, Radius: vg.Points(2.6), Shape: draw.CircleGlyph{}}
		p.Add(scatter)
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = low-pad, high+pad, -2.4, 3.4
	p.X.Tick.Marker, p.Y.Tick.Marker = fromZero{s.Kind}, plot.ConstantTicks{}
	return save(p, path)
}
