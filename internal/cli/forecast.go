package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"tinbell/core/timeline"
	"tinbell/internal/draw"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// foretold are the options of a forecast.
type foretold struct {
	days                  int
	coverage, probability float64
	limit                 string
}

func (t *foretold) bind(c *cobra.Command) {
	c.Flags().IntVar(&t.days, "days", 30, "how many days ahead")
	c.Flags().Float64Var(&t.coverage, "coverage", 0.9, "of the interval")
	c.Flags().StringVar(&t.limit, "limit", "", "a value whose crossing is asked about")
	c.Flags().Float64Var(&t.probability, "probability", 0.8, "with which the limit is to be reached")
}

func (t *foretold) query() url.Values {
	number := func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }
	q := url.Values{"days": {strconv.Itoa(t.days)}, "coverage": {number(t.coverage)}, "probability": {number(t.probability)}}
	if t.limit != "" {
		q.Set("limit", t.limit)
	}
	return q
}

func (a *app) forecastCommand() *cobra.Command {
	export := a.export("export METRIC", "Write the days that a forecast was made from and those to come, with intervals, totals and chances", "/forecasts/export?metric=%s",
		"  tinbell forecast export boarding-scans-rows --whole true --days 90 --file outlook.parquet", 1,
		func(c *cobra.Command, x *exporting) {
			x.text(c, "segment", "of one segment alone")
			x.text(c, "whole", "true: all segments together")
			x.text(c, "days", "how many days ahead; 30 if left out")
			x.text(c, "limit", "a value whose crossing is asked about")
		})
	return group("forecast", "What series do in days to come: growth, totals, and when a limit is reached", a.forecastShow(), export)
}

func (a *app) forecastShow() *cobra.Command {
	var t foretold
	var segment, file string
	var whole bool
	c := &cobra.Command{Use: "show METRIC...", Short: "Forecast series one by one, or all segments of a count together",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return wrongUsage{fmt.Errorf("forecast show needs at least one METRIC")}
			}
			return nil
		},
		Long: `The level or a trend, damped or not, whichever did best on the series' own past, with
the week's shape; the interval comes from the forecasts that would have been made before.
Of several series a line each; of one its days. --whole takes all segments of a count
together. A limit is reached when the typical day has passed it with the probability.`,
		Example: "  tinbell forecast show boarding-scans-rows --whole --days 90 --limit 6000 --probability 0.8\n  tinbell forecast show ticket-sales-rows refunds-rows --days 60\n  tinbell forecast show refunds-rows --days 90 --plot growth.png",
		RunE: func(c *cobra.Command, args []string) error {
			q := t.query()
			q["metric"] = args
			if segment != "" {
				q.Set("segment", segment)
			}
			if whole {
				q.Set("whole", "true")
			}
			var list []study.Forecast
			if err := a.client().Get(c.Context(), "/forecasts", q, &list); err != nil {
				return err
			}
			if len(list) == 1 {
				return a.showForecast(list[0], t.days, file)
			}
			if file != "" {
				return wrongUsage{fmt.Errorf("--plot draws one series: name a --segment, or take all segments together by --whole")}
			}
			return a.showForecasts(list)
		}}
	t.bind(c)
	c.Flags().StringVar(&segment, "segment", "", "of one segment alone")
	c.Flags().BoolVar(&whole, "whole", false, "all segments of each metric together: counts alone")
	c.Flags().StringVar(&file, "plot", "", "draw the days so far and to come to FILE.png or FILE.svg")
	return c
}

func (a *app) seriesForecast() *cobra.Command {
	var s ofSeries
	var t foretold
	c := &cobra.Command{Use: "forecast METRIC",
		Short: "Say what a series does in days to come, with intervals, and when it passes a limit", Args: exactly(1, "METRIC"),
		Example: "  tinbell series forecast ticket-sales-rows --segment web --days 90 --limit 5000 --plot growth.png",
		RunE: func(c *cobra.Command, args []string) error {
			var x study.Forecast
			if err := s.ask(a, c, args[0], "forecast", t.query(), &x); err != nil {
				return err
			}
			return a.showForecast(x, t.days, s.file)
		}}
	s.bind(c, "draw the days so far and to come")
	t.bind(c)
	return c
}

// showForecast prints the days to come of one series.
func (a *app) showForecast(x study.Forecast, days int, file string) error {
	if file != "" {
		return a.drawn(file, draw.Forecast(x, file))
	}
	var all []study.ForecastDay
	if err := x.EachDay(func(d study.ForecastDay) error { all = append(all, d); return nil }); err != nil {
		return err
	}
	l := listing{head: []string{"day", "expected", "low", "high", "together", "reached the limit"}, right: []int{2, 3, 4, 5, 6},
		raw: x, data: &all}
	stride := 1
	if a.output == "table" {
		stride = max(1, days/15)
	}
	for i := range x.At {
		if (len(x.At)-1-i)%stride != 0 {
			continue
		}
		passed, together := "–", "–"
		if i < len(x.Chance) {
			passed = words.Odds(x.Chance[i])
		}
		if i < len(x.Total) {
			together = words.Number(x.Total[i])
		}
		l.rows = append(l.rows, []string{x.At[i].In(zoneOf(x.Zone)).Format("Mon 2 Jan 2006"), measured(x.Expected[i], x.Kind),
			measured(x.Low[i], x.Kind), measured(x.High[i], x.Kind), together, passed})
	}
	if err := a.show(l); err != nil {
		return err
	}
	a.say("\n%s", x.Sentence)
	a.say("%s. Interval: %s.", howForetold(x), words.Percent(x.Coverage))
	return nil
}

// howForetold says by which model, and how far off it was before.
func howForetold(x study.Forecast) string {
	how := fmt.Sprintf("Model: %s, from %d days", x.Model, x.Days)
	if x.Error == nil {
		return how
	}
	off := measured(*x.Error, x.Kind)
	if x.Kind == timeline.Count || x.Kind == timeline.Duration {
		off = words.Percent(*x.Error)
	}
	return how + fmt.Sprintf("; %d days ahead it was off by %s on average", x.Horizon, off)
}

// showForecasts prints a line for each of several series.
func (a *app) showForecasts(list []study.Forecast) error {
	l := listing{head: []string{"series", "expected", "low", "high", "growth", "together", "reaches the limit", "off before"},
		right: []int{2, 3, 4, 5, 6, 8}, raw: list, none: "No series is old enough to be forecast."}
	for _, x := range list {
		last := len(x.At) - 1
		name := x.Metric
		if x.Series.Segment != "" {
			name += " at " + x.Series.Segment
		}
		growth, together, reaches, off := "–", "–", "–", "–"
		if x.Growth != nil {
			growth = changed(x.Growth, timeline.Count)
		}
		if len(x.Total) > 0 {
			together = words.Number(x.Total[last])
		}
		switch {
		case x.ReachesAt != nil:
			reaches = x.ReachesAt.In(zoneOf(x.Zone)).Format("2 Jan 2006")
		case x.Limit != nil:
			reaches = "not by then (" + words.Odds(x.Chance[last]) + ")"
		}
		if x.Error != nil {
			if off = measured(*x.Error, x.Kind); x.Kind == timeline.Count || x.Kind == timeline.Duration {
				off = words.Percent(*x.Error)
			}
		}
		l.rows = append(l.rows, []string{name, measured(x.Expected[last], x.Kind), measured(x.Low[last], x.Kind),
			measured(x.High[last], x.Kind), growth, together, reaches, off})
	}
	if len(list) > 0 {
		x := list[0]
		a.say("On %s, %s ahead, a day; interval %s.\n", x.At[len(x.At)-1].In(zoneOf(x.Zone)).Format("2 January 2006"),
			words.Plural(len(x.At), "day"), words.Percent(x.Coverage))
	}
	return a.show(l)
}
