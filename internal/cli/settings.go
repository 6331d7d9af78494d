package cli

import (
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// settingsFlags lets a command change settings; what is not given stays.
type settingsFlags struct {
	flags                                 *cobra.Command
	own                                   *pflag.FlagSet // what sets settings alone
	method, against, direction, sustained string
	warn, critical, persist, adopt        string
	than, smoothBy                        string
	low, high, width, coverage, effect    float64
	lowest, highest, fall, rise           float64
	window, smooth, merge, missing        int
	quiet                                 []string
	robust, spikes, stuckOff, silenceOff  bool
}

func (f *settingsFlags) bind(c *cobra.Command) {
	f.flags, f.own = c, pflag.NewFlagSet("settings", pflag.ContinueOnError)
	flags := f.own
	flags.StringVar(&f.method, "method", "", "seasonal, fixed, change, rolling, zscore, modified, fences, siblings or arrival")
	flags.Float64Var(&f.low, "low", 0, "fixed: lowest value allowed")
	flags.Float64Var(&f.high, "high", 0, "fixed: highest value allowed")
	flags.StringVar(&f.against, "against", "", "change: previous, day or week")
	flags.IntVar(&f.window, "window", 0, "rolling, siblings: periods remembered; 0 for a week")
	flags.BoolVar(&f.robust, "robust", false, "rolling: median and MAD")
	flags.Float64Var(&f.width, "width", 0, "simple methods: spreads to the band's edge; 0 from the return period")
	bindBounds(flags, &f.lowest, &f.highest, &f.fall, &f.rise)
	flags.StringVar(&f.than, "than", "", "which earlier value fall and rise are against: previous, day or week (day)")
	flags.StringVar(&f.direction, "direction", "", "low, high or both")
	flags.StringVar(&f.warn, "warn", "", "return period of a warning for the monitor as a whole, for example 1y")
	flags.StringVar(&f.critical, "critical", "", "return period of a critical alert, for example 10y")
	flags.StringVar(&f.persist, "persist", "", "m of n periods, for example '2 of 3'")
	flags.StringVar(&f.adopt, "adopt-after", "", "when an unanswered change becomes the new normal, or never")
	flags.Float64Var(&f.coverage, "coverage", 0, "share of clean values inside the drawn band")
	flags.Float64Var(&f.effect, "min-effect", 0, "smallest absolute effect worth an alert")
	flags.IntVar(&f.smooth, "smooth", 0, "periods that are smoothed before detection, up to a day of them; 0 for none")
	flags.StringVar(&f.smoothBy, "smooth-by", "", "median or mean; median if left out")
	flags.StringVar(&f.sustained, "sustained", "", "look for small shifts over up to 6 (off), 12 (short) or 24 (long) periods")
	flags.BoolVar(&f.spikes, "spikes", false, "one period alone may alarm")
	flags.IntVar(&f.merge, "merge", 0, "alerts this many periods apart are one; -1 never")
	flags.IntVar(&f.missing, "missing", 0, "alarm after this many missing periods in a row; 0 as learned, -1 never")
	flags.StringArrayVar(&f.quiet, "quiet-hours", nil,
		"hours in which only critical alerts are told, as 'mon-fri 22:00-06:00'; '' for none")
	flags.BoolVar(&f.stuckOff, "stuck-off", false, "do not tell of a value that repeats again and again")
	flags.BoolVar(&f.silenceOff, "silence-off", false, "do not tell of zeros where rows were due")
	c.Flags().AddFlagSet(flags)
}

// bindBounds lets a command set the bounds beside a band.
func bindBounds(flags *pflag.FlagSet, lowest, highest, fall, rise *float64) {
	flags.Float64Var(lowest, "lowest", 0, "a value below rings at once, however usual; nan for none")
	flags.Float64Var(highest, "highest", 0, "a value above rings at once; nan for none")
	flags.Float64Var(fall, "fall", 0, "ring at once on a value this share below an earlier one, for example 0.05; 0 for none")
	flags.Float64Var(rise, "rise", 0, "or above it")
}

// bound is a bound that was given; none where it is not a number.
func bound(x float64) *float64 {
	if math.IsNaN(x) {
		return nil
	}
	return &x
}

// apply changes what was given and tells whether anything was.
func (f *settingsFlags) apply(s *record.Settings) (changed bool, err error) {
	before := *s
	given := f.flags.Flags().Changed
	texts := map[string]func(){
		"method": func() { s.Method = f.method }, "against": func() { s.Against = f.against },
		"direction": func() { s.Direction = f.direction },
		"sustained": func() { s.Sustained = f.sustained }, "low": func() { s.Low = &f.low }, "high": func() { s.High = &f.high },
		"width": func() { s.Width = f.width }, "coverage": func() { s.Coverage = f.coverage },
		"min-effect": func() { s.MinEffect = f.effect },
		"window":     func() { s.Window = f.window }, "smooth": func() { s.Smooth = f.smooth },
		"smooth-by": func() { s.SmoothBy = f.smoothBy }, "merge": func() { s.Merge = f.merge },
		"missing": func() { s.Missing = f.missing }, "robust": func() { s.Robust = f.robust }, "spikes": func() { s.Spikes = f.spikes },
		"lowest": func() { s.Lowest = bound(f.lowest) }, "highest": func() { s.Highest = bound(f.highest) },
		"fall": func() { s.Fall = f.fall }, "rise": func() { s.Rise = f.rise },
		"than": func() { s.Than = f.than }, "stuck-off": func() { s.StuckOff = f.stuckOff },
		"silence-off": func() { s.SilenceOff = f.silenceOff },
	}
	for name, set := range texts {
		if given(name) {
			set()
		}
	}
	if given("quiet-hours") {
		s.Quiet = slices.DeleteFunc(f.quiet, func(hours string) bool { return hours == "" })
	}
	if s.Method != "fixed" {
		s.Low, s.High = nil, nil
	}
	for name, d := range map[string]struct {
		text string
		into *int64
	}{"warn": {f.warn, &s.WarnSeconds}, "critical": {f.critical, &s.CriticalSeconds}, "adopt-after": {f.adopt, &s.AdoptAfterSeconds}} {
		switch {
		case !given(name):
		case d.text == "never" && name == "adopt-after":
			*d.into = -1
		default:
			if *d.into, err = seconds(d.text); err != nil {
				return false, err
			}
		}
	}
	if given("warn") && !given("critical") {
		s.CriticalSeconds = max(s.CriticalSeconds, s.WarnSeconds)
	}
	if given("persist") {
		if s.Persist, s.Of, err = persistence(f.persist); err != nil {
			return false, err
		}
	}
	return !reflect.DeepEqual(*s, before), nil
}

// keys of settings that are not called as their flags.
var keys = map[string][]string{"warn": {"warn_seconds"}, "critical": {"critical_seconds"}, "adopt-after": {"adopt_after_seconds"},
	"persist": {"persist", "of"}, "quiet-hours": {"quiet"}}

// change gives what was given alone, as the API takes it.
func (f *settingsFlags) change() (map[string]any, error) {
	s := record.DefaultSettings()
	if _, err := f.apply(&s); err != nil {
		return nil, err
	}
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var all map[string]any
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, err
	}
	given := f.flags.Flags().Changed
	change := map[string]any{}
	f.own.VisitAll(func(flag *pflag.Flag) {
		if !given(flag.Name) {
			return
		}
		names := keys[flag.Name]
		if names == nil {
			names = []string{strings.ReplaceAll(flag.Name, "-", "_")}
		}
		for _, name := range names {
			change[name] = all[name]
		}
	})
	return change, nil
}

// persistence reads m of n periods.
func persistence(text string) (m, n int, err error) {
	if _, err := fmt.Sscanf(text, "%d of %d", &m, &n); err != nil || m < 1 || n < m {
		return 0, 0, wrongUsage{fmt.Errorf("--persist %q: write it as '2 of 3', the first number no larger than the second", text)}
	}
	return m, n, nil
}

// monitorShow tells how a monitor is set, what it can see, and how it has done.
func (a *app) monitorShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME",
		Short: "Show a monitor: its settings, what losses it shows, stated and achieved rarity", Args: exactly(1, "NAME"),
		Example: "  tinbell monitor show boarding-scans-volume", RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			path := "/monitors/" + url.PathEscape(args[0])
			if err := a.client().Get(c.Context(), path, nil, &m); err != nil {
				return err
			}
			var losses []study.Detectable
			if err := a.client().Get(c.Context(), path+"/losses", nil, &losses); err != nil {
				return err
			}
			var card scorecard.Scorecard
			if err := a.client().Get(c.Context(), "/scorecard", nil, &card); err != nil {
				return err
			}
			if a.output == "json" {
				return a.json(map[string]any{"monitor": m, "detectable": losses})
			}
			s := m.Settings
			a.say("%s on %s, %s, version %d: %s, direction %s.", m.Name, m.Metric, m.Dataset, m.Version, s.Method, s.Direction)
			a.say("Warns once in %s by chance, all segments together; critical once in %s.",
				words.Seconds(float64(s.WarnSeconds)), words.Seconds(float64(s.CriticalSeconds)))
			if state := monitorState(m, time.Now()); state != "judging" {
				a.say("It is %s.", state)
			}
			if said := bounds(s); said != "" {
				a.say("Rings at once %s.", said)
			}
			for _, v := range s.Segments {
				a.say("Segment %s: %s.", v.Segment, differs(v))
			}
			for _, own := range card.Monitors {
				if own.Monitor == m.Name {
					a.say("Cried wolf so far: %s; if what is unlabelled were noise too: %s.\n", achieved(own.Achieved),
						atWorst(own.Achieved))
				}
			}
			a.kept(m)
			l := listing{head: []string{"segment", "typical day", "what shows"}, right: []int{2}, raw: losses,
				none: "What loss shows is not said of it: it is not judged by windows, or has no baseline yet."}
			for _, d := range losses {
				l.rows = append(l.rows, []string{orNone(d.Series.Segment), amount(d.Typical), d.Sentence})
			}
			if err := a.show(l); err != nil {
				return err
			}
			told := 0
			for _, d := range losses {
				if d.Proposal == "" {
					continue
				}
				if told++; told <= 3 {
					a.say("%s: %s", orNone(d.Series.Segment), d.Proposal)
				}
			}
			if told > 3 {
				a.say("… and likewise %s.", words.Plural(told-3, "other segment"))
			}
			return nil
		}}
}

// kept tells how a monitor kept its budget on its own past and since.
func (a *app) kept(m record.Monitor) {
	if m.Budget == nil {
		return
	}
	b := m.Budget
	from := "2 Jan"
	if b.From.Year() != b.To.Year() {
		from = "2 Jan 2006"
	}
	a.say("On its own past, %s to %s, with limits from what lay before (%d series tried):",
		b.From.Format(from), b.To.Format("2 Jan 2006"), b.Series)
	quiet := true
	for _, r := range b.Rules {
		if r.Rung+r.Told == 0 && r.Factor <= 1 {
			continue
		}
		quiet = false
		raised := "its limit stands"
		if r.Factor > 1.005 {
			raised = fmt.Sprintf("its limit is raised %.2f times", r.Factor)
		}
		since := ""
		if r.Told > 0 {
			since = fmt.Sprintf(", since then %d where %.1f are stated", r.Told, r.Since)
		}
		a.say("  %s rang on %s; %.1f false alarms are stated%s: %s.", r.Rule, words.Plural(r.Rung, "occasion"), r.Stated, since, raised)
	}
	if quiet {
		a.say("  no rule rang.")
	}
	for _, sentence := range kinship(b.Kin) {
		a.say("  %s", sentence)
	}
	a.say("")
}

// rehearse prints a proposal beside today's settings on the same past.
func (a *app) rehearse(c *cobra.Command, name string, proposed record.Settings, since time.Duration) error {
	var r replays.Rehearsal
	order := httpapi.RehearsalOrder{Settings: proposed, SinceSeconds: int64(since.Seconds())}
	if err := a.client().Send(c.Context(), "POST", "/monitors/"+url.PathEscape(name)+"/rehearsal", order, &r); err != nil {
		return err
	}
	a.say("%s\n", r.Sentence)
	l := listing{head: []string{"", "alerts", "hits of counted", "precision", "recall", "delay", "false a week", "stated",
		"achieved"}, right: []int{2, 3, 6}, raw: r}
	for _, side := range []struct {
		name string
		of   replays.Replay
	}{{"today", r.Today}, {"proposed", r.Proposed}} {
		k := side.of.Card
		l.rows = append(l.rows, []string{side.name, strconv.Itoa(k.Alerts), fmt.Sprintf("%d of %d", k.Catalogue.K, k.Catalogue.N),
			figure(k.Catalogue, 2),
			figure(k.Recall, 2), delay(k.DelaySeconds), figure(k.FalseWeekly, 2),
			"1 in " + words.Seconds(float64(k.StatedSeconds)), achieved(k.Achieved)})
	}
	if err := a.show(l); err != nil {
		return err
	}
	changes := listing{head: []string{"change", "since", "segment", "rule", "outcome", "incident"}, none: ""}
	for _, part := range []struct {
		name string
		list []replays.BacktestAlert
	}{{"gone", r.Gone}, {"new", r.New}} {
		for _, x := range part.list {
			changes.rows = append(changes.rows, []string{part.name, a.local(x.Since, r.Zone), orNone(x.Segment), string(x.Rule),
				string(x.Outcome), orNone(x.Incident)})
		}
	}
	if a.output != "table" || len(changes.rows) == 0 {
		return nil
	}
	a.say("")
	if err := a.show(changes); err != nil {
		return err
	}
	a.say("%s told as today. Put the proposal in force: tinbell monitor set %s …", words.Plural(r.Stays, "alert"), name)
	return nil
}
