package cli

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/draw"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// driftCompare compares two files without a service.
func (a *app) driftCompare() *cobra.Command {
	var s record.ComparisonSettings
	var zoneName, feature, picture string
	var quick bool
	var require map[string]string
	c := &cobra.Command{Use: "compare REFERENCE PERIOD...",
		Short: "Compare files, CSV or Parquet, with a reference, without a service", Args: cobra.MinimumNArgs(2),
		Long: `Compares the rows of each file with those of the first. With --time the days of the
reference tell how much it wobbles by itself, and limits allow for that; without,
limits follow from the number of rows alone, which holds where rows are independent
(--independent says that they are, and that days do not matter). With --by files are
judged day by day, week by week or month by month. The same file may stand for both
if --reference-from and --reference-to say which of its days are the reference.

--require stops a pipeline with exit code 4: over=0 asks that no feature is over its
limit, drifted=0 that no period is over as a whole (a feature, separability or a pair),
separability=0.2 that it is at most that. What could not be judged, or a column that is
gone, stops it too.`,
		Example: "  tinbell drift compare reference.csv october.parquet\n  tinbell drift compare reference.csv september.csv october.csv november.csv\n  tinbell drift compare reference.csv october.csv --time scored_at --by week --feature fare_minor\n  tinbell drift compare reference.parquet october.parquet --require over=0",
		RunE: func(c *cobra.Command, args []string) error {
			zone, err := time.LoadLocation(zoneName)
			if err != nil {
				return wrongUsage{fmt.Errorf("--zone %s: a name of the tz database, such as America/Halifax", zoneName)}
			}
			if s.Period != "" && !slices.Contains([]string{"day", "week", "month"}, s.Period) {
				return wrongUsage{fmt.Errorf("--by %s: allowed are day, week and month", s.Period)}
			}
			if s.Period != "" && s.TimeColumn == "" {
				return wrongUsage{fmt.Errorf("--by %s needs --time, the column with each row's time", s.Period)}
			}
			if s.Accept < 0 || s.Accept > 0.1 {
				return wrongUsage{fmt.Errorf("--accept %g: over 0 up to 0.1", s.Accept)}
			}
			before, err := compare.FilesAt(args[0])
			if err != nil {
				return missingFile{err}
			}
			var sides []compare.Side
			first, _ := filepath.Abs(args[0])
			for _, name := range args[1:] {
				if second, _ := filepath.Abs(name); first == second && s.ReferenceFrom == "" {
					return wrongUsage{fmt.Errorf("both are %s: say which of its days are the reference, with --time, --reference-from and --reference-to", name)}
				}
				after, err := compare.FilesAt(name)
				if err != nil {
					return missingFile{err}
				}
				sides = append(sides, compare.Side{Name: filepath.Base(name), Input: after})
			}
			o, err := compare.Several(c.Context(), before, sides, s, zone, !quick, a.bar("comparing"))
			if err != nil {
				return err
			}
			if err := a.showOutcome(o, s.Period, zone, feature); err != nil {
				return err
			}
			for _, note := range o.Notes {
				fmt.Fprintf(a.errors, "note: %s\n", note)
			}
			if picture != "" {
				if err := draw.Distributions(o.Distributions(feature, zone), picture); err != nil {
					return err
				}
				a.say("Drawn to %s.", picture)
			}
			return a.driftGate(o, require)
		}}
	bindComparison(c, &s)
	c.Flags().Lookup("feature").Usage = "columns to compare; all that both have if left out"
	c.Flags().StringVar(&s.Period, "by", "", "judge the second file by day, week or month")
	c.Flags().StringVar(&zoneName, "zone", "UTC", "time zone of days")
	c.Flags().StringVar(&feature, "show", "", "a feature whose distributions are shown; the most drifted one if left out")
	c.Flags().StringVar(&picture, "plot", "", "draw that feature's distributions to FILE.png or FILE.svg")
	c.Flags().BoolVar(&quick, "quick", false, "without the classifier and the pairs")
	c.Flags().StringToStringVar(&require, "require", nil, "over=…, drifted=… or separability=…; exit code 4 if there is more")
	return c
}

// missingFile is a file that is not there: exit code 3.
type missingFile struct{ error }

func (a *app) showOutcome(o compare.Outcome, period string, zone *time.Location, feature string) error {
	if done, err := a.data(o); done {
		return err
	}
	if len(o.Periods) == 0 {
		a.say("There are no rows to judge.")
		return nil
	}
	if len(o.Periods) > 1 {
		v := record.Comparison{Zone: zone.String(), Features: o.Features, Settings: record.ComparisonSettings{Period: period}}
		against := o.Periods[0].Found.Reference
		v.Referred = record.Referred{From: against.From, To: against.To}
		return a.showMatrix(compare.MatrixOf(v, o.Periods))
	}
	found := o.Periods[0].Found
	sentence, detail := compare.Told(found)
	a.say("%s.\n%s\n", sentence, lined(detail))
	l := listing{head: []string{"feature", "verdict", "of its limit", "by", "PSI", "KS", "missing", "was missing", "importance"},
		right: []int{3, 5, 6, 7, 8, 9}, raw: o}
	for _, f := range sortedByRatio(found.Features) {
		row := []string{f.Feature, f.State, ratio(f.State, f.Ratio), measureNames[f.By], "–", "–", "–", words.Percent(0), "–"}
		for i, name := range []string{drift.MeasurePSI, drift.MeasureKS, drift.MeasureMissing} {
			if m, there := f.Measure(name); there {
				row[4+i] = fmt.Sprintf("%.3f", m.Value)
				if name == drift.MeasureMissing {
					row[4+i] = words.Percent(m.Value)
				}
			}
		}
		row[7] = words.Percent(f.WasMissing)
		if s := found.Separability; s != nil {
			if at := slices.Index(found.Classified, f.Feature); at >= 0 {
				row[8] = words.Percent(s.Importance[at])
			}
		}
		l.rows = append(l.rows, row)
	}
	for _, f := range o.Features {
		if f.Why != "" && f.Why != "left out" && f.Why != "not asked for" {
			l.rows = append(l.rows, []string{f.Name, "not compared", "", f.Why, "", "", "", "", ""})
		}
	}
	if err := a.show(l); err != nil || a.output != "table" {
		return err
	}
	a.say("")
	for _, f := range sortedByRatio(found.Features) {
		switch {
		case f.State == drift.Over:
			a.say("%s.", compare.Moved(f))
		case f.Why != "":
			a.say("%s: %s.", f.Feature, f.Why)
		}
	}
	if found.Over > 0 || feature != "" {
		a.say("")
		return a.showFeature(o.Distributions(feature, zone))
	}
	return nil
}

func sortedByRatio(list []record.FeatureResult) []record.FeatureResult {
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b record.FeatureResult) int {
		switch {
		case a.Ratio > b.Ratio:
			return -1
		case a.Ratio < b.Ratio:
			return 1
		}
		return 0
	})
	return list
}

// driftGate stops a pipeline where more has drifted than is allowed, or nobody can tell.
func (a *app) driftGate(o compare.Outcome, require map[string]string) error {
	var met error
	stop := func(format string, args ...any) {
		fmt.Fprintf(a.errors, format+"\n", args...)
		met = errGate
	}
	for _, name := range slices.Sorted(maps.Keys(require)) {
		most, err := strconv.ParseFloat(require[name], 64)
		if err != nil || !slices.Contains([]string{"over", "drifted", "separability"}, name) {
			return wrongUsage{fmt.Errorf("--require %s=%s: write over=0, drifted=0 or separability=0.2", name, require[name])}
		}
		worst := 0.0
		for _, p := range o.Periods {
			switch s := p.Found.Separability; {
			case name == "over":
				worst = max(worst, float64(p.Found.Over))
			case name == "drifted" && p.Found.Whole.State == drift.Over:
				worst++
			case name == "separability" && s == nil:
				stop("separability was not judged: %s", cmp.Or(p.Found.Message, "--quick leaves it out"))
			case name == "separability":
				worst = max(worst, s.Score)
			}
		}
		if worst > most {
			stop("%s is %.3g, allowed is %g", name, worst, most)
		}
	}
	if len(require) == 0 {
		return nil
	}
	if len(o.Periods) == 0 {
		stop("nothing was judged: there are no rows")
	}
	for _, p := range o.Periods {
		of := ""
		if p.Name != "" {
			of = " of " + p.Name
		}
		if p.Found.Whole.State == record.NotJudged {
			stop("nothing%s could be judged: %s rows", of, words.Number(float64(p.Found.Rows)))
		}
		if len(p.Found.Whole.Gone) > 0 {
			stop("columns%s are gone: %s", of, words.List(p.Found.Whole.Gone))
		}
	}
	return met
}
