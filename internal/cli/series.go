package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/chart"
	"tinbell/internal/draw"
	"tinbell/internal/record"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// seriesCommand holds what can be asked of one series: METRIC and, where the
// metric is split, --segment.
func (a *app) seriesCommand() *cobra.Command {
	list := &cobra.Command{Use: "list METRIC", Short: "List the series of a metric", Args: exactly(1, "METRIC"),
		RunE: func(c *cobra.Command, args []string) error {
			series, err := a.seriesOf(c, args[0])
			if err != nil {
				return err
			}
			l := listing{head: []string{"id", "segment"}, right: []int{1}, raw: series, none: "No series yet: nothing was measured."}
			for _, s := range series {
				l.rows = append(l.rows, []string{strconv.FormatInt(s.ID, 10), orNone(s.Segment)})
			}
			return a.show(l)
		}}
	return group("series", "Study one series: what it is like, suitability, explanation, smoothing, forecast, trend, earlier years", list,
		a.seriesShow(), a.seriesExport(), a.seriesLike(), a.seriesSuits(), a.seriesExplain(), a.seriesSmooth(), a.seriesForecast(),
		a.seriesTrends(), a.seriesEarlier(), a.seriesLink())
}

func (a *app) seriesOf(c *cobra.Command, metric string) ([]record.Series, error) {
	var series []record.Series
	return series, a.client().Get(c.Context(), "/metrics/"+url.PathEscape(metric)+"/series", nil, &series)
}

// ofSeries is a command about one series: it finds the series and asks for it.
type ofSeries struct {
	segment, file string
}

func (s *ofSeries) bind(c *cobra.Command, picture string) {
	c.Flags().StringVar(&s.segment, "segment", "", "which segment, where the metric is split")
	c.Flags().StringVar(&s.file, "plot", "", picture+" to FILE.png or FILE.svg")
}

func (s *ofSeries) ask(a *app, c *cobra.Command, metric, what string, q url.Values, into any) error {
	id, err := s.find(a, c, metric)
	if err != nil {
		return err
	}
	return a.client().Get(c.Context(), fmt.Sprintf("/series/%d/%s", id, what), q, into)
}

// find gives the series of a metric that is meant.
func (s *ofSeries) find(a *app, c *cobra.Command, metric string) (int64, error) {
	series, err := a.seriesOf(c, metric)
	if err != nil {
		return 0, err
	}
	var names []string
	for _, x := range series {
		if x.Segment == s.segment || s.segment == "" && len(series) == 1 {
			return x.ID, nil
		}
		names = append(names, x.Segment)
	}
	if len(names) == 0 {
		return 0, fmt.Errorf("metric %s has no series yet: nothing was measured", metric)
	}
	return 0, wrongUsage{fmt.Errorf("--segment %q: metric %s is split into %s", s.segment, metric, strings.Join(names, ", "))}
}

func (a *app) drawn(file string, err error) error {
	if err == nil {
		a.say("Drawn to %s", file)
	}
	return err
}

func (a *app) seriesLike() *cobra.Command {
	var s ofSeries
	c := &cobra.Command{Use: "like METRIC",
		Short: "Say what a series is like: when anything comes, its rhythms, its noise", Args: exactly(1, "METRIC"),
		Example: "  tinbell series like ticket-sales-rows --segment telephone",
		RunE: func(c *cobra.Command, args []string) error {
			var x study.CharacterStudy
			if err := s.ask(a, c, args[0], "character", nil, &x); err != nil {
				return err
			}
			if done, err := a.data(x); done {
				return err
			}
			for _, sentence := range x.Sentences {
				a.printf("%s\n", sentence)
			}
			a.say("Read off its last %d days, without planned stretches and known faults.", x.Days)
			return nil
		}}
	c.Flags().StringVar(&s.segment, "segment", "", "which segment, where the metric is split")
	return c
}

func (a *app) seriesSuits() *cobra.Command {
	var s ofSeries
	c := &cobra.Command{Use: "suits METRIC",
		Short: "Say whether a series is predictable enough for a band, why, and what to use instead", Args: exactly(1, "METRIC"),
		Example: "  tinbell series suits refunds-rows\n  tinbell series suits boarding-scans-rows --segment Gullstone --plot band.png",
		RunE: func(c *cobra.Command, args []string) error {
			var x study.SuitabilityStudy
			if err := s.ask(a, c, args[0], "suitability", nil, &x); err != nil {
				return err
			}
			l := listing{head: []string{"", ""}, raw: x}
			add := func(name, value string) { l.rows = append(l.rows, []string{name, value}) }
			add("a band", map[string]string{"suits": "suits it", "weak": "is weak here",
				"unsuitable": "does not suit it"}[string(x.Fitness)])
			for _, reason := range x.Reasons {
				add("because", reason)
			}
			if x.Instead != "" {
				add("instead", x.Instead)
			}
			add("shape", x.Shape)
			add("history", fmt.Sprintf("%.0f days; %.0f needed, from %.0f on thresholds are its own", x.HaveDays, x.NeedDays, x.BestDays))
			if x.Explained != nil {
				add("foretold", words.Percent(*x.Explained)+" of its ordinary variation")
			}
			if x.HalfWidth != nil {
				add("half-width", words.Percent(*x.HalfWidth)+" of what is expected, median")
			}
			add("missing, zero, repeated", words.Percent(x.Missing)+", "+words.Percent(x.Zeros)+", "+words.Percent(x.Repeats)+
				" of its periods")
			if err := a.show(l); err != nil || s.file == "" {
				return err
			}
			return a.drawSuited(c, x, s.file)
		}}
	s.bind(c, "draw its last weeks with the band")
	return c
}

// drawSuited draws the last of a series with its band, the verdict above.
func (a *app) drawSuited(c *cobra.Command, x study.SuitabilityStudy, file string) error {
	now := time.Now()
	span := 14 * 24 * time.Hour
	if x.PeriodSeconds >= 86400 {
		span = 91 * 24 * time.Hour
	}
	var chart chart.Chart
	q := url.Values{"from": {now.Add(-span).Format(time.RFC3339)}, "to": {now.Format(time.RFC3339)}}
	if err := a.client().Get(c.Context(), fmt.Sprintf("/series/%d/chart", x.Series.ID), q, &chart); err != nil {
		return err
	}
	title := "A band " + map[string]string{"suits": "suits this series", "weak": "is weak here",
		"unsuitable": "does not suit this series"}[string(x.Fitness)]
	if len(x.Reasons) > 0 {
		title += ": " + x.Reasons[0]
	}
	return a.drawn(file, draw.Chart(chart, title, file))
}

func (a *app) seriesExplain() *cobra.Command {
	var s ofSeries
	var at string
	c := &cobra.Command{Use: "explain METRIC", Short: "Split an expected value into level, hour, weekday and calendar",
		Args:    exactly(1, "METRIC"),
		Example: "  tinbell series explain boarding-scans-rows --segment Gullstone --at 3h --plot parts.png",
		RunE: func(c *cobra.Command, args []string) error {
			when, err := ago(at, time.Now())
			if err != nil {
				return err
			}
			var x chart.Explanation
			if err := s.ask(a, c, args[0], "explain", url.Values{"at": {when.Format(time.RFC3339)}}, &x); err != nil {
				return err
			}
			l := listing{head: []string{"part", "adds"}, right: []int{2}, raw: x}
			for _, p := range x.Parts {
				l.rows = append(l.rows, []string{p.Name, fmt.Sprintf("%+.4g", p.Amount)})
			}
			l.rows = append(l.rows, []string{"expected at " + a.dated(x.At, x.Zone, x.PeriodSeconds), fmt.Sprintf("%.4g", x.Expected)})
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\nLearned from %s to %s, %s left out.", a.dated(x.TrainedFrom, x.Zone, x.PeriodSeconds), a.dated(x.TrainedTo, x.Zone, x.PeriodSeconds),
				words.Plural(len(x.Excluded), "stretch"))
			for _, e := range x.Excluded {
				a.say("  %s to %s  %s", a.local(e.From, x.Zone), a.local(e.To, x.Zone), e.Why)
			}
			if s.file == "" {
				return nil
			}
			return a.drawn(s.file, draw.Explanation(x, s.file))
		}}
	s.bind(c, "draw the parts")
	c.Flags().StringVar(&at, "at", "1h", "a time, or how long ago")
	return c
}

func (a *app) seriesSmooth() *cobra.Command {
	var s ofSeries
	var since, fill string
	c := &cobra.Command{Use: "smooth METRIC",
		Short: "Compare moving medians and means: which past false alarms vanish, and what each costs in delay", Args: exactly(1, "METRIC"),
		Long: `Replays the past of a series under moving medians and means of several lengths, up
to a day. Spikes and
faults are planted at ten places: a good window lets no spike alarm, finds every
fault, and costs little delay. Past alerts that match no incident count as false.`,
		Example: "  tinbell series smooth boarding-scans-rows --segment Gullstone --since 42d",
		RunE: func(c *cobra.Command, args []string) error {
			back, err := seconds(since)
			if err != nil {
				return err
			}
			var x study.SmoothingStudy
			if err := s.ask(a, c, args[0], "smoothing", url.Values{"since_seconds": {strconv.FormatInt(back, 10)},
				"fill": {fill}}, &x); err != nil {
				return err
			}
			l := listing{head: []string{"window", "spikes of 1, 2, 3 that alarm", "faults found", "delay", "false alarms gone",
				"known faults told", ""}, right: []int{3, 4, 5, 6}, raw: x, data: &x.Windows}
			for _, w := range x.Windows {
				name, mark := fmt.Sprintf("%s of %d", w.By, w.Periods), ""
				if w.Periods == 1 {
					name = "none"
				}
				if w.Recommended {
					mark = "recommended"
				}
				l.rows = append(l.rows, []string{name, fmt.Sprintf("%s, %s, %s", words.Percent(w.Spikes[0]),
					words.Percent(w.Spikes[1]), words.Percent(w.Spikes[2])),
					words.Percent(w.Dips), words.Seconds(w.Delay), fmt.Sprintf("%d of %d", w.FalseGone, w.FalseBefore),
					fmt.Sprintf("%d of %d", w.FaultsFound, w.Faults), mark})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s", x.Sentence)
			if s.file == "" {
				return nil
			}
			return a.drawn(s.file, draw.Smoothing(x, s.file))
		}}
	s.bind(c, "draw the comparison")
	c.Flags().StringVar(&since, "since", "42d", "how far back")
	c.Flags().StringVar(&fill, "fill", "", "what stands where nothing came: none, zero, previous or linear")
	return c
}

func (a *app) seriesTrends() *cobra.Command {
	var s ofSeries
	var since string
	var draws int
	c := &cobra.Command{Use: "trends METRIC",
		Short: "Test whether a series grows and whether its level changed, and say what follows and what does not",
		Args:  exactly(1, "METRIC"),
		Long: `Tests the local days of a series, known faults and planned stretches left out and
the week's shape taken out. A trend by least squares, Mann-Kendall and Spearman, with
Theil and Sen's slope; a change of level by Pettitt, CUSUM and sup-F, with its day.
Each has an analytic p and one by a bootstrap, both with what a day owes to the day
before allowed for. Ranks decide the sentence, so that no odd day does.`,
		Example: "  tinbell series trends refunds-rows\n  tinbell series trends boarding-scans-rows --segment Gullstone --since 180d --plot trend.png",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"draws": {strconv.Itoa(draws)}}
			if since != "" {
				back, err := seconds(since)
				if err != nil {
					return err
				}
				q.Set("since_seconds", strconv.FormatInt(back, 10))
			}
			var x study.TrendStudy
			if err := s.ask(a, c, args[0], "trends", q, &x); err != nil {
				return err
			}
			if s.file != "" {
				return a.drawn(s.file, draw.Trend(x, s.file))
			}
			l := listing{head: []string{"test", "of", "statistic", "p", "p by bootstrap"}, right: []int{3, 4, 5}, raw: x, data: &x.Tests}
			for _, t := range x.Tests {
				l.rows = append(l.rows, []string{t.Name, t.Of, fmt.Sprintf("%.4g", t.Statistic), fmt.Sprintf("%.3f", t.P),
					fmt.Sprintf("%.3f", t.Chance())})
			}
			a.say("%s\n%s\n", x.Sentence, x.Caution)
			return a.show(l)
		}}
	s.bind(c, "draw the days with what was found")
	c.Flags().StringVar(&since, "since", "", "how far back; all its history if left out")
	c.Flags().IntVar(&draws, "draws", 999, "series drawn by the bootstrap, 99 to 9999")
	return c
}

func zoneOf(name string) *time.Location {
	if z, err := time.LoadLocation(name); err == nil {
		return z
	}
	return time.UTC
}

func (a *app) seriesExport() *cobra.Command {
	return a.export("export METRIC", "Write a metric's values by segment and period, with the band, its verdicts and what was masked", "/metrics/%s/export",
		"  tinbell series export boarding-scans-rows --from 90d --file scans.parquet\n  tinbell series export refunds-rows --fill linear", 1, func(c *cobra.Command, x *exporting) {
			spanned(c, x)
			x.text(c, "segment", "of one segment alone")
			x.text(c, "fill", "what stands where nothing came, marked as filled: none, zero, previous or linear")
		})
}
