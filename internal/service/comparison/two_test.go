package comparison_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

// files puts trips into files and opens them.
func files(t testing.TB, lists map[string][]trip) map[string]*compare.Files {
	t.Helper()
	dir, all := t.TempDir(), map[string]*compare.Files{}
	for name, list := range lists {
		path := filepath.Join(dir, name)
		if strings.HasSuffix(name, ".csv") {
			writeCSV(t, path, list)
		} else {
			dbtest.Must(t, parquet.WriteFile(path, list))
		}
		f, err := compare.FilesAt(path)
		dbtest.Must(t, err)
		all[name] = f
	}
	return all
}

func TestTwoFilesAreComparedWithoutAService(t *testing.T) {
	t.Parallel()
	fares := func(_ int, v *trip) {
		if v.Fare != nil {
			*v.Fare *= 1.6
		}
	}
	f := files(t, map[string][]trip{
		"before.csv":    trips(rand.New(rand.NewPCG(1, 1)), began, 28, 100, nil),
		"after.parquet": trips(rand.New(rand.NewPCG(1, 2)), began.AddDate(0, 0, 28), 14, 100, fares),
		"clean.parquet": trips(rand.New(rand.NewPCG(1, 3)), began.AddDate(0, 0, 28), 14, 100, nil),
	})
	leave := record.Strings{"booking", "answer", "score", "missed", "version"}
	zone := time.FixedZone("Halifax in summer", -3*3600)
	var steps int
	o, err := compare.Two(t.Context(), f["before.csv"], f["after.parquet"], record.ComparisonSettings{TimeColumn: "scored_at",
		LeaveOut: leave}, zone, true, func(done, total int) {
		if done < steps || total != 4 {
			t.Errorf("step %d of %d after %d", done, total, steps)
		}
		steps = done
	})
	dbtest.Must(t, err)
	if len(o.Periods) != 1 || steps != 4 || len(o.Notes) != 0 {
		t.Fatalf("%d periods, %d steps, notes %v", len(o.Periods), steps, o.Notes)
	}
	found := o.Periods[0].Found
	over := func(found record.DriftResult) (list []string) {
		for _, v := range found.Features {
			if v.State == drift.Over {
				list = append(list, v.Feature)
			}
		}
		return list
	}
	if got := over(found); !slices.Equal(got, []string{"fare"}) || found.Separability == nil ||
		found.Separability.Score < found.Separability.Limit {
		t.Errorf("over are %v, separability %+v", got, found.Separability)
	}
	d := o.Distributions("", zone)
	if d.Result.Feature != "fare" || len(d.Bars) == 0 || !strings.HasPrefix(d.Sentence, "fare: ") {
		t.Errorf("the most drifted feature is shown: %s, %s", d.Result.Feature, d.Sentence)
	}

	// Day by day, and without drift.
	o, err = compare.Two(t.Context(), f["before.csv"], f["clean.parquet"], record.ComparisonSettings{TimeColumn: "scored_at",
		Period: "day", LeaveOut: leave}, zone, false, nil)
	dbtest.Must(t, err)
	flagged := 0
	for _, p := range o.Periods {
		flagged += p.Found.Over
	}
	if len(o.Periods) < 14 || flagged > 1 {
		t.Errorf("%d days, %d features flagged", len(o.Periods), flagged)
	}

	// What is in both hides drift, and one file stands for both only in part.
	o, err = compare.Two(t.Context(), f["before.csv"], f["before.csv"], record.ComparisonSettings{TimeColumn: "scored_at",
		Period: "week", LeaveOut: leave, ReferenceFrom: "2026-04-09", ReferenceTo: "2026-04-21"}, zone, false, nil)
	dbtest.Must(t, err)
	if len(o.Periods) != 2 || len(o.Notes) != 1 || !strings.Contains(o.Notes[0], "not judged: the reference touches them") {
		t.Errorf("%d weeks are left, notes %v", len(o.Periods), o.Notes)
	}
	_, err = compare.Two(t.Context(), f["before.csv"], f["before.csv"], record.ComparisonSettings{TimeColumn: "scored_at",
		Period: "month", LeaveOut: leave, ReferenceFrom: "2026-04-09", ReferenceTo: "2026-05-05"}, zone, false, nil)
	if err == nil || !strings.Contains(err.Error(), "a whole period of their own") {
		t.Errorf("nothing is left beside the reference: %v", err)
	}
	twice := files(t, map[string][]trip{"again.csv": trips(rand.New(rand.NewPCG(1, 9)), began.AddDate(0, 0, 20), 14, 100, nil)})
	o, err = compare.Two(t.Context(), f["before.csv"], twice["again.csv"], record.ComparisonSettings{TimeColumn: "scored_at",
		LeaveOut: leave}, zone, false, nil)
	dbtest.Must(t, err)
	if len(o.Notes) != 1 || !strings.Contains(o.Notes[0], "share days") {
		t.Errorf("reference and period overlap: %v", o.Notes)
	}
}

func TestAFeatureOnOneSideOnlyIsSaidToBe(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, content string) *compare.Files {
		t.Helper()
		path := filepath.Join(dir, name)
		dbtest.Must(t, os.WriteFile(path, []byte(content), 0o644))
		f, err := compare.FilesAt(path)
		dbtest.Must(t, err)
		return f
	}
	rows := func(head, row string) string { return head + "\n" + strings.Repeat(row+"\n", 50) }
	a, b := write("a.csv", rows("x,gone", "1,2")), write("b.csv", rows("fresh,x", "2,1"))
	o, err := compare.Two(t.Context(), a, b, record.ComparisonSettings{}, time.UTC, true, nil)
	dbtest.Must(t, err)
	if len(o.Features) != 3 || o.Features[1].Why != "only the reference has it" || o.Features[2].Name != "fresh" ||
		o.Features[2].Why == "" || len(o.Periods[0].Found.Features) != 1 {
		t.Errorf("features: %+v", o.Features)
	}
	if v := o.Periods[0].Found.Features[0]; v.State != drift.AsExpected {
		t.Errorf("x is %s: %s", v.State, v.Why)
	}
	for name, c := range map[string]struct {
		first, second *compare.Files
		settings      record.ComparisonSettings
		want          string
	}{
		"nothing in common":   {a, write("c.csv", rows("y", "1")), record.ComparisonSettings{}, "one column that both have: x, gone"},
		"no such time":        {a, b, record.ComparisonSettings{TimeColumn: "when"}, "a column that is there: x, gone"},
		"half a reference":    {a, b, record.ComparisonSettings{ReferenceFrom: "2026-05-01"}, "a day from 2026-05-01 on"},
		"an empty file":       {a, write("e.csv", ""), record.ComparisonSettings{}, "is empty"},
		"a head without rows": {write("h.csv", "x,gone\n"), b, record.ComparisonSettings{}, ""},
		"three rows":          {a, write("t.csv", "x\n1\n2\n3\n"), record.ComparisonSettings{}, ""},
		"a line too short":    {a, write("s.csv", "x,y\n1,2\n3\n"), record.ComparisonSettings{}, "s.csv, line 3"},
		"time in one of twain": {write("w.csv", rows("x,at", "1,2026-05-01T00:00:00Z")), a,
			record.ComparisonSettings{TimeColumn: "at"}, "a column of " + filepath.Join(dir, "a.csv")},
	} {
		o, err := compare.Two(t.Context(), c.first, c.second, c.settings, time.UTC, true, nil)
		if c.want != "" {
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, wanted %q", name, err, c.want)
			}
			continue
		}
		dbtest.Must(t, err)
		if v := o.Periods[0].Found; v.Features[0].State != drift.TooFew && v.Features[0].State != drift.NotComparable || v.Message == "" {
			t.Errorf("%s: %s (%s), %q", name, v.Features[0].State, v.Features[0].Why, v.Message)
		}
	}
	if _, err := compare.FilesAt(filepath.Join(dir, "nope-*.csv")); err == nil || !strings.Contains(err.Error(), "nope") {
		t.Errorf("files that are not there: %v", err)
	}
}
