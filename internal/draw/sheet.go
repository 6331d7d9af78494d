package draw

import (
	"fmt"
	"image/color"
	"math"
	"slices"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"tinbell/internal/record"
	"tinbell/internal/study"
)

// Sheet draws each series of a sheet by what it usually has (across) and what it had, as
// a share of that (up), in the corridor of the tolerance; those outside are red and named,
// with their own corridor. Series whose usual is not above 0 are left out.
func Sheet(s study.Sheet, path string) error {
	p, err := sheet(s.Sentence, "usually a day, on a scale of tens; up: what came, as a share of that; the corridor is the tolerance, a stroke what such a series strays by itself", path)
	if err != nil {
		return err
	}
	type dot struct{ x, y, low, high float64 }
	var inside, outside []dot
	var named []study.Placed
	left, right, far := math.Inf(1), math.Inf(-1), 2*s.Tolerance
	for _, b := range s.Series {
		if b.Now == nil || b.Usual == nil || *b.Usual <= 0 || b.Low == nil || b.High == nil {
			continue
		}
		d := dot{math.Log10(*b.Usual), *b.Now / *b.Usual - 1, *b.Low / *b.Usual - 1, *b.High / *b.Usual - 1}
		left, right, far = math.Min(left, d.x), math.Max(right, d.x), math.Max(far, math.Abs(d.y))
		if b.Off > 1 {
			outside, named = append(outside, d), append(named, b)
		} else {
			inside = append(inside, d)
		}
	}
	if len(inside)+len(outside) == 0 {
		return record.Invalid{Field: "series", Given: strconv.Itoa(len(s.Series)),
			Allowed: "some that can be held against what they usually have"}
	}
	left, right = math.Floor(left), math.Ceil(right+1e-9)
	far = math.Min(1.12*far, 3)
	fill(p, plotter.XYs{{X: left, Y: -s.Tolerance}, {X: right, Y: -s.Tolerance}, {X: right, Y: s.Tolerance},
		{X: left, Y: s.Tolerance}}, pewter)
	line(p, plotter.XYs{{X: left}, {X: right}}, pewterLine, 0.9, true)
	clip := func(y float64) float64 { return math.Max(-far, math.Min(far, y)) }
	mark := func(dots []dot, shade color.Color, radius float64) {
		var points plotter.XYs
		for _, d := range dots {
			points = append(points, plotter.XY{X: d.x, Y: clip(d.y)})
		}
		if scatter, err := plotter.NewScatter(points); err == nil {
			scatter.GlyphStyle = draw.GlyphStyle{Color: shade, Radius: vg.Points(radius), Shape: draw.CircleGlyph{}}
			p.Add(scatter)
		}
	}
	for _, d := range outside {
		line(p, plotter.XYs{{X: d.x, Y: clip(d.low)}, {X: d.x, Y: clip(d.high)}}, pewterLine, 1.4, false)
	}
	mark(inside, ink3, 2)
	mark(outside, vermilion, 2.8)
	var written []dot
	for i, b := range named {
		d := outside[i]
		crowded := slices.ContainsFunc(written, func(w dot) bool {
			return math.Abs(clip(w.y)-clip(d.y)) < 0.1*far && math.Abs(w.x-d.x) < 0.35*(right-left)
		})
		if crowded || len(written) == 8 {
			continue
		}
		written = append(written, d)
		beyond := d.x > (left+right)/2 // the middle: the name goes to the left
		aside := 0.012 * (right - left)
		if beyond {
			aside = -aside
		}
		noteBy(p, plotter.XY{X: d.x + aside, Y: clip(d.y)}, b.Called(), beyond)
	}
	var across, up plot.ConstantTicks
	for tens := left; tens <= right; tens++ {
		across = append(across, plot.Tick{Value: tens, Label: strconv.FormatFloat(math.Pow(10, tens), 'g', -1, 64)})
	}
	stride := 1.0
	for _, finer := range []float64{0.5, 0.25, 0.1, 0.05, 0.02} {
		if far/finer <= 5 {
			stride = finer
		}
	}
	for y := -math.Floor(far/stride) * stride; y <= far; y += stride {
		up = append(up, plot.Tick{Value: y, Label: fmt.Sprintf("%+.0f %%", 100*y)})
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = left, right, -far, far
	p.X.Tick.Marker, p.Y.Tick.Marker = across, up
	return save(p, path)
}
