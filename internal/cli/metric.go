package cli

import (
	"errors"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) metricCommand() *cobra.Command {
	var drift bool
	list := &cobra.Command{Use: "list", Short: "List metrics", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		query := url.Values{}
		if drift {
			query.Set("drift", "true")
		}
		var metrics []record.Metric
		if err := a.client().Get(c.Context(), "/metrics", query, &metrics); err != nil {
			return err
		}
		l := listing{head: []string{"metric", "dataset", "measure", "segmented by", "every", "collected to", "state"}, raw: metrics,
			none: "No metric yet. Add one: tinbell metric add schema.table NAME --measure rows --time-column created_at"}
		for _, m := range metrics {
			state := m.State
			if m.Message != "" {
				state += ": " + m.Message
			}
			l.rows = append(l.rows, []string{m.Name, m.Dataset, strings.TrimSpace(m.Measure + " " + m.Column),
				orNone(strings.Join(m.SegmentBy, ", ")),
				words.Period(time.Duration(m.PeriodSeconds) * time.Second), a.optional(m.CollectedTo, m.Zone, "pushed"), state})
		}
		return a.show(l)
	}}
	list.Flags().BoolVar(&drift, "drift", false, "with the figures of drift comparisons")
	sql := &cobra.Command{Use: "sql NAME", Short: "Show what a probe asks the warehouse", Args: exactly(1, "NAME"),
		Example: "  tinbell metric sql boarding-scans-rows",
		RunE: func(c *cobra.Command, args []string) error {
			var q httpapi.MetricSQL
			if err := a.client().Get(c.Context(), "/metrics/"+url.PathEscape(args[0])+"/sql", nil, &q); err != nil {
				return err
			}
			if done, err := a.data(q); done {
				return err
			}
			a.println(q.SQL)
			return nil
		}}
	return group("metric", "What is measured", list, a.metricAdd(), a.metricSet(), sql, a.backfillCommand(), a.metricDeclare(),
		a.removal("metric", "/metrics/", "with its samples, monitors and alerts"))
}

func (a *app) metricAdd() *cobra.Command {
	var in httpapi.NewMetric
	var period, every, lookback, settle, kind string
	var try bool
	add := &cobra.Command{Use: "add DATASET NAME", Short: "Measure a table from now on; the probe is tried first",
		Args:    exactly(2, "DATASET NAME"),
		Example: "  tinbell metric add ops.boarding_scans gate-nulls --measure null_share --column gate --time-column scanned_at --segment-by port",
		RunE: func(c *cobra.Command, args []string) error {
			in.Dataset, in.Name = args[0], args[1]
			for text, into := range map[*string]*int64{&period: &in.PeriodSeconds, &every: &in.EverySeconds,
				&lookback: &in.LookbackSeconds, &settle: &in.SettleSeconds} {
				n, err := seconds(*text)
				if err != nil {
					return err
				}
				*into = n
			}
			if in.Kind = timeline.Kind(kind); in.Cron != "" {
				in.EverySeconds = 0
			}
			if try {
				var tried collect.Tried
				if err := a.client().Send(c.Context(), "POST", "/metrics/try", in, &tried); err != nil {
					return err
				}
				if done, err := a.data(tried); done {
					return err
				}
				a.println(tried.SQL)
				if tried.Message != "" {
					a.say("%s", tried.Message)
				}
				return nil
			}
			var m record.Metric
			if err := a.client().Send(c.Context(), "POST", "/metrics", in, &m); err != nil {
				return err
			}
			a.say("Metric %s added. Next: tinbell metric backfill %s --since 16w", m.Name, m.Name)
			return nil
		}}
	f := add.Flags()
	var measures []string
	for _, m := range record.Measures {
		measures = append(measures, m.Name)
	}
	f.StringVar(&in.Measure, "measure", "rows", strings.Join(measures, ", "))
	f.StringVar(&in.Column, "column", "", "column that the measure is taken of")
	f.Float64Var(&in.Quantile, "quantile", 0, "of --measure quantile, 0 to 1; 0.5 if left out")
	f.StringVar(&in.Matches, "matches", "", "of --measure value_share: the value whose share is taken")
	f.StringVar(&in.Expression, "expression", "", "of --measure expression: an SQL aggregate")
	f.StringVar(&kind, "kind", "", "of --measure expression: count, share, value or duration")
	f.StringVar(&in.Cron, "cron", "", "when it is collected: five fields, in the dataset's zone, instead of --every")
	f.IntVar(&in.MaxSegments, "max-segments", 0, "how many segments are measured one by one, the others together (default 500)")
	f.BoolVar(&try, "try", false, "try it, show the SQL and keep nothing")
	f.StringVar(&in.TimeColumn, "time-column", "", "each row's event time; without it the table is measured as it stands")
	f.StringSliceVar(&in.SegmentBy, "segment-by", nil, "dimension columns")
	f.StringVar(&in.RowFilter, "where", "", "an SQL condition on the rows")
	f.StringVar(&in.Unit, "unit", "", "what one is called, for example 'boarding scans'")
	f.StringVar(&period, "period", "1h", "a part of a day (5m, 6h), a day (1d), or a week, month or year of the calendar (1w, 1mo, 1y)")
	f.StringVar(&every, "every", "5m", "how often it is collected")
	f.StringVar(&lookback, "lookback", "6h", "how far back each collection reads again")
	f.StringVar(&settle, "settle", "0s", "wait after a period's end before it is read")
	return add
}

func (a *app) metricSet() *cobra.Command {
	var every, lookback, settle, cron, unit string
	var most int
	c := &cobra.Command{Use: "set NAME", Short: "Change how a metric is collected; what it measures stays", Args: exactly(1, "NAME"),
		Example: "  tinbell metric set boarding-scans-rows --every 10m --lookback 12h\n  tinbell metric set crew-rosters-rows --cron '*/15 2-6 * * *'"}
	c.RunE = func(c *cobra.Command, args []string) error {
		var in httpapi.MetricChange
		given := c.Flags().Changed
		for flag, into := range map[string]**int64{"every": &in.EverySeconds, "lookback": &in.LookbackSeconds,
			"settle": &in.SettleSeconds} {
			if !given(flag) {
				continue
			}
			n, err := seconds(c.Flag(flag).Value.String())
			if err != nil {
				return err
			}
			*into = &n
		}
		if given("cron") {
			in.Cron = &cron
		}
		if given("unit") {
			in.Unit = &unit
		}
		if given("max-segments") {
			in.MaxSegments = &most
		}
		if in == (httpapi.MetricChange{}) {
			return wrongUsage{errors.New("say what to change: --every, --cron, --lookback, --settle, --max-segments or --unit")}
		}
		var m record.Metric
		if err := a.client().Send(c.Context(), "PATCH", "/metrics/"+url.PathEscape(args[0]), in, &m); err != nil {
			return err
		}
		a.say("Metric %s is collected %s, reads %s back and waits %s.", m.Name, schedule(m),
			words.Seconds(float64(m.LookbackSeconds)), words.Seconds(float64(m.SettleSeconds)))
		return nil
	}
	f := c.Flags()
	f.StringVar(&every, "every", "", "how often it is collected")
	f.StringVar(&cron, "cron", "", "when it is collected: five fields, in the dataset's zone, instead of --every")
	f.StringVar(&lookback, "lookback", "", "how far back each collection reads again")
	f.StringVar(&settle, "settle", "", "wait after a period's end before it is read")
	f.StringVar(&unit, "unit", "", "what one is called")
	f.IntVar(&most, "max-segments", 0, "how many segments are measured one by one")
	return c
}

func schedule(m record.Metric) string {
	switch {
	case m.Cron != "":
		return "by cron " + m.Cron
	case m.Pushed():
		return "as it is pushed"
	}
	return "every " + words.Seconds(float64(m.EverySeconds))
}

func (a *app) metricDeclare() *cobra.Command {
	var in collect.Declaration
	var kind string
	declare := &cobra.Command{Use: "declare NAME", Short: "Say once what a pushed metric is", Args: exactly(1, "NAME"),
		Example: "  tinbell metric declare dock-queue --dataset ops.dock_queue --measure queue_length --kind count --period 15m --zone America/Halifax",
		RunE: func(c *cobra.Command, args []string) error {
			in.Metric, in.Kind = args[0], timeline.Kind(kind)
			var m record.Metric
			if err := a.client().Send(c.Context(), "POST", "/metrics/declare", in, &m); err != nil {
				return err
			}
			a.say("Metric %s declared. Push to it: tinbell sample push FILE", m.Name)
			return nil
		}}
	f := declare.Flags()
	f.StringVar(&in.Dataset, "dataset", "", "dataset it belongs to, made if new")
	f.StringVar(&in.Measure, "measure", "", "what is measured")
	f.StringVar(&kind, "kind", "count", "count, share, value or duration")
	f.StringVar(&in.Unit, "unit", "", "what one is called")
	f.StringVar(&in.Period, "period", "1h", "a part of a day (5m, 6h), a day (1d), or a week, month or year of the calendar (1w, 1mo, 1y)")
	f.StringVar(&in.Zone, "zone", "UTC", "time zone of the tz database")
	f.StringVar(&in.OTLP, "otlp", "", "OTLP metric that it takes; its own name if left out")
	f.StringSliceVar(&in.SegmentBy, "segment-by", nil, "OTLP attributes whose values name the segment")
	return declare
}
