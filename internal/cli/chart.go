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
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// filling says what --fill does, wherever it stands.
const filling = "what stands where nothing came, marked as filled: none, zero, previous or linear"

// charted asks for a series over a stretch.
func (a *app) charted(c *cobra.Command, series int64, from, to time.Time, fill string) (chart chart.Chart, err error) {
	q := url.Values{"from": {from.Format(time.RFC3339)}, "to": {to.Format(time.RFC3339)}}
	if fill != "" {
		q.Set("fill", fill)
	}
	return chart, a.client().Get(c.Context(), fmt.Sprintf("/series/%d/chart", series), q, &chart)
}

// sketch writes a series as a small chart in text.
func (a *app) sketch(chart chart.Chart) {
	columns := a.width()
	if columns == 0 {
		columns = 100
	}
	a.println(draw.Terminal(chart, columns, a.coloured()))
}

func (a *app) seriesShow() *cobra.Command {
	var s ofSeries
	var since, until, fill string
	c := &cobra.Command{Use: "show METRIC", Short: "Draw a series with its band, and list what lay outside it", Args: exactly(1, "METRIC"),
		Example: "  tinbell series show refunds-rows --since 7d\n  tinbell series show boarding-scans-rows --segment Gullstone --since 3d --fill linear --plot gullstone.png",
		RunE: func(c *cobra.Command, args []string) error {
			now := time.Now()
			from, err := ago(since, now)
			if err != nil {
				return err
			}
			to, err := ago(until, now)
			if err != nil {
				return err
			}
			if to.IsZero() {
				to = now
			}
			var chart chart.Chart
			q := url.Values{"from": {from.Format(time.RFC3339)}, "to": {to.Format(time.RFC3339)}, "fill": {fill}}
			if err := s.ask(a, c, args[0], "chart", q, &chart); err != nil {
				return err
			}
			if s.file != "" {
				return a.drawn(s.file, draw.Chart(chart, args[0], s.file))
			}
			if a.output == "json" {
				return a.json(chart)
			}
			if a.output == "table" {
				a.sketch(chart)
				a.say("")
			}
			l := outside(a, chart)
			if l.title != "" {
				a.say("%s", l.title)
			}
			return a.show(l)
		}}
	s.bind(c, "draw it")
	c.Flags().StringVar(&since, "since", "7d", "start: a time, or how long ago")
	c.Flags().StringVar(&until, "until", "", "end: a time, or how long ago; now if left out")
	c.Flags().StringVar(&fill, "fill", "", filling)
	return c
}

// value is a period of a series as it is listed.
type value struct {
	At        time.Time `json:"at"`
	Observed  *float64  `json:"value"`
	Expected  *float64  `json:"expected"`
	Low       *float64  `json:"low"`
	High      *float64  `json:"high"`
	Deviation *float64  `json:"deviation"`
	Filled    bool      `json:"filled"`
}

// outside lists the periods that lay outside the band; as data all of them.
func outside(a *app, c chart.Chart) listing {
	var all []value
	l := listing{head: []string{"period", "came", "expected", "band", "half-widths"}, right: []int{2, 3, 4, 5}, raw: &all,
		none: "Nothing lay outside the band."}
	for i, at := range c.At {
		v := value{at, c.Observed[i], c.Expected[i], c.Low[i], c.High[i], c.Deviation[i], c.Filled != nil && c.Filled[i]}
		if v.Observed == nil && v.Expected != nil && at.After(time.Now()) {
			continue // not yet due
		}
		all = append(all, v)
		if v.Deviation != nil && (*v.Deviation > 1 || *v.Deviation < -1) {
			l.rows = append(l.rows, []string{a.dated(at, c.Zone, c.PeriodSeconds), amount(v.Observed), amount(v.Expected), between(v.Low, v.High),
				fmt.Sprintf("%+.1f", *v.Deviation)})
		}
	}
	const most = 20
	if len(l.rows) > most {
		l.none = ""
		l.title = fmt.Sprintf("The last %d of %d periods outside the band:", most, len(l.rows))
		l.rows = l.rows[len(l.rows)-most:]
	}
	return l
}

func (a *app) datasetShow() *cobra.Command {
	var since, fill string
	c := &cobra.Command{Use: "show NAME", Short: "Show a dataset: how it stands, its rows as charts, its metrics and monitors",
		Args: exactly(1, "NAME"), Example: "  tinbell dataset show ops.refunds --since 7d",
		RunE: func(c *cobra.Command, args []string) error {
			var p health.Page
			if err := a.client().Get(c.Context(), "/datasets/"+url.PathEscape(args[0]), nil, &p); err != nil {
				return err
			}
			if a.output == "csv" {
				_, err := a.data(p.Health)
				return err
			}
			if done, err := a.data(p); done {
				return err
			}
			from, err := ago(since, time.Now())
			if err != nil {
				return err
			}
			a.standing(p)
			drawn := 0
			for _, m := range p.Metrics {
				if m.Measure != record.MeasureRows {
					continue
				}
				for _, s := range m.Series[:min(len(m.Series), 4)] {
					chart, err := a.charted(c, s.ID, from, time.Now(), fill)
					if err != nil {
						return err
					}
					a.printf("\n")
					a.sketch(chart)
					drawn++
				}
				if more := len(m.Series) - 4; more > 0 {
					a.say("\nand %s more: tinbell series show %s --segment …", words.Plural(more, "segment"), m.Name)
				}
			}
			if drawn > 0 {
				a.printf("\n")
			}
			l := listing{head: []string{"metric", "measure", "every", "segments", "monitor"}, right: []int{4}, raw: p.Metrics,
				none: "Nothing is measured of it yet."}
			for _, m := range p.Metrics {
				if m.Comparison != "" {
					continue
				}
				var monitors []string
				for _, v := range p.Monitors {
					if v.MetricID == m.ID || v.Metric == m.Name {
						monitors = append(monitors, v.Name)
					}
				}
				l.rows = append(l.rows, []string{m.Name, strings.TrimSpace(m.Measure + " " + m.Column),
					words.Period(time.Duration(m.PeriodSeconds) * time.Second), strconv.Itoa(len(m.Series)), orNone(strings.Join(monitors, ", "))})
			}
			return a.show(l)
		}}
	c.Flags().StringVar(&since, "since", "3d", "start of the charts: a time, or how long ago")
	c.Flags().StringVar(&fill, "fill", "", filling)
	return c
}

// standing says how a dataset stands.
func (a *app) standing(p health.Page) {
	h, d := p.Health, p.Dataset
	facts := [][2]string{{"dataset", d.Name + ", of " + d.Source}, {"owner", orNone(d.Owner)},
		{"tags", orNone(strings.Join(d.Tags, ", "))}, {"state", strings.TrimSuffix(h.State+": "+h.Message, ": ")},
		{"newest", a.optional(h.Newest, d.Zone, "nothing yet")},
		{"rows", fmt.Sprintf("%s in 24 hours, %s expected", amount(h.Rows24h), amount(h.Expected24))},
		{"alerts", words.Plural(h.Open, "open alert")}}
	if h.Load != nil {
		facts = append(facts, [2]string{"next load", "by " + a.local(h.Load.Deadline, d.Zone)})
	}
	for _, f := range facts {
		a.printf("  %-10s %s\n", f[0], f[1])
	}
}

// seriesLink makes a standing address of a series' chart.
func (a *app) seriesLink() *cobra.Command {
	var s ofSeries
	var span, svg = "7d", false
	var in httpapi.NewChartLink
	c := &cobra.Command{Use: "link METRIC",
		Short: "Make an address of a series' chart that another page can show, without signing in", Args: exactly(1, "METRIC"),
		Long: `The address shows the chart as it is whenever it is looked at, to whoever has it, and
nothing else; it is signed and works until its end. The audit trail keeps who made it.`,
		Example: "  tinbell series link refunds-rows --span 7d --days 90\n  tinbell series link boarding-scans-rows --segment Gullstone --svg",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if in.SpanSeconds, err = seconds(span); err != nil {
				return err
			}
			id, err := s.find(a, c, args[0])
			if err != nil {
				return err
			}
			var v httpapi.ChartLinked
			if err := a.client().Send(c.Context(), "POST", fmt.Sprintf("/series/%d/link", id), in, &v); err != nil {
				return err
			}
			if done, err := a.data(v); done {
				return err
			}
			a.println(map[bool]string{false: v.PNG, true: v.SVG}[svg])
			a.say("It works until %s.", a.local(v.Until, "UTC"))
			return nil
		}}
	f := c.Flags()
	f.StringVar(&s.segment, "segment", "", "which segment, where the metric is split")
	f.StringVar(&span, "span", span, "how far back it shows, from whenever it is looked at")
	f.StringVar((*string)(&in.Fill), "fill", "", filling)
	f.IntVar(&in.Days, "days", 30, "how many days the address works, up to 400")
	f.BoolVar(&svg, "svg", false, "as SVG")
	return c
}
