package cli

import (
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/timeline"
	"tinbell/internal/draw"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// spanned are a span's options: by what, and which.
type spannedBy struct{ by, at string }

func (s *spannedBy) bind(c *cobra.Command) {
	c.Flags().StringVar(&s.by, "by", "", "week (from Mondays), month or year; as --at says if left out, else week")
	c.Flags().StringVar(&s.at, "at", "", "which: a date, 2026-10, 2026-W44 or 2026; the newest that is over if left out")
}

var isoWeek = regexp.MustCompile(`^(\d{4})-W(\d{2})$`)

// ask puts the span into a request.
func (s *spannedBy) ask(q url.Values) error {
	by, day := s.by, s.at
	said := func(kind string) {
		if by == "" {
			by = kind
		}
	}
	if m := isoWeek.FindStringSubmatch(s.at); m != nil {
		year, _ := strconv.Atoi(m[1])
		week, _ := strconv.Atoi(m[2])
		first := time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC) // always in week 1 (ISO 8601)
		monday := first.AddDate(0, 0, -int(first.Weekday()+6)%7+7*(week-1))
		if y, w := monday.ISOWeek(); y != year || w != week {
			return wrongUsage{fmt.Errorf("--at %s: %d has no week %d", s.at, year, week)}
		}
		day = monday.Format(time.DateOnly)
		said("week")
	} else if at, err := time.Parse("2006-01", s.at); err == nil {
		day = at.Format(time.DateOnly)
		said("month")
	} else if at, err := time.Parse("2006", s.at); err == nil {
		day = at.Format(time.DateOnly)
		said("year")
	} else if _, err := time.Parse(time.DateOnly, s.at); err != nil && s.at != "" {
		return wrongUsage{fmt.Errorf("--at %s: give a date as 2026-10-31, a month as 2026-10, a week as 2026-W44 or a year", s.at)}
	}
	said("week")
	switch by {
	case "week", "month", "year":
	default:
		return wrongUsage{fmt.Errorf("--by %s: week, month or year", by)}
	}
	q.Set("by", by)
	if day != "" {
		q.Set("day", day)
	}
	return nil
}

func (a *app) consistencyCommand() *cobra.Command {
	var s spannedBy
	var dataset, owner, tag, tolerance, file string
	var back int
	var outside bool
	c := &cobra.Command{Use: "consistency [METRIC...]", Short: "How a week, month or year of many series lies beside those before",
		Long: `Each series by itself: the mean of its days beside what the same weekdays had in the
spans before, known faults and planned stretches left out of those, so that an old fault
does not make a sound month look bad. It lies outside where it strays farther than the
tolerance and farther than its own such spans do once in a hundred. Where a year before
is known, the change to it stands beside, day by day, by weekday and holiday.`,
		Example: "  tinbell consistency\n  tinbell consistency --at 2026-10 --back 2 --dataset ops.boarding_scans\n  tinbell consistency refunds-rows noshow-rows --by week --tolerance 5% --plot sheet.png",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"back": {strconv.Itoa(back)}}
			if err := s.ask(q); err != nil {
				return err
			}
			allowed, err := shareOf(tolerance)
			if err != nil {
				return wrongUsage{fmt.Errorf("--tolerance %s: give a share as 10%% or 0.1", tolerance)}
			}
			q.Set("tolerance", strconv.FormatFloat(allowed, 'g', -1, 64))
			for name, value := range map[string]string{"dataset": dataset, "owner": owner, "tag": tag} {
				if value != "" {
					q.Set(name, value)
				}
			}
			if len(args) > 0 {
				q["metric"] = args
			}
			var x study.Sheet
			if err := a.client().Get(c.Context(), "/consistency", q, &x); err != nil {
				return err
			}
			if file != "" {
				return a.drawn(file, draw.Sheet(x, file))
			}
			l := listing{head: []string{"series", "a day", "usually", "change", "allowed", "a year before", "verdict"},
				right: []int{2, 3, 4, 5, 6}, raw: x, data: &x.Series, none: "No series has samples there."}
			for _, b := range x.Series {
				if outside && b.Off <= 1 {
					continue
				}
				verdict := b.Verdict
				if b.Faults > 0 {
					verdict += fmt.Sprintf(" (known faults on %s)", words.Plural(b.Faults, "day"))
				}
				l.rows = append(l.rows, []string{b.Called(), ofKind(b.Now, b.Kind), ofKind(b.Usual, b.Kind),
					changed(b.Change, b.Kind), allowedOf(b), changed(b.LastYear, b.Kind), verdict})
			}
			a.say("%s\n", x.Sentence)
			if err := a.show(l); err != nil {
				return err
			}
			if x.Skipped > 0 {
				a.say("%d more series are not on this sheet: narrow it by --dataset or --tag.", x.Skipped)
			}
			return nil
		}}
	s.bind(c)
	f := c.Flags()
	f.StringVar(&dataset, "dataset", "", "of this dataset alone")
	f.StringVar(&owner, "owner", "", "of this team alone")
	f.StringVar(&tag, "tag", "", "with this tag alone, a dataset's counted")
	f.IntVar(&back, "back", 8, "spans before it that it is held against, 2 to 60")
	f.StringVar(&tolerance, "tolerance", "10%", "how far off is never outside")
	f.BoolVar(&outside, "outside", false, "list those outside alone")
	f.StringVar(&file, "plot", "", "draw the sheet with its corridor to FILE.png or FILE.svg")
	return c
}

// shareOf reads a share: 10% or 0.1.
func shareOf(text string) (float64, error) {
	if number, percent := strings.CutSuffix(text, "%"); percent {
		v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		return v / 100, err
	}
	return strconv.ParseFloat(text, 64)
}

// ofKind writes a value of a series of a kind.
func ofKind(v *float64, kind timeline.Kind) string {
	if v == nil {
		return "–"
	}
	return measured(*v, kind)
}

// changed writes a change as it was measured: a share of what was, or a difference.
func changed(v *float64, kind timeline.Kind) string {
	if v == nil {
		return "–"
	}
	sign := "+"
	x := *v
	if x < 0 {
		sign, x = "−", -x
	}
	switch kind {
	case timeline.Count, timeline.Duration:
		return sign + words.Percent(x)
	}
	return sign + measured(x, kind)
}

// allowedOf is the corridor of a series.
func allowedOf(b study.Placed) string {
	if b.Low == nil || b.High == nil {
		return "–"
	}
	apart := words.NumbersApart
	switch b.Kind {
	case timeline.Share:
		apart = words.Apart
	case timeline.Duration:
		apart = words.SecondsApart
	}
	low, high := apart(*b.Low, *b.High)
	return low + " to " + high
}

func measured(x float64, kind timeline.Kind) string {
	switch kind {
	case timeline.Share:
		return words.Percent(x)
	case timeline.Duration:
		return words.Seconds(x)
	}
	return words.Number(x)
}

func (a *app) seriesEarlier() *cobra.Command {
	var of ofSeries
	var s spannedBy
	c := &cobra.Command{Use: "earlier METRIC",
		Short: "Hold a week, month or year of a series against the same of earlier years and weeks", Args: exactly(1, "METRIC"),
		Long: `Day by day: each is held against the nearest of its weekday, a holiday against that of
the same name; days without a counterpart are left out. The change has a 95 % interval
in which what a day owes to the one before is allowed for.`,
		Example: "  tinbell series earlier refunds-rows\n  tinbell series earlier boarding-scans-rows --segment Gullstone --at 2026-W44",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{}
			if err := s.ask(q); err != nil {
				return err
			}
			var x study.EarlierStudy
			if err := of.ask(a, c, args[0], "earlier", q, &x); err != nil {
				return err
			}
			l := listing{head: []string{"beside", "from", "a day", "then", "change", "95 %", "days"}, right: []int{3, 4, 5, 6, 7},
				raw: x, data: &x.Against, none: "Nothing earlier is known."}
			for _, e := range x.Against {
				within := "–"
				if e.Low != nil && e.High != nil {
					within = changed(e.Low, x.Kind) + " to " + changed(e.High, x.Kind)
				}
				l.rows = append(l.rows, []string{e.Of, e.From, ofKind(e.Now, x.Kind), ofKind(e.Then, x.Kind),
					changed(e.Change, x.Kind), within, strconv.Itoa(e.Pairs)})
			}
			a.say("%s\n", x.Sentence)
			return a.show(l)
		}}
	c.Flags().StringVar(&of.segment, "segment", "", "which segment, where the metric is split")
	s.bind(c)
	return c
}
