// Package draw makes pictures of series as PNG or SVG files, in the console's
// language: the band a pale ribbon, expected dashed, observed in ink, and the
// two-lane strip below.
package draw

import (
	"bytes"
	"errors"
	"fmt"
	"image/color"
	"io"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

var (
	ground     = color.RGBA{0xf4, 0xf0, 0xe7, 0xff}
	ink        = color.RGBA{0x1d, 0x23, 0x2b, 0xff}
	ink3       = color.RGBA{0x62, 0x66, 0x6b, 0xff}
	hair       = color.RGBA{0xdd, 0xd6, 0xc8, 0xff}
	pewter     = color.RGBA{0xd3, 0xd7, 0xda, 0xff}
	pewterLine = color.RGBA{0x6e, 0x76, 0x7f, 0xff}
	vermilion  = color.RGBA{0xae, 0x2d, 0x08, 0xff}
	wash       = color.RGBA{0xf2, 0xd3, 0xc5, 0xff}
	brass      = color.RGBA{0xb0, 0x80, 0x16, 0xff}
	noise      = color.RGBA{0xb4, 0xbb, 0xc1, 0xff}
	violet     = color.RGBA{0x55, 0x3f, 0x99, 0xff}
	violetWash = color.RGBA{0xdd, 0xd6, 0xea, 0xff}
)

// Chart draws a series to a file whose ending says the format: .png or .svg.
func Chart(c chart.Chart, title, path string) error {
	p, err := compose(c, title, path)
	if err != nil {
		return err
	}
	return save(p, path)
}

// Write draws a series in a format, png or svg, small enough for a letter.
func Write(c chart.Chart, title, format string, to io.Writer) error {
	p, err := compose(c, title, "."+format)
	if err != nil {
		return err
	}
	return render(p, format, to, 18*vg.Centimeter, 8*vg.Centimeter)
}

// compose lays a series out.
func compose(c chart.Chart, title, path string) (*plot.Plot, error) {
	if len(c.At) == 0 {
		return nil, fmt.Errorf("nothing to draw: no sample in this stretch")
	}
	zone, err := time.LoadLocation(c.Zone)
	if err != nil {
		return nil, err
	}
	unit := c.Unit
	if unit == "" {
		unit = strings.ReplaceAll(c.Measure, "_", " ")
	}
	if c.Series.Segment != "" {
		unit += " at " + c.Series.Segment
	}
	p, err := sheet(title, unit+"; times in "+c.Zone, path)
	if err != nil {
		return nil, err
	}
	p.X.Tick.Marker = days{zone}
	grounds := &grounds{chart: c}
	p.Add(grounds)
	top := addSeries(p, c)
	grounds.top = top
	p.Y.Min, p.Y.Max = -0.16*top, 1.04*top
	p.Y.Tick.Marker = fromZero{c.Kind}
	p.X.Min, p.X.Max = seconds(c.At[0]), seconds(c.At[len(c.At)-1])+float64(c.PeriodSeconds)
	p.Add(strip{c, top})
	return p, nil
}

// save draws to a file.
func save(p *plot.Plot, path string) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(render(p, strings.ToLower(filepath.Ext(path))[1:], file, 28*vg.Centimeter, 11*vg.Centimeter), file.Close())
}

// render draws with a margin around.
func render(p *plot.Plot, format string, to io.Writer, wide, high vg.Length) error {
	canvas, err := draw.NewFormattedCanvas(wide, high, format)
	if err != nil {
		return err
	}
	whole := draw.New(canvas)
	whole.FillPolygon(ground, []vg.Point{{X: 0, Y: 0}, {X: whole.Max.X, Y: 0}, {X: whole.Max.X, Y: whole.Max.Y}, {X: 0, Y: whole.Max.Y}})
	p.Draw(draw.Crop(whole, vg.Points(12), -vg.Points(16), vg.Points(10), -vg.Points(12)))
	if format != "svg" {
		_, err = canvas.WriteTo(to)
		return err
	}
	var text bytes.Buffer
	if _, err := canvas.WriteTo(&text); err != nil {
		return err
	}
	_, err = io.WriteString(to, words.Plain(text.String())) // names are drawn as they are written
	return err
}

// sans is the face of all text.
var sans = font.Font{Typeface: "Liberation", Variant: "Sans"}

// days puts a tick at each local midnight; of more than three months at firsts of months,
// with the year.
type days struct{ zone *time.Location }

func (d days) Ticks(low, high float64) []plot.Tick {
	at := time.Unix(int64(low), 0).In(d.zone)
	if high-low > 92*86400 {
		return months(d).Ticks(low, high)
	}
	at = time.Date(at.Year(), at.Month(), at.Day()+1, 0, 0, 0, 0, d.zone)
	stride := max(int((high-low)/86400/9), 1)
	var ticks []plot.Tick
	for i := 0; seconds(at) <= high; i, at = i+1, at.AddDate(0, 0, 1) {
		if i%stride == 0 {
			ticks = append(ticks, plot.Tick{Value: seconds(at), Label: at.Format("Mon 2 Jan")})
		}
	}
	return ticks
}

// fromZero labels the values of the series as people say them, and leaves the
// strip without.
type fromZero struct{ kind timeline.Kind }

func (f fromZero) Ticks(low, high float64) []plot.Tick {
	unit, name := 1.0, ""
	switch {
	case f.kind == timeline.Share:
		unit, name = 0.01, " %"
	case f.kind == timeline.Duration && high > 2*86400:
		unit, name = 86400, " d"
	case f.kind == timeline.Duration && high > 2*3600:
		unit, name = 3600, " h"
	case f.kind == timeline.Duration && high > 120:
		unit, name = 60, " min"
	case f.kind == timeline.Duration:
		name = " s"
	}
	var kept []plot.Tick
	for _, t := range (plot.DefaultTicks{}).Ticks(0, high/unit) {
		if t.Value >= 0 && t.Label != "" {
			kept = append(kept, plot.Tick{Value: t.Value * unit, Label: strconv.FormatFloat(t.Value, 'g', 6, 64) + name})
		}
	}
	return kept
}

func seconds(t time.Time) float64 { return float64(t.Unix()) }

// addSeries draws band, loss, expected and observed, and gives the highest
// value drawn.
func addSeries(p *plot.Plot, c chart.Chart) float64 {
	top := 1e-9
	var low, high, expected plotter.XYs
	var observed []plotter.XYs
	var run, put plotter.XYs
	for i, at := range c.At {
		x := seconds(at)
		if c.Low[i] != nil && c.High[i] != nil {
			low, high = append(low, plotter.XY{X: x, Y: *c.Low[i]}), append(high, plotter.XY{X: x, Y: *c.High[i]})
			top = math.Max(top, *c.High[i])
		}
		if c.Expected[i] != nil {
			expected = append(expected, plotter.XY{X: x, Y: *c.Expected[i]})
		}
		if c.Observed[i] == nil {
			observed, run = append(observed, run), nil
			continue
		}
		if c.Filled != nil && c.Filled[i] {
			put = append(put, plotter.XY{X: x, Y: *c.Observed[i]})
			observed, run = append(observed, run), nil
			continue
		}
		run = append(run, plotter.XY{X: x, Y: *c.Observed[i]})
		top = math.Max(top, *c.Observed[i])
	}
	observed = append(observed, run)
	ribbon := append(plotter.XYs{}, low...)
	for i := len(high) - 1; i >= 0; i-- {
		ribbon = append(ribbon, high[i])
	}
	fill(p, ribbon, pewter)
	for _, area := range losses(c) {
		fill(p, area, wash)
	}
	line(p, expected, pewterLine, 0.8, true)
	for _, bound := range [][]*float64{c.Floor, c.Ceiling} {
		var points plotter.XYs
		for i, v := range bound {
			if v != nil {
				points, top = append(points, plotter.XY{X: seconds(c.At[i]), Y: *v}), math.Max(top, *v)
			}
		}
		line(p, points, ink3, 0.8, false)
	}
	for _, part := range observed {
		line(p, part, ink, 1.2, false)
	}
	rings(p, put)
	return top
}

// rings marks values that did not come and were filled in.
func rings(p *plot.Plot, points plotter.XYs) {
	scatter, err := plotter.NewScatter(points)
	if err != nil {
		return // none
	}
	scatter.GlyphStyle = draw.GlyphStyle{Color: ink3, Radius: vg.Points(1.8), Shape: draw.RingGlyph{}}
	p.Add(scatter)
}

// losses are the areas between the band's edge and values beyond it.
func losses(c chart.Chart) []plotter.XYs {
	var areas []plotter.XYs
	var edge, value plotter.XYs
	end := func() {
		if len(edge) > 1 {
			for i := len(value) - 1; i >= 0; i-- {
				edge = append(edge, value[i])
			}
			areas = append(areas, edge)
		}
		edge, value = nil, nil
	}
	for i, at := range c.At {
		if c.Observed[i] == nil || c.Low[i] == nil || c.High[i] == nil {
			end()
			continue
		}
		x, o := seconds(at), *c.Observed[i]
		switch {
		case o < *c.Low[i]:
			edge, value = append(edge, plotter.XY{X: x, Y: *c.Low[i]}), append(value, plotter.XY{X: x, Y: o})
		case o > *c.High[i]:
			edge, value = append(edge, plotter.XY{X: x, Y: *c.High[i]}), append(value, plotter.XY{X: x, Y: o})
		default:
			end()
		}
	}
	end()
	return areas
}

func fill(p *plot.Plot, outline plotter.XYs, c color.Color) {
	if area, err := plotter.NewPolygon(outline); err == nil && len(outline) > 2 {
		area.Color, area.LineStyle.Width = c, 0
		p.Add(area)
	}
}

func line(p *plot.Plot, points plotter.XYs, c color.Color, width float64, dashed bool) {
	if l, err := plotter.NewLine(points); err == nil && len(points) > 1 {
		l.LineStyle = draw.LineStyle{Color: c, Width: vg.Points(width)}
		if dashed {
			l.Dashes = []vg.Length{vg.Points(3), vg.Points(2.5)}
		}
		p.Add(l)
	}
}

// grounds are planned events behind the series: a violet ground under a line, of
// holidays the line alone.
type grounds struct {
	chart chart.Chart
	top   float64
}

func (g *grounds) Plot(canvas draw.Canvas, p *plot.Plot) {
	toX, toY := p.Transforms(&canvas)
	for _, e := range g.chart.Planned {
		x0, x1 := max(toX(seconds(e.StartedAt)), canvas.Min.X), min(toX(seconds(e.EndedAt)), canvas.Max.X)
		if x1 <= x0 {
			continue
		}
		low, high := toY(0), toY(1.04*g.top)
		if !e.Holiday {
			canvas.FillPolygon(violetWash, []vg.Point{{X: x0, Y: low}, {X: x1, Y: low}, {X: x1, Y: high}, {X: x0, Y: high}})
		}
		canvas.StrokeLine2(draw.LineStyle{Color: violet, Width: vg.Points(1.2)}, x0, high, x1, high)
	}
}

// strip draws the two lanes below zero: alerts stand on a line, incidents hang
// from it.
type strip struct {
	chart chart.Chart
	top   float64
}

func (s strip) Plot(canvas draw.Canvas, p *plot.Plot) {
	toX, toY := p.Transforms(&canvas)
	now := s.chart.At[0]
	for i, v := range s.chart.Observed {
		if v != nil {
			now = s.chart.At[i].Add(time.Duration(s.chart.PeriodSeconds) * time.Second)
		}
	}
	bar := func(from time.Time, to *time.Time, low, high float64, c color.Color) {
		end := now
		if to != nil {
			end = *to
		}
		x0 := max(toX(seconds(from)), canvas.Min.X)
		x1 := min(max(toX(seconds(end)), x0+vg.Points(2)), canvas.Max.X)
		if x1 > x0 {
			canvas.FillPolygon(c, []vg.Point{{X: x0, Y: toY(low * s.top)}, {X: x1, Y: toY(low * s.top)},
				{X: x1, Y: toY(high * s.top)}, {X: x0, Y: toY(high * s.top)}})
		}
	}
	canvas.StrokeLine2(draw.LineStyle{Color: ink3, Width: vg.Points(0.6)}, canvas.Min.X, toY(-0.085*s.top), canvas.Max.X, toY(-0.085*s.top))
	for _, a := range s.chart.Alerts {
		shade := map[score.Verdict]color.Color{record.Fault: ink, record.Noise: noise, record.Planned: violet}[a.Verdict]
		if shade == nil {
			if shade = brass; a.Severity == "critical" {
				shade = vermilion
			}
		}
		bar(a.RaisedAt, a.ClosedAt, -0.08, -0.035, shade)
	}
	for _, i := range s.chart.Incidents {
		bar(i.StartedAt, i.EndedAt, -0.135, -0.09, ink)
	}
}
