package draw

import (
	"fmt"
	"image/color"
	"slices"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Distributions draws a feature's values in the reference (an area) and in a
// period (a line in ink) over each other, and below what each bar adds to the PSI.
func Distributions(d compare.Distributions, path string) error {
	if len(d.Bars) == 0 {
		return record.Invalid{Field: "feature", Given: d.Result.Feature, Allowed: "one with values; neither side has any"}
	}
	title := d.Sentence
	if !strings.HasPrefix(title, d.Result.Feature) {
		title = d.Result.Feature + ": " + title
	}
	p, err := sheet(title, "reference "+between(d.Against.From, d.Against.To, d.Zone)+" (area), "+between(d.From, d.To, d.Zone)+
		" (line); below: where the PSI comes from", path)
	if err != nil {
		return err
	}
	top, most := 0.0, 0.0
	for _, b := range d.Bars {
		top, most = max(top, b.Reference, b.Period), max(most, b.PSI)
	}
	var reference, period plotter.XYs
	reference = append(reference, plotter.XY{X: 0, Y: 0})
	ticks := make([]plot.Tick, 0, len(d.Bars)+1)
	named := d.Bars[0].Label != "" || len(d.Bars) < 12
	for i, b := range d.Bars {
		x := float64(i)
		reference = append(reference, plotter.XY{X: x, Y: b.Reference}, plotter.XY{X: x + 1, Y: b.Reference})
		period = append(period, plotter.XY{X: x, Y: b.Period}, plotter.XY{X: x + 1, Y: b.Period})
		switch {
		case b.Label != "":
			ticks = append(ticks, plot.Tick{Value: x + 0.5, Label: shorten(b.Label, 14)})
		case d.Kind.Numeric() && named:
			ticks = append(ticks, plot.Tick{Value: x + 0.5, Label: fmt.Sprintf("%.4g", b.From)})
		case i%4 == 0:
			ticks = append(ticks, plot.Tick{Value: x, Label: fmt.Sprintf("%.3g", b.From)})
		}
	}
	n := float64(len(d.Bars))
	reference = append(reference, plotter.XY{X: n, Y: 0})
	fill(p, reference, pewter)
	line(p, reference, pewterLine, 0.7, false)
	line(p, period, ink, 1.6, false)
	for i, b := range d.Bars {
		if most > 0 && b.PSI > 0 {
			x, h := float64(i), 0.28*top*b.PSI/most
			c := color.Color(noise)
			if d.Result.State == drift.Over {
				c = vermilion
			}
			fill(p, plotter.XYs{{X: x + 0.1, Y: -0.36 * top}, {X: x + 0.9, Y: -0.36 * top}, {X: x + 0.9, Y: -0.36*top + h},
				{X: x + 0.1, Y: -0.36*top + h}}, c)
		}
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 0, n, -0.38*top, 1.08*top
	p.X.Tick.Marker = plot.ConstantTicks(ticks)
	p.Y.Tick.Marker = shares{top}
	return save(p, path)
}

func shorten(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// between writes the days of a stretch.
func between(from, to time.Time, zone string) string {
	z, err := time.LoadLocation(zone)
	if err != nil {
		z = time.UTC
	}
	return from.In(z).Format("2 Jan") + " to " + to.In(z).Add(-12*time.Hour).Format("2 Jan")
}

// shares labels an axis of shares from zero up.
type shares struct{ top float64 }

func (s shares) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for _, t := range (plot.DefaultTicks{}).Ticks(0, high) {
		if t.Label == "" {
			continue
		}
		if v, err := strconv.ParseFloat(t.Label, 64); err == nil && v >= 0 && v <= 1.06*s.top {
			ticks = append(ticks, plot.Tick{Value: t.Value, Label: words.Percent(v)})
		}
	}
	return ticks
}

// Matrix draws features by period: the fuller a cell, the more of its limit is
// used; over the limit it carries the figure.
func Matrix(m compare.Matrix, path string) error {
	if len(m.Periods) == 0 {
		return record.Invalid{Field: "comparison", Given: m.Name, Allowed: "one with a period that is over: " + m.Sentence}
	}
	p, err := sheet(m.Sentence, "periods of "+m.Dataset+"; pale: under half its limit, grey: near it, red: over, with how many times", path)
	if err != nil {
		return err
	}
	p.Add(&cells{m})
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 0, float64(len(m.Periods)), 0, float64(len(m.Rows)+1)
	z, err := time.LoadLocation(m.Zone)
	if err != nil {
		return err
	}
	var across, down []plot.Tick
	stride := max(1, len(m.Periods)/10)
	for i, one := range m.Periods {
		if i%stride == 0 {
			across = append(across, plot.Tick{Value: float64(i) + 0.5, Label: one.From.In(z).Format("2 Jan")})
		}
	}
	down = append(down, plot.Tick{Value: float64(len(m.Rows)) + 0.5, Label: "separability"})
	for i, r := range m.Rows {
		down = append(down, plot.Tick{Value: float64(len(m.Rows)-i) - 0.5, Label: r.Feature})
	}
	p.X.Tick.Marker, p.Y.Tick.Marker = plot.ConstantTicks(across), plot.ConstantTicks(down)
	return save(p, path)
}

type cells struct{ m compare.Matrix }

var paper = color.RGBA{0xe8, 0xe2, 0xd5, 0xff}

func (c *cells) Plot(canvas draw.Canvas, p *plot.Plot) {
	toX, toY := p.Transforms(&canvas)
	style := text.Style{Font: p.X.Tick.Label.Font, XAlign: text.XCenter, YAlign: text.YCenter, Handler: p.TextHandler}
	style.Font.Size = vg.Points(8)
	put := func(column, row int, state string, ratio float64) {
		x0, x1, y0, y1 := toX(float64(column))+0.7, toX(float64(column+1))-0.7, toY(float64(row))+0.7, toY(float64(row+1))-0.7
		fill, over := color.Color(paper), false
		switch {
		case state != drift.AsExpected && state != drift.Over:
			canvas.StrokeLines(draw.LineStyle{Color: hair, Width: vg.Points(0.6)}, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y1}})
			return
		case ratio > 2:
			fill, over = vermilion, true
			style.Color = color.White
		case ratio > 1:
			fill, over = wash, true
			style.Color = ink
		case ratio > 0.8:
			fill = noise
		case ratio > 0.5:
			fill = pewter
		}
		canvas.FillPolygon(fill, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
		if over && len(c.m.Periods) <= 30 {
			canvas.FillText(style, vg.Point{X: (x0 + x1) / 2, Y: (y0 + y1) / 2}, fmt.Sprintf("%.1f", ratio))
		}
	}
	for i, one := range c.m.Periods {
		if s := one.Separability; s != nil && s.Limit > 0 {
			put(i, len(c.m.Rows), drift.AsExpected, s.Score/s.Limit)
		}
	}
	for row, r := range slices.Backward(c.m.Rows) {
		for i, cell := range r.Cells {
			put(i, len(c.m.Rows)-1-row, cell.State, cell.Ratio)
		}
	}
}
