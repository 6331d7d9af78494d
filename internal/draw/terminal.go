package draw

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"

	"tinbell/internal/chart"
	"tinbell/internal/words"
)

// Terminal draws a series with its band in so many columns of text: the band's edges
// dotted, what came as a line. Colour, where it is wanted, is that of a terminal.
func Terminal(c chart.Chart, columns int, colour bool) string {
	const margin, height = 14, 9
	wide := min(max(columns-margin, 24), 120)
	picked := columnsOf(c, wide)
	if len(picked) < 2 {
		return "nothing to draw: no sample in this stretch"
	}
	zone, err := time.LoadLocation(c.Zone)
	if err != nil {
		zone = time.UTC
	}
	number := func(list []*float64, i int) float64 {
		if list[i] == nil {
			return math.NaN()
		}
		return *list[i]
	}
	var low, high, observed []float64
	band := false
	for _, i := range picked {
		low, high, observed = append(low, number(c.Low, i)), append(high, number(c.High, i)), append(observed, number(c.Observed, i))
		band = band || c.Low[i] != nil
	}
	format := words.Number
	switch c.Kind {
	case "share":
		format = words.Percent
	case "duration":
		format = words.Seconds
	}
	form := "2 Jan 15:04"
	if c.At[picked[len(picked)-1]].Sub(c.At[picked[0]]) > 200*24*time.Hour {
		form = "2 Jan 2006"
	}
	dots := asciigraph.CreateCharSet("·")
	lines, chars, colours, legends := [][]float64{observed}, []asciigraph.CharSet{asciigraph.DefaultCharSet},
		[]asciigraph.AnsiColor{asciigraph.Default}, []string{"came"}
	if band {
		lines, chars = [][]float64{high, low, observed}, []asciigraph.CharSet{dots, dots, asciigraph.DefaultCharSet}
		colours, legends = []asciigraph.AnsiColor{asciigraph.LightSlateGray, asciigraph.LightSlateGray, asciigraph.Default}, nil
	}
	options := []asciigraph.Option{asciigraph.Height(height), asciigraph.SeriesChars(chars...), asciigraph.YAxisValueFormatter(format),
		asciigraph.XAxisRange(float64(c.At[picked[0]].Unix()), float64(c.At[picked[len(picked)-1]].Unix())),
		asciigraph.XAxisTickCount(max(wide/18, 2)),
		asciigraph.XAxisValueFormatter(func(at float64) string { return time.Unix(int64(at), 0).In(zone).Format(form) })}
	if colour {
		options = append(options, asciigraph.SeriesColors(colours...))
	}
	if legends != nil && colour {
		options = append(options, asciigraph.SeriesLegends(legends...))
	}
	what := strings.TrimSpace(fmt.Sprintf("%s %s", or(c.Unit, c.Measure), strings.TrimSpace(c.Series.Segment)))
	said := what + ", by the clocks of " + zone.String()
	if band {
		said += "; dotted: its band"
	}
	return said + "\n" + asciigraph.PlotMany(lines, options...)
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// columnsOf picks, for each column of a terminal, the period that lies furthest from what
// was expected: what is odd must not vanish between two columns.
func columnsOf(c chart.Chart, most int) []int {
	n := len(c.At)
	for n > 0 && c.Observed[n-1] == nil { // the expectation goes on, the line does not
		n--
	}
	if n <= most {
		most = n
	}
	picked := make([]int, 0, most)
	for k := range most {
		best := -1
		for i := k * n / most; i < (k+1)*n/most; i++ {
			if best < 0 || c.Observed[i] != nil && (c.Observed[best] == nil || far(c, i) > far(c, best)) {
				best = i
			}
		}
		picked = append(picked, best)
	}
	return picked
}

func far(c chart.Chart, i int) float64 {
	if c.Deviation[i] == nil {
		return 0
	}
	return math.Abs(*c.Deviation[i])
}
