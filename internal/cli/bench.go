package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/core/detect"
	"tinbell/core/score"
	"tinbell/internal/benchmark"
	"tinbell/internal/words"
)

func (a *app) benchCommand() *cobra.Command {
	var parts []string
	speed := &cobra.Command{Use: "speed",
		Short:   "Time of a fit, of a judged sample, of a backtest beside SQL, of ingest beside COPY, and of drift beside reading",
		Args:    exactly(0, "nothing"),
		Example: "  tinbell bench speed\n  tinbell bench speed --part drift",
		RunE: func(c *cobra.Command, _ []string) error {
			for _, p := range parts {
				if !slices.Contains(benchmark.SpeedParts, p) {
					return wrongUsage{fmt.Errorf("--part %s: allowed are %s", p, strings.Join(benchmark.SpeedParts, ", "))}
				}
			}
			results, err := benchmark.Speed(c.Context(), parts)
			if err != nil {
				return err
			}
			l := listing{head: []string{"what", "figure", "beside"}, raw: results}
			for _, r := range results {
				l.rows = append(l.rows, []string{r.What, r.Figure, r.Beside})
			}
			return a.show(l)
		}}
	speed.Flags().StringSliceVar(&parts, "part", nil, strings.Join(benchmark.SpeedParts, ", ")+"; all if left out")
	return group("bench", "Measure Tin Bell itself", a.accuracyCommand(), a.learningCommand(), a.messagesBench(), a.delayBench(),
		a.driftBench(), a.corpusBench(), a.groupingBench(), a.logsBench(), a.chaosBench(), a.crowdBench(), a.workersBench(),
		a.loadBench(), speed)
}

var accuracyParts = []string{"rarity", "everyday", "longer", "faults", "detectors", "losses"}

func (a *app) accuracyCommand() *cobra.Command {
	var seeds, each int
	var budget float64
	var parts []string
	c := &cobra.Command{Use: "accuracy",
		Short: "Stated rarity beside found, and precision, recall and delay beside simple rivals", Args: exactly(0, "nothing"),
		Long: `Makes up series of every kind and period from several seeds, judges them walking
forward, and prints six things:

  rarity     stated false alarms and coverage beside those found on series
             without any fault, with clean history and with 5 % of it spoilt
  everyday   the same by rule, and faults found, on series of everyday oddity that
             no baseline assumes: batches, tides, opening hours, new levels
  longer     such series by week and by month, at one false alarm stated in three years
  faults     precision, recall and delay on planted faults, beside simple rules
             whose limits were chosen on the answers to ring falsely as often
  detectors  what each detector, and each thing the service is told, is worth
  losses     predicted detectable losses beside how often they are found

The generator shares nothing with the demo, and no setting follows from a seed.`,
		Example: "  tinbell bench accuracy\n  tinbell bench accuracy --part rarity --seeds 5",
		RunE: func(c *cobra.Command, _ []string) error {
			if seeds < 1 || seeds > 50 || each < 1 || each > 200 || !(budget >= 0.01 && budget <= 10) {
				return wrongUsage{fmt.Errorf("--seeds %d, --each %d, --budget %g: allowed are 1 to 50, 1 to 200 and 0.01 to 10",
					seeds, each, budget)}
			}
			for _, p := range parts {
				if !slices.Contains(accuracyParts, p) {
					return wrongUsage{fmt.Errorf("--part %s: allowed are %s", p, strings.Join(accuracyParts, ", "))}
				}
			}
			plan := benchmark.Plan{PerFamily: each}
			for i := range seeds {
				plan.Seeds = append(plan.Seeds, uint64(i+101))
			}
			return a.accuracy(c.Context(), plan, parts, budget)
		}}
	c.Flags().IntVar(&seeds, "seeds", 3, "how many times the whole is made up anew")
	c.Flags().IntVar(&each, "each", 8, "series of each family, period and seed")
	c.Flags().Float64Var(&budget, "budget", 0.1, "false alarms per series and 30 days that faults are looked for under")
	c.Flags().StringSliceVar(&parts, "part", accuracyParts, "what to print")
	return c
}

// accuracy prints the parts asked for, one table after another.
func (a *app) accuracy(ctx context.Context, plan benchmark.Plan, parts []string, budget float64) error {
	raw := map[string]any{}
	var tables []listing
	for _, part := range parts {
		plan.Progress = a.bar(part)
		switch part {
		case "rarity":
			rows, err := plan.Rarities(ctx)
			if err != nil {
				return err
			}
			raw[part] = rows
			tables = append(tables, rarityTable(rows), coverageTable(rows))
		case "everyday":
			rows, err := plan.Generalities(ctx, budget)
			if err != nil {
				return err
			}
			raw[part] = rows
			tables = append(tables, everydayTable(rows, budget))
		case "longer":
			rows, err := plan.Longer(ctx)
			if err != nil {
				return err
			}
			raw[part] = rows
			tables = append(tables, everydayTable(rows, benchmark.LongerBudget))
		case "faults":
			contests, err := plan.Contests(ctx, budget)
			if err != nil {
				return err
			}
			raw[part] = contests
			tables = append(tables, contestTable(contests), familyTable(contests), kindTable(contests))
		case "detectors":
			rows, err := plan.LeaveOneOut(ctx, budget)
			if err != nil {
				return err
			}
			raw[part] = rows
			tables = append(tables, absentTable(rows))
		case "losses":
			rows, err := plan.Losses(ctx, budget)
			if err != nil {
				return err
			}
			raw[part] = rows
			tables = append(tables, lossTable(rows))
		}
	}
	if done, err := a.data(raw); done {
		return err
	}
	for _, t := range tables {
		a.say("\n%s\n", t.title)
		if err := a.show(t); err != nil {
			return err
		}
	}
	return nil
}

func rarityTable(rows []benchmark.Rarity) listing {
	l := listing{title: "Stated false alarms per series and 30 days, and those found on series without faults (95 % interval)",
		head: []string{"period", "history", "family", "stated 0.3", "stated 1", "stated 3", "found by stated"}, right: []int{4, 5, 6, 7}}
	for _, r := range rows {
		row := []string{words.Duration(r.Period), historyOf(r.Contaminated), r.Family}
		sum, stated := 0.0, 0.0
		for k, f := range r.Found {
			row = append(row, fmt.Sprintf("%.2f (%.2f–%.2f)", f.Estimate, f.Low, f.High))
			sum, stated = sum+f.Estimate/r.Stated[k], stated+1
		}
		l.rows = append(l.rows, append(row, fmt.Sprintf("%.2f", sum/stated)))
	}
	return l
}

func historyOf(contaminated bool) string {
	if contaminated {
		return "5 % faults"
	}
	return "clean"
}

func everydayTable(rows []benchmark.Generality, budget float64) listing {
	l := listing{
		title: fmt.Sprintf("Everyday series: false alarms stated (%.2g per series and 30 days) and found where nothing was wrong, "+
			"by rule, and planted faults found", budget),
		head: []string{"period", "sort", "stated", "found", "found / stated (95 %)", "by rule", "faults found"}, right: []int{2, 3}}
	for _, r := range rows {
		var rules []string
		for _, cause := range []detect.Cause{detect.Deviation, detect.Silence, detect.Missing, detect.Stuck, detect.Step} {
			if n := r.Rules[cause]; n > 0 {
				rules = append(rules, fmt.Sprintf("%s %d", cause, n))
			}
		}
		l.rows = append(l.rows, []string{words.Period(r.Period), r.Sort, fmt.Sprintf("%.1f", r.Stated), strconv.Itoa(r.Found),
			fmt.Sprintf("%.2f (%.2f to %.2f)", r.Ratio.Estimate, r.Ratio.Low, r.Ratio.High), strings.Join(rules, ", "),
			fmt.Sprintf("%d of %d", r.Noticed, r.Faults)})
	}
	return l
}

func coverageTable(rows []benchmark.Rarity) listing {
	l := listing{title: "Stated coverage of the band, and the share of clean values found inside (of counts, where 20 or more are expected)",
		head: []string{"period", "history", "family", "stated .95", "stated .99", "values"}, right: []int{4, 5, 6}}
	for _, r := range rows {
		if r.Coverage[0].N == 0 {
			continue
		}
		l.rows = append(l.rows, []string{words.Duration(r.Period), historyOf(r.Contaminated), r.Family,
			fmt.Sprintf("%.3f", r.Coverage[0].Found), fmt.Sprintf("%.3f", r.Coverage[1].Found), words.Number(float64(r.Coverage[0].N))})
	}
	return l
}

func interval(f score.Interval) string {
	if math.IsNaN(f.Estimate) {
		return "–"
	}
	return fmt.Sprintf("%.2f (%.2f–%.2f)", f.Estimate, f.Low, f.High)
}

func outcomeRow(name, limit string, o benchmark.Outcome) []string {
	delay := "–"
	if d := o.Delay(); d >= 0 && o.Found > 0 {
		delay = words.Duration(d)
	}
	return []string{name, limit, interval(o.Precision()), interval(o.Recall()), fmt.Sprintf("%d of %d", o.Found, o.Faults), delay,
		strconv.Itoa(o.False), fmt.Sprintf("%.3f", o.FalseWeekly())}
}

var outcomeHead = []string{"way of alerting", "limit", "precision", "recall", "found", "delay", "false", "a series-week"}

func contestTable(contests []benchmark.Contest) listing {
	l := listing{title: fmt.Sprintf("Planted faults at %.2f stated false alarms per series and 30 days; rivals at limits chosen on the answers to ring falsely no oftener, and as people set them. The last column: our delay on the faults that the rival found", contests[0].Budget),
		head: append(append([]string{"period"}, outcomeHead...), "ours there"), right: []int{3, 6, 8, 9, 10}}
	for _, c := range contests {
		beside := func(o benchmark.Outcome) string {
			if d := c.Ours.DelayBeside(o); d >= 0 {
				return words.Duration(d)
			}
			return "–"
		}
		period := words.Duration(c.Period)
		l.rows = append(l.rows, append([]string{period}, append(outcomeRow("Tin Bell", "budget", c.Ours), beside(c.Ours))...))
		l.rows = append(l.rows, append([]string{period}, append(outcomeRow("… after 5 answers about its past", "budget", c.Asked),
			beside(c.Asked))...))
		equal := slices.Clone(c.Equal)
		sort.SliceStable(equal, func(i, j int) bool { return equal[i].Found > equal[j].Found })
		for _, o := range equal[:3] {
			if o.Faults > 0 {
				l.rows = append(l.rows, append([]string{period}, append(outcomeRow(o.Way, fmt.Sprintf("%.3g", o.Limit), o), beside(o))...))
			}
		}
		usual := slices.Clone(c.Usual)
		sort.SliceStable(usual, func(i, j int) bool { return usual[i].False < usual[j].False })
		l.rows = append(l.rows, append([]string{period},
			append(outcomeRow(usual[0].Way+" (as set)", fmt.Sprintf("%.3g", usual[0].Limit), usual[0]), beside(usual[0]))...))
	}
	return l
}

func familyTable(contests []benchmark.Contest) listing {
	l := listing{title: "The same by family of series", head: append([]string{"period"}, outcomeHead...), right: []int{3, 6, 8, 9}}
	for _, c := range contests {
		for _, o := range c.Families {
			l.rows = append(l.rows, append([]string{words.Duration(c.Period)}, outcomeRow(o.Way, "budget", o)...))
		}
	}
	return l
}

func kindTable(contests []benchmark.Contest) listing {
	l := listing{title: "Found by kind of fault", head: []string{"fault"}}
	kinds := map[string]bool{}
	for _, c := range contests {
		l.head = append(l.head, words.Duration(c.Period))
		l.right = append(l.right, len(l.head))
		for k := range c.Ours.Kinds {
			kinds[k] = true
		}
	}
	names := make([]string, 0, len(kinds))
	for k := range kinds {
		names = append(names, k)
	}
	sort.Strings(names)
	for _, k := range names {
		row := []string{k}
		for _, c := range contests {
			n := c.Ours.Kinds[k]
			row = append(row, fmt.Sprintf("%d of %d", n.Found, n.Faults))
		}
		l.rows = append(l.rows, row)
	}
	return l
}

func absentTable(rows []benchmark.Absent) listing {
	l := listing{title: "Hourly faults with one thing left out", head: append([]string{"without"}, outcomeHead[2:]...),
		right: []int{4, 6, 7}}
	for _, r := range rows {
		cells := outcomeRow(r.Without, "", r.Outcome)
		l.rows = append(l.rows, append(cells[:1], cells[2:]...))
	}
	return l
}

func lossTable(rows []benchmark.LossCheck) listing {
	l := listing{title: "Predicted detectable losses of hourly counts, planted in clean series: how often they were found in time",
		head: []string{"within", "loss sometimes found, median", "found at it", "found at what is always found",
			"found at 6 tenths of it", "series"}, right: []int{2, 6}}
	for _, r := range rows {
		l.rows = append(l.rows, []string{words.Duration(r.Within), words.Percent(r.Predicted), interval(r.AtSometimes),
			interval(r.AtAlways), interval(r.AtLess), strconv.Itoa(r.SeriesTried)})
	}
	return l
}
