package cli

import (
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
)

// loadBench weighs a service that judges many series of one minute.
func (a *app) loadBench() *cobra.Command {
	var order benchmark.LoadOrder
	c := &cobra.Command{Use: "load", Short: "Memory of a service that judges many series of one minute, and whether it keeps up",
		Args:    exactly(0, "nothing"),
		Example: "  tinbell bench load --series 10000 --for 10m",
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if order.Series < 1 || order.Series > 100_000 || order.For < time.Minute {
				return wrongUsage{fmt.Errorf("--series %d --for %s: allowed are 1 to 100000, and a minute at least", order.Series,
					order.For)}
			}
			if order.Program, err = os.Executable(); err != nil {
				return err
			}
			began := time.Now()
			v, err := benchmark.RunLoad(c.Context(), order,
				func(what string) { fmt.Fprintf(a.errors, "%4s  %s\n", time.Since(began).Round(time.Second), what) })
			if err != nil {
				return err
			}
			l := listing{head: []string{"what", "figure"}, right: []int{1}, raw: v}
			l.rows = [][]string{{"series of one minute", fmt.Sprint(v.Series)}, {"fitted in", v.Fitted.Round(time.Second).String()},
				{"minutes pushed", fmt.Sprint(v.Minutes)},
				{"the service's memory, minute by minute", strings.Trim(fmt.Sprint(v.Memory), "[]") + " MB"},
				{"at most", fmt.Sprintf("%d MB", v.Peak)},
				{"processor time of the service, minute by minute", cores(v.Cores)},
				{"series behind at the end of each minute", strings.Trim(fmt.Sprint(v.Behind), "[]")}}
			return a.show(l)
		}}
	c.Flags().IntVar(&order.Series, "series", 10_000, "how many")
	c.Flags().DurationVar(&order.For, "for", 10*time.Minute, "how long samples are pushed")
	return c
}

// crowdBench gives a service very many series at once.
func (a *app) crowdBench() *cobra.Command {
	var order benchmark.CrowdOrder
	c := &cobra.Command{Use: "crowd", Short: "Very many series of five minutes with bounds: taking them in, judging them, and what that costs", Args: exactly(0, "nothing"),
		Example: "  tinbell bench crowd --series 100000 --periods 2",
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if order.Series < 1 || order.Series > 1_000_000 || order.Periods < 1 || order.Periods > 100 {
				return wrongUsage{fmt.Errorf("--series %d --periods %d: allowed are 1 to 1000000, and 1 to 100", order.Series,
					order.Periods)}
			}
			if order.Program, err = os.Executable(); err != nil {
				return err
			}
			v, err := benchmark.RunCrowd(c.Context(), order, func(what string) { fmt.Fprintln(a.errors, what) })
			if err != nil {
				return err
			}
			seconds := func(list []float64) string {
				var parts []string
				for _, s := range list {
					parts = append(parts, fmt.Sprintf("%.1f s", s))
				}
				return strings.Join(parts, ", ")
			}
			share := func(cpu float64) string {
				return fmt.Sprintf("%.1f s, %.1f %% of a core", cpu, 100*cpu/float64(60*v.Minutes))
			}
			l := listing{head: []string{"what", "figure"}, right: []int{1}, raw: v}
			l.rows = [][]string{{"series of five minutes", fmt.Sprint(v.Series)}, {"minutes that their samples stand for",
				fmt.Sprint(v.Minutes)}, {"a period taken in within", seconds(v.Push)}, {"judged after that within", seconds(v.Judged)},
				{"processor time of the service", share(v.Service)}, {"and of PostgreSQL", share(v.Database)},
				{"memory of the service at most", fmt.Sprintf("%d MB", v.Peak)}}
			return a.show(l)
		}}
	c.Flags().IntVar(&order.Series, "series", 100_000, "how many")
	c.Flags().IntVar(&order.Periods, "periods", 2, "of samples, one after another")
	return c
}

// workersBench has more and more processes do the same work.
func (a *app) workersBench() *cobra.Command {
	var order benchmark.WorkersOrder
	c := &cobra.Command{Use: "workers", Short: "Fits and trials by one process, by two and by four on one database",
		Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if order.Monitors < 1 || order.Series < 1 || order.Weeks < 4 || len(order.Processes) == 0 {
				return wrongUsage{fmt.Errorf("--monitors %d --series %d --weeks %d: allowed are 1 and more, and four weeks and more", order.Monitors, order.Series, order.Weeks)}
			}
			if order.Program, err = os.Executable(); err != nil {
				return err
			}
			list, err := benchmark.RunWorkers(c.Context(), order, func(what string) { fmt.Fprintln(a.errors, what) })
			if err != nil {
				return err
			}
			l := listing{head: []string{"processes", "cores", "fits", "seconds", "fits a second", "trials, seconds"},
				right: []int{1, 2, 3, 4, 5, 6}, raw: list}
			for _, r := range list {
				l.rows = append(l.rows, []string{fmt.Sprint(r.Processes), fmt.Sprint(r.Cores), fmt.Sprint(r.Fits),
					fmt.Sprintf("%.1f", r.Seconds), fmt.Sprintf("%.0f", r.Rate), fmt.Sprintf("%.1f", r.Trial)})
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&order.Monitors, "monitors", 60, "how many")
	c.Flags().IntVar(&order.Series, "series", 10, "of each")
	c.Flags().IntVar(&order.Weeks, "weeks", 12, "of hourly history")
	c.Flags().IntSliceVar(&order.Processes, "processes", []int{1, 2, 4}, "that work")
	return c
}

// cores writes shares of a core.
func cores(list []float64) string {
	var parts []string
	for _, v := range list {
		parts = append(parts, fmt.Sprintf("%.0f", 100*v))
	}
	return strings.Join(parts, " ") + " % of a core"
}

// chaosBench has accidents happen to a service of its own.
func (a *app) chaosBench() *cobra.Command {
	var order benchmark.ChaosOrder
	c := &cobra.Command{Use: "chaos", Short: "Accidents that happen to a service under load, and what became of what it acknowledged", Args: exactly(0, "nothing"),
		Long: `Starts a service with a private PostgreSQL of its own, pushes samples to it
without a pause, plants one fault after another, and has accidents happen: the
service is killed and stopped, the database is killed, its disk is full, senders
stall, files and lines are broken, the clock steps. Then it waits, and counts what
was acknowledged and is lost, and what was told twice, late or never. With
--processes several share one database, are asked in turn, and end one at a time.`,
		Example: "  tinbell bench chaos --for 10m\n  tinbell bench chaos --for 2m --accident 'service killed' --every 3s\n  tinbell bench chaos --processes 3 --for 5m --accident 'service killed' --every 3s",
		RunE: func(c *cobra.Command, _ []string) (err error) {
			for _, name := range order.Accidents {
				if !slices.Contains(benchmark.AccidentNames(), name) {
					return wrongUsage{fmt.Errorf("--accident %q: allowed are %s", name, strings.Join(benchmark.AccidentNames(), ", "))}
				}
			}
			if order.Processes < 1 || order.Processes > 20 {
				return wrongUsage{fmt.Errorf("--processes %d: allowed are 1 to 20", order.Processes)}
			}
			if order.For < time.Second || order.Every < 100*time.Millisecond {
				return wrongUsage{fmt.Errorf("--for %s --every %s: a second and a tenth of one at least", order.For, order.Every)}
			}
			if order.Program, err = os.Executable(); err != nil {
				return err
			}
			began := time.Now()
			v, err := benchmark.RunChaos(c.Context(), order,
				func(what string) { fmt.Fprintf(a.errors, "%4s  %s\n", time.Since(began).Round(time.Second), what) })
			if err != nil {
				return err
			}
			l := listing{head: []string{"what", "figure"}, right: []int{1}, raw: v}
			row := func(what string, figure any) { l.rows = append(l.rows, []string{what, fmt.Sprint(figure)}) }
			for _, name := range benchmark.AccidentNames() {
				if n := v.Accidents[name]; n > 0 {
					row(name, n)
				}
			}
			for _, why := range v.Left {
				row(why, "left out")
			}
			row("samples acknowledged", v.Acknowledged)
			row("of these lost", v.Lost)
			row("pushes not acknowledged", v.Refused)
			row("faults planted", v.Faults)
			row("of these never told", v.Untold)
			for _, how := range v.Stuck {
				row(how, "never told")
			}
			row("of these told twice", v.Doubled)
			if n := len(v.Delays); n > 0 {
				row("delay of a message, median", fmt.Sprintf("%.1f s", v.Delays[(n-1)/2]))
				row("delay of a message, 95 of 100 within", fmt.Sprintf("%.1f s", v.Delays[int(math.Ceil(0.95*float64(n)))-1]))
				row("delay of a message, longest", fmt.Sprintf("%.1f s", v.Delays[n-1]))
			}
			row("the service's memory at most", fmt.Sprintf("%d MB", v.Peak))
			if err := a.show(l); err != nil {
				return err
			}
			if v.Lost+v.Doubled+v.Untold > 0 {
				return errGate
			}
			return nil
		}}
	c.Flags().DurationVar(&order.For, "for", 10*time.Minute, "how long accidents happen")
	c.Flags().IntVar(&order.Processes, "processes", 1, "of the service")
	c.Flags().DurationVar(&order.Every, "every", 6*time.Second, "about how long between accidents")
	c.Flags().Uint64Var(&order.Seed, "seed", 1, "of what happens when")
	c.Flags().StringArrayVar(&order.Accidents, "accident", nil, "only these: "+strings.Join(benchmark.AccidentNames(), ", "))
	return c
}
