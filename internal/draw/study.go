package draw

import (
	"fmt"
	"image/color"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"

	"tinbell/core/replay"
	"tinbell/core/robust"
	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/record"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// sheet is an empty plot in the look of all others; it refuses other endings
// than .png and .svg.
func sheet(title, label, path string) (*plot.Plot, error) {
	if ending := strings.ToLower(filepath.Ext(path)); ending != ".png" && ending != ".svg" {
		return nil, record.Invalid{Field: "file", Given: path, Allowed: "a name that ends in .png or .svg"}
	}
	p := plot.New()
	p.BackgroundColor = ground
	for _, style := range []*text.Style{&p.Title.TextStyle, &p.X.Label.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label} {
		style.Font = font.From(sans, style.Font.Size)
	}
	p.Title.Text, p.Title.TextStyle.Color = folded(title, 125), ink
	p.Title.Padding = vg.Points(8)
	p.X.Label.Text, p.X.Label.TextStyle.Color = label, ink3
	p.X.LineStyle.Width = 0
	p.X.Tick.Label.Color, p.Y.Tick.Label.Color = ink3, ink3
	p.X.Color, p.Y.Color = ink3, ground
	p.X.Tick.Color, p.Y.Tick.Color = hair, ground
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Vertical.Color = hair, hair
	p.Add(grid)
	return p, nil
}

// folded breaks a text at blanks into lines of at most so many letters.
func folded(text string, most int) string {
	lines := []string{""}
	for _, word := range strings.Fields(text) {
		line := &lines[len(lines)-1]
		switch {
		case *line == "":
			*line = word
		case utf8.RuneCountInString(*line)+1+utf8.RuneCountInString(word) <= most:
			*line += " " + word
		default:
			lines = append(lines, word)
		}
	}
	return strings.Join(lines, "\n")
}

// unitOf names what a study's values are, and where.
func unitOf(s study.Subject) string {
	unit := s.Unit
	if unit == "" {
		unit = strings.ReplaceAll(s.Measure, "_", " ")
	}
	if s.Series.Segment != "" {
		unit += " at " + s.Series.Segment
	}
	return unit
}

// months puts a tick at the first of each month.
type months struct{ zone *time.Location }

func (m months) Ticks(low, high float64) []plot.Tick {
	at := time.Unix(int64(low), 0).In(m.zone)
	at = time.Date(at.Year(), at.Month()+1, 1, 0, 0, 0, 0, m.zone)
	stride := max(int((high-low)/86400/30/10), 1)
	var ticks []plot.Tick
	for i := 0; seconds(at) <= high; i, at = i+1, at.AddDate(0, 1, 0) {
		if i%stride == 0 {
			ticks = append(ticks, plot.Tick{Value: seconds(at), Label: at.Format("Jan 2006")})
		}
	}
	return ticks
}

// Forecast draws the days so far and those to come with their interval.
func Forecast(f study.Forecast, path string) error {
	zone, err := time.LoadLocation(f.Zone)
	if err != nil {
		return err
	}
	p, err := sheet(f.Sentence, unitOf(f.Subject)+" a "+timeline.Grid{Period: time.Duration(f.PeriodSeconds) * time.Second}.Unit()+"; times in "+f.Zone, path)
	if err != nil {
		return err
	}
	p.X.Tick.Marker = months{zone}
	var past []plotter.XYs
	var run, expected, ribbon plotter.XYs
	top := 1e-9
	for i, at := range f.PastAt {
		if f.Past[i] == nil {
			past, run = append(past, run), nil
			continue
		}
		run = append(run, plotter.XY{X: seconds(at), Y: *f.Past[i]})
		top = math.Max(top, *f.Past[i])
	}
	for i, at := range f.At {
		expected = append(expected, plotter.XY{X: seconds(at), Y: f.Expected[i]})
		ribbon = append(ribbon, plotter.XY{X: seconds(at), Y: f.Low[i]})
		top = math.Max(top, f.High[i])
	}
	for i := len(f.At) - 1; i >= 0; i-- {
		ribbon = append(ribbon, plotter.XY{X: seconds(f.At[i]), Y: f.High[i]})
	}
	fill(p, ribbon, pewter)
	line(p, expected, pewterLine, 1, true)
	for _, part := range append(past, run) {
		line(p, part, ink, 1.2, false)
	}
	ends := []float64{seconds(f.At[0]), seconds(f.At[len(f.At)-1])}
	if len(f.PastAt) > 0 {
		ends[0] = seconds(f.PastAt[0])
	}
	if f.Limit != nil {
		line(p, plotter.XYs{{X: ends[0], Y: *f.Limit}, {X: ends[1], Y: *f.Limit}}, vermilion, 1, true)
		top = math.Max(top, *f.Limit)
	}
	line(p, plotter.XYs{{X: seconds(f.At[0]), Y: 0}, {X: seconds(f.At[0]), Y: top}}, brass, 1.2, false)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = ends[0], ends[1], 0, 1.04*top
	p.Y.Tick.Marker = fromZero{}
	return save(p, path)
}

// Trend draws the days of a series with the slope and the change of level that were
// tested: in ink what describes them better, if chance does not.
func Trend(s study.TrendStudy, path string) error {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return err
	}
	p, err := sheet(s.Sentence, unitOf(s.Subject)+" a day, the mean of anything that is no count; times in "+s.Zone, path)
	if err != nil {
		return err
	}
	p.X.Tick.Marker = months{zone}
	low, top := math.Inf(1), math.Inf(-1)
	var parts []plotter.XYs
	var run plotter.XYs
	var values []float64
	for i, v := range s.Value {
		if v == nil {
			parts, run = append(parts, run), nil
			continue
		}
		run = append(run, plotter.XY{X: seconds(s.At[i]), Y: *v})
		low, top, values = math.Min(low, *v), math.Max(top, *v), append(values, *v)
	}
	low = math.Min(low, 0)
	first, last := seconds(s.At[0]), seconds(s.At[len(s.At)-1])
	band := plotter.XYs{{X: seconds(s.ChangeLow), Y: low}, {X: seconds(s.ChangeTo), Y: low}, {X: seconds(s.ChangeTo), Y: top},
		{X: seconds(s.ChangeLow), Y: top}}
	stepped := s.Better == "step"
	if stepped {
		fill(p, band, pewter)
	}
	for _, part := range append(parts, run) {
		line(p, part, pewterLine, 0.9, false)
	}
	middle := robust.Median(values)
	half := s.Slope * float64(len(s.At)-1) / 2
	shade := map[bool]color.Color{true: ink, false: noise}
	line(p, plotter.XYs{{X: first, Y: middle - half}, {X: last, Y: middle + half}}, shade[!stepped], 1.6, false)
	line(p, plotter.XYs{{X: first, Y: s.Before}, {X: seconds(s.ChangeAt), Y: s.Before}, {X: seconds(s.ChangeAt), Y: s.After},
		{X: last, Y: s.After}}, shade[stepped], 1.6, false)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = first, last, low, top+0.04*(top-low)
	p.Y.Tick.Marker = fromZero{s.Kind}
	return save(p, path)
}

// Smoothing draws, per window, the share of planted spikes that would alarm and of
// planted faults that are found: medians in full colours, means beside them in pewter.
func Smoothing(s study.SmoothingStudy, path string) error {
	p, err := sheet(s.Sentence, "periods; planted spikes of 1, 2, 3 (thin to thick) that alarm, planted faults (dashed) that are found; grey: with a mean", path)
	if err != nil {
		return err
	}
	var lengths []int
	var ticks plot.ConstantTicks
	for _, w := range s.Windows {
		if !slices.Contains(lengths, w.Periods) {
			lengths = append(lengths, w.Periods)
			label := fmt.Sprint(w.Periods)
			if w.Periods == 1 {
				label = "none"
			}
			ticks = append(ticks, plot.Tick{Value: float64(len(lengths)), Label: label})
		}
	}
	at := func(w replay.Smoothing) float64 { return float64(slices.Index(lengths, w.Periods) + 1) }
	for _, of := range []struct {
		by            string
		spike, faults color.Color
	}{{replay.ByMean, pewterLine, pewterLine}, {replay.ByMedian, vermilion, ink}} {
		var dips plotter.XYs
		spikes := [3]plotter.XYs{}
		for _, w := range s.Windows {
			if w.By != of.by && w.Periods > 1 {
				continue
			}
			for k := range spikes {
				spikes[k] = append(spikes[k], plotter.XY{X: at(w), Y: 100 * w.Spikes[k]})
			}
			dips = append(dips, plotter.XY{X: at(w), Y: 100 * w.Dips})
			if of.by == replay.ByMedian {
				note(p, plotter.XY{X: at(w) + 0.04, Y: 100*w.Dips + 3}, "after "+words.Seconds(w.Delay))
			}
			if w.Recommended {
				line(p, plotter.XYs{{X: at(w), Y: 0}, {X: at(w), Y: 116}}, brass, 1.4, false)
				note(p, plotter.XY{X: at(w) + 0.04, Y: 111}, "recommended, "+w.By)
			}
		}
		for k := range spikes {
			line(p, spikes[k], of.spike, 1+0.8*float64(k), false)
		}
		line(p, dips, of.faults, 1.6, true)
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 0.8, float64(len(lengths))+0.7, 0, 118
	p.X.Tick.Marker = ticks
	p.Y.Tick.Marker = plot.ConstantTicks{{Value: 0, Label: "0 %"}, {Value: 50, Label: "50 %"}, {Value: 100, Label: "100 %"}}
	return save(p, path)
}

func note(p *plot.Plot, at plotter.XY, said string) { noteBy(p, at, said, false) }

// noteBy writes beside a point, to its left or right.
func noteBy(p *plot.Plot, at plotter.XY, said string, left bool) {
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{at}, Labels: []string{said}})
	if err != nil {
		return
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Font = font.From(sans, vg.Points(9))
		labels.TextStyle[i].Color = ink3
		if left {
			labels.TextStyle[i].XAlign = text.XRight
		}
	}
	p.Add(labels)
}

// Explanation draws the parts of an expected value as steps that end at it.
func Explanation(x chart.Explanation, path string) error {
	zone, err := time.LoadLocation(x.Zone)
	if err != nil {
		return err
	}
	p, err := sheet(fmt.Sprintf("%s expected at %s", words.Number(x.Expected), x.At.In(zone).Format("Mon 2 Jan 15:04")),
		unitOf(x.Subject), path)
	if err != nil {
		return err
	}
	at, low, high := 0.0, 0.0, 0.0
	var ticks plot.ConstantTicks
	step := func(i int, from, to float64, name string, whole bool) {
		shade := pewterLine
		switch {
		case whole:
			shade = ink
		case to < from:
			shade = noise
		}
		left, right := float64(i)+0.2, float64(i)+0.8
		fill(p, plotter.XYs{{X: left, Y: from}, {X: right, Y: from}, {X: right, Y: to}, {X: left, Y: to}}, shade)
		amount := words.Number(to - from)
		if !whole && to >= from {
			amount = "+" + amount
		}
		note(p, plotter.XY{X: left, Y: max(from, to) + 0.02*max(high, math.Abs(x.Expected))}, amount)
		ticks = append(ticks, plot.Tick{Value: float64(i) + 0.5, Label: name})
		low, high = min(low, from, to), max(high, from, to)
	}
	for i, part := range x.Parts {
		step(i, at, at+part.Amount, part.Name, false)
		at += part.Amount
	}
	step(len(x.Parts), 0, x.Expected, "expected", true)
	p.X.Tick.Marker = ticks
	p.X.Min, p.X.Max = 0, float64(len(x.Parts)+1)
	p.Y.Min, p.Y.Max = low-0.02*(high-low), high+0.12*(high-low)
	return save(p, path)
}
