package cli

import (
	"fmt"
	"net/url"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/reconcile"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) reconcileCommand() *cobra.Command {
	return group("reconcile", "Two stages compared by the same aggregate", a.reconcileList(), a.reconcileSet(), a.reconcileShow(),
		a.reconcileKeys(), a.reconcileRemove())
}

func (a *app) reconcileList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List reconciliations", Args: exactly(0, "nothing"), Example: "  tinbell reconcile list",
		RunE: func(c *cobra.Command, _ []string) error {
			var all []record.Reconciliation
			if err := a.client().Get(c.Context(), "/reconciliations", nil, &all); err != nil {
				return err
			}
			l := listing{head: []string{"name", "first", "second", "lag", "tolerance", "compared to", "message"}, raw: all,
				none: "No stages are compared: tinbell reconcile set UP DOWN"}
			for _, v := range all {
				l.rows = append(l.rows, []string{v.Name, v.Up, v.Down, words.Seconds(float64(v.LagSeconds)),
					words.Percent(v.Tolerance), a.optional(v.ComparedTo, "UTC", "–"), orNone(v.Message)})
			}
			return a.show(l)
		}}
}

func (a *app) reconcileSet() *cobra.Command {
	var o reconcile.Order
	var lag, period, keys string
	c := &cobra.Command{Use: "set UP DOWN",
		Short: "Compare two datasets by the same aggregate, from now on and over the known past", Args: exactly(2, "UP DOWN"),
		Long: `Compares what came at UP with what came at DOWN a lag later, by period and segment.
The share of the larger that the other lacks is a metric with a monitor of its own:
it is drawn, tuned, labelled and scored like all others. Metrics of the aggregate
are used where both datasets have them, and made where not.

With --keys, tinbell reconcile keys says which rows are on one side only.`,
		Example: "  tinbell reconcile set raw.gate_events ops.boarding_scans --by port --lag 10m --tolerance 0.01\n  tinbell reconcile set raw.web_orders ops.ticket_sales --measure sum --column amount_minor,fare_minor --keys id,id",
		RunE: func(c *cobra.Command, args []string) error {
			o.Up, o.Down = args[0], args[1]
			for text, into := range map[*string]*int64{&lag: &o.LagSeconds, &period: &o.PeriodSeconds} {
				if *text == "" || *text == "0" {
					continue
				}
				n, err := seconds(*text)
				if err != nil {
					return err
				}
				*into = n
			}
			if keys != "" {
				up, down, found := strings.Cut(keys, ",")
				if !found {
					down = up
				}
				o.UpKey, o.DownKey = up, down
			}
			if up, down, found := strings.Cut(o.UpColumn, ","); found {
				o.UpColumn, o.DownColumn = up, down
			}
			var v record.Reconciliation
			if err := a.client().Send(c.Context(), "POST", "/reconciliations", o, &v); err != nil {
				return err
			}
			a.say("%s compares %s with %s, up to %s; its monitor has the same name.", v.Name, v.Up, v.Down,
				a.optional(v.ComparedTo, "UTC", "nothing yet"))
			return nil
		}}
	f := c.Flags()
	f.StringVar(&o.Name, "name", "", "DOWN-against-UP if left out")
	f.StringVar(&o.Measure, "measure", "rows", "rows, sum or distinct")
	f.StringVar(&o.UpColumn, "column", "", "that is summed or counted; two as UP,DOWN if they differ")
	f.StringSliceVar((*[]string)(&o.By), "by", nil, "columns that both are segmented by")
	f.StringVar(&period, "period", "1h", "of the comparison")
	f.StringVar(&lag, "lag", "0", "how long after UP the same is at DOWN")
	f.Float64Var(&o.Tolerance, "tolerance", 0, "share that never rings, as 0.01")
	f.StringVar(&keys, "keys", "", "columns that name a row, as UP,DOWN")
	f.StringVar(&o.Owner, "owner", "", "of the monitor")
	return c
}

func (a *app) reconcileShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a reconciliation", Args: exactly(1, "NAME"),
		Example: "  tinbell reconcile show ops.boarding_scans-against-raw.gate_events",
		RunE: func(c *cobra.Command, args []string) error {
			var v record.Reconciliation
			if err := a.client().Get(c.Context(), "/reconciliations/"+url.PathEscape(args[0]), nil, &v); err != nil {
				return err
			}
			if done, err := a.data(v); done {
				return err
			}
			for _, pair := range [][2]string{
				{"first stage", v.UpSet + ", " + v.Up}, {"second stage", v.DownSet + ", " + v.Down},
				{"lag", words.Seconds(float64(v.LagSeconds))}, {"tolerance", words.Percent(v.Tolerance)},
				{"keys", orNone(strings.Trim(v.UpKey+", "+v.DownKey, ", "))}, {"metric and monitor", v.Metric},
				{"compared to", a.optional(v.ComparedTo, "UTC", "nothing yet")}, {"message", orNone(v.Message)}} {
				a.printf("  %-19s %s\n", pair[0], pair[1])
			}
			return nil
		}}
}

func (a *app) reconcileKeys() *cobra.Command {
	var from, to, segment string
	c := &cobra.Command{Use: "keys NAME", Short: "Say which rows of a stretch are on one side only; they are shown and not kept",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell reconcile keys ops.ticket_sales-against-raw.web_orders --from 6h --segment web",
		RunE: func(c *cobra.Command, args []string) error {
			now := time.Now()
			begin, err := ago(from, now)
			if err != nil {
				return err
			}
			end, err := ago(to, now)
			if err != nil {
				return err
			}
			if end.IsZero() {
				end = now
			}
			var k reconcile.Keys
			if err := a.client().Send(c.Context(), "POST", "/reconciliations/"+url.PathEscape(args[0])+"/keys",
				map[string]any{"from": begin, "to": end, "segment": segment}, &k); err != nil {
				return err
			}
			l := listing{head: []string{"dataset", "keys", "on this side only", "segments", "some"}, right: []int{2, 3}, raw: k}
			for _, s := range k.Sides {
				var parts []string
				for segment, n := range s.Segments {
					parts = append(parts, fmt.Sprintf("%s %d", orNone(segment), n))
				}
				sort.Strings(parts)
				l.rows = append(l.rows, []string{s.Dataset, words.Number(float64(s.Rows)), words.Number(float64(s.Missing)),
					orNone(strings.Join(parts, ", ")), orNone(strings.Join(s.Some[:min(len(s.Some), 8)], ", "))})
			}
			return a.show(l)
		}}
	c.Flags().StringVar(&from, "from", "24h", "a time, or so long ago")
	c.Flags().StringVar(&to, "to", "", "a time, or so long ago; now if left out")
	c.Flags().StringVar(&segment, "segment", "", "only of this segment")
	return c
}

func (a *app) reconcileRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "End a reconciliation; its metric goes with its monitor and alerts",
		Args: exactly(1, "NAME"), Example: "  tinbell reconcile remove ops.boarding_scans-against-raw.gate_events",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/reconciliations/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("%s is gone, with its metric, monitor and alerts.", args[0])
			return nil
		}}
}
