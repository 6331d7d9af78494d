package draw

import (
	"fmt"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"tinbell/internal/study"
	"tinbell/internal/words"
)

// Outliers draws what stands out of a set on one line, each rule's limits above, the
// middle half of all as a bar, and names the farthest. Values that are judged by a part
// of their season are drawn by how far they are off, in spreads of that part.
func Outliers(s study.OutlierStudy, path string) error {
	all, label := s.All, or(s.Unit, s.Of)
	if s.Seasonal {
		all, label = s.Judged, label+", by how many standard deviations of its hour or day it is off"
	}
	p, err := sheet(s.Sentence, label+"; the middle half of all as a bar, each rule's limits as a line", path)
	if err != nil {
		return err
	}
	number := func(v *float64) float64 {
		if v == nil {
			return math.NaN()
		}
		return *v
	}
	low, high := number(all.Smallest), number(all.Largest)
	if math.IsNaN(low) {
		return fmt.Errorf("nothing to draw: no value")
	}
	pad := 0.04*(high-low) + 1e-9
	q1, q3, middle := number(all.Quartile1), number(all.Quartile3), number(all.Median)
	fill(p, plotter.XYs{{X: q1, Y: -0.35}, {X: q3, Y: -0.35}, {X: q3, Y: 0.35}, {X: q1, Y: 0.35}}, pewter)
	line(p, plotter.XYs{{X: middle, Y: -0.35}, {X: middle, Y: 0.35}}, ink, 1.6, false)
	line(p, plotter.XYs{{X: low, Y: 0}, {X: high, Y: 0}}, pewterLine, 0.7, false)
	y := 0.6
	for _, rule := range s.Rules {
		if rule.Name == "allowed range" && (s.Seasonal || rule.Low == nil && rule.High == nil) {
			continue // of the values themselves, or not asked for
		}
		y += 0.6
		a, b := low-pad, high+pad
		if rule.Low != nil {
			a = math.Max(*rule.Low, a)
		}
		if rule.High != nil {
			b = math.Min(*rule.High, b)
		}
		line(p, plotter.XYs{{X: a, Y: y}, {X: b, Y: y}}, ink3, 1.2, false)
		for _, end := range []*float64{rule.Low, rule.High} {
			if end != nil && *end > low-pad && *end < high+pad {
				line(p, plotter.XYs{{X: *end, Y: y - 0.14}, {X: *end, Y: y + 0.14}}, ink3, 1.2, false)
			}
		}
		note(p, plotter.XY{X: a, Y: y + 0.16}, fmt.Sprintf("%s: %d beyond", rule.Name, rule.Beyond))
	}
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return err
	}
	var odd plotter.XYs
	for i, o := range s.Odd {
		if o.Judged == nil {
			continue
		}
		odd = append(odd, plotter.XY{X: *o.Judged, Y: 0})
		if i < 5 {
			place := "row " + o.Place
			if o.At != nil {
				place = o.At.In(zone).Format("2 Jan 15:04")
			}
			at := plotter.XY{X: *o.Judged, Y: -0.6 - 0.32*float64(i)}
			line(p, plotter.XYs{{X: at.X, Y: -0.1}, {X: at.X, Y: at.Y}}, hair, 0.7, false)
			noteBy(p, at, place+": "+words.Number(number(o.Value)), at.X > middle)
		}
	}
	if scatter, err := plotter.NewScatter(odd); err == nil {
		scatter.GlyphStyle = draw.GlyphStyle{Color: vermilion, Radius: vg.Points(2.6), Shape: draw.CircleGlyph{}}
		p.Add(scatter)
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = low-pad, high+pad, -2.4, 3.4
	p.X.Tick.Marker, p.Y.Tick.Marker = fromZero{s.Kind}, plot.ConstantTicks{}
	if s.Seasonal || low < 0 {
		p.X.Tick.Marker = plot.DefaultTicks{}
	}
	return save(p, path)
}
