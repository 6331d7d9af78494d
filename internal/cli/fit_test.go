package cli

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
)

func TestTablesFitTheTerminal(t *testing.T) {
	long := strings.Repeat("a sentence that goes on ", 6)
	l := listing{head: []string{"id", "sentence", "dataset", "how rare", "verdict", "n"}, right: []int{1, 6}, keep: []string{"verdict"},
		rows: [][]string{{"1", long, "ops.boarding_scans", "once in 3 years", "open", "12"}, {"2", "short", "raw.web", "–", "fault", "7"}}}
	for width, want := range map[int][]string{
		0:   {"id", "sentence", "dataset", "how rare", "verdict", "n"},
		260: {"id", "sentence", "dataset", "how rare", "verdict", "n"},
		90:  {"id", "sentence", "dataset", "how rare", "verdict", "n"},
		60:  {"id", "sentence", "dataset", "verdict"},
		40:  {"id", "sentence", "verdict"},
	} {
		got, gone := l.fit(width)
		if !slices.Equal(got.head, want) || gone != len(l.head)-len(want) {
			t.Errorf("%d: %v, %d gone; want %v", width, got.head, gone, want)
		}
		for _, row := range append(got.rows, got.head) {
			if n := utf8.RuneCountInString(strings.Join(row, "  ")); width > 0 && n > width || len(row) != len(got.head) {
				t.Errorf("%d: a line of %d: %v", width, n, row)
			}
		}
		if width == 260 != (got.rows[0][1] == long) && width != 0 {
			t.Errorf("%d: the sentence is %q", width, got.rows[0][1])
		}
	}
	if l.rows[0][1] != long || len(l.head) != 6 {
		t.Error("what is fitted is another table")
	}
}

func TestCSVIsDataAndNotThePrintedTable(t *testing.T) {
	type row struct {
		Name string  `json:"name"`
		Rate float64 `json:"rate"`
	}
	var out bytes.Buffer
	a := &app{out: &out, output: "csv"}
	if err := a.show(listing{head: []string{"what"}, rows: [][]string{{"12 %"}}, raw: []row{{"x", 0.123456789}}}); err != nil ||
		out.String() != "name,rate\nx,0.123456789\n" {
		t.Errorf("%v %q", err, out.String())
	}
	out.Reset()
	if err := a.show(listing{head: []string{"fact"}, rows: [][]string{{"it"}}, raw: map[string]int{}}); err != nil ||
		out.String() != "fact\nit\n" {
		t.Errorf("what is no list: %v %q", err, out.String())
	}
}

func TestTimesSayWhoseClocksTheyAre(t *testing.T) {
	at := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for zone, want := range map[string]string{"": "1 Jun 09:00 ADT", "UTC": "1 Jun 12:00 UTC", "Asia/Tokyo": "1 Jun 21:00 JST"} {
		a := &app{zone: zone}
		if got := a.local(at, "America/Halifax"); got != want {
			t.Errorf("%q: %s, want %s", zone, got, want)
		}
	}
}

func TestPeriodsLongerThanADayAreDatedWithTheirYear(t *testing.T) {
	at := time.Date(2026, 6, 1, 3, 0, 0, 0, time.UTC)
	a := &app{}
	for period, want := range map[int64]string{3600: "1 Jun 00:00 ADT", 86400: "1 Jun 00:00 ADT", 604800: "1 Jun 2026", 2592000: "1 Jun 2026"} {
		if got := a.dated(at, "America/Halifax", period); got != want {
			t.Errorf("a period of %d s: %s, want %s", period, got, want)
		}
	}
}

func TestEveryCommandKnowsQuietAndWhatItsWordsMean(t *testing.T) {
	a := &app{out: &bytes.Buffer{}, errors: &bytes.Buffer{}}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		if f := c.Flag("quiet"); f == nil || f.Shorthand != "q" || f.Value.Type() != "bool" {
			t.Errorf("%s: -q is something else", c.CommandPath())
		}
		if c.HasSubCommands() && c.Name() != "completion" && c.Name() != "help" && c.Name() != "score" &&
			c.Name() != "audit" { // which answer by themselves
			if err := c.RunE(c, []string{"nonsense"}); err == nil || !strings.Contains(err.Error(),
				fmt.Sprintf("there is no command %q", c.CommandPath()+" nonsense")) {
				t.Errorf("%s nonsense: %v", c.CommandPath(), err)
			}
		}
		for _, child := range c.Commands() {
			each(child)
		}
	}
	each(a.root())
	for _, args := range [][]string{{"montor"}, {"monitor", "sho"}, {"alert", "list", "--zone", "Atlantis"},
		{"alert", "list", "--nonsense"}, {"alert", "show"}, {"metric", "list", "--output", "xml"}} {
		var out, problems bytes.Buffer
		if code := Main(args, &out, &problems); code != exitUsage || problems.Len() == 0 || out.Len() > 0 {
			t.Errorf("%v: exit %d, %q", args, code, problems.String())
		}
	}
}
