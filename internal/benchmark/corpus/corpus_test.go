package corpus

import (
	"compress/gzip"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/core/detect"
)

var start = time.Date(2025, 3, 3, 0, 0, 0, 0, time.UTC)

// folder writes a history of two hourly series: rows of a dataset and a share of
// them. The rows stop twice after the split, once under a planned event.
func folder(t *testing.T, change func(files map[string]string)) string {
	t.Helper()
	rng := rand.New(rand.NewPCG(2, 4))
	at := func(h int) string { return start.Add(time.Duration(h) * time.Hour).Format(time.RFC3339) }
	const hours, split = 70 * 24, 56 * 24
	var b strings.Builder
	b.WriteString("series_id,at,value\n")
	for h := range hours {
		rows := math.Round(200 * (1.2 + math.Sin(float64(h)/24*2*math.Pi)) * (1 + 0.05*rng.NormFloat64()))
		if h >= split+50 && h < split+60 || h >= split+150 && h < split+158 {
			rows = 0
		}
		fmt.Fprintf(&b, "gate.rows,%s,%.0f\n", at(h), rows)
		if rows > 0 && h%97 != 0 {
			fmt.Fprintf(&b, "gate.nulls,%s,%.4f\n", at(h), math.Round(rows*0.02)/rows)
		}
	}
	line := func(id, metric, kind string) string {
		return fmt.Sprintf("%s,gate,%s,,%s,3600,UTC,%s,%s,%s\n", id, metric, kind, at(0), at(split), at(hours-1))
	}
	files := map[string]string{
		"series.csv": "series_id,dataset,metric,slice,kind,step_seconds,time_zone,first_at,split_at,last_at\n" +
			line("gate.rows", "row_count", "count") + line("gate.nulls", "null_share", "ratio"),
		"samples.csv": b.String(),
		"incidents.csv": "incident_id,series_id,dataset,slice,start,end,fault_kind,severity\nI1,,gate,," + at(split+50) + "," +
			at(split+60) + ",stall,high\nI2,gate.nulls,gate,," + at(split+200) + "," + at(split+210) + ",null_burst,medium\n",
		"events.csv": "name,start,end,dataset,slice\nrepaving," + at(split+150) + "," + at(split+158) + ",gate,\n",
	}
	if change != nil {
		change(files)
	}
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestALabelledHistoryIsJudgedByWhatIsKnown(t *testing.T) {
	dir := folder(t, nil)
	for _, zipped := range []bool{false, true} {
		if zipped {
			text, err := os.ReadFile(filepath.Join(dir, "samples.csv"))
			if err != nil {
				t.Fatal(err)
			}
			f, err := os.Create(filepath.Join(dir, "samples.csv.gz"))
			if err != nil {
				t.Fatal(err)
			}
			w := gzip.NewWriter(f)
			if _, err := w.Write(text); err != nil {
				t.Fatal(err)
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			f.Close()
			os.Remove(filepath.Join(dir, "samples.csv"))
		}
		c, err := Read(dir)
		if err != nil {
			t.Fatal(err)
		}
		if n := len(c.Series[1].History); n != 70*24 {
			t.Fatalf("%d periods of the share", n)
		}
		rang, err := Judge(c, Order{})
		if err != nil {
			t.Fatal(err)
		}
		r := c.Score(rang, 0.03)
		if r.Incidents != 2 || r.Found != 1 || r.False != 0 || math.Abs(r.Stated-0.03*2*14/30) > 1e-9 {
			t.Errorf("zipped %t: found %d of %d, %d false of %.3f stated", zipped, r.Found, r.Incidents, r.False, r.Stated)
		}
		if r.Delay == nil || *r.Delay > 4*3600 {
			t.Errorf("delay %v", r.Delay)
		}
	}
	c, err := Read(dir)
	if err != nil {
		t.Fatal(err)
	}
	rang, err := Judge(c, Order{Unplanned: true})
	if err != nil {
		t.Fatal(err)
	}
	if r := c.Score(rang, 0.03); r.False != 1 || r.Precision().Estimate != 0.5 || r.F1() != 0.5 {
		t.Errorf("an event that it is not told of is a false alarm: %+v", r)
	}
}

func TestAlertsAreMatchedAsDocumented(t *testing.T) {
	c, err := Read(folder(t, nil))
	if err != nil {
		t.Fatal(err)
	}
	split := c.Series[0].Split
	rows, nulls := &c.Series[0], &c.Series[1]
	hour := func(h int64) int64 { return split + h*3600 }
	for name, x := range map[string]struct {
		series   *Series
		from, to int64
		found    int
		wrong    int
	}{
		"on a series of the dataset":                   {nulls, 55, 56, 1, 0},
		"just after, within the tolerance":             {rows, 62, 63, 1, 0},
		"later than that":                              {rows, 64, 65, 0, 1},
		"of one series only, seen on it":               {nulls, 201, 202, 1, 0},
		"of one series only, seen on another":          {rows, 201, 202, 0, 1},
		"open for ever: found once, false in pieces":   {rows, 40, 0, 1, 4},
		"before the split, of which nothing is judged": {rows, -40, -30, 0, 0},
	} {
		a := detect.Alert{Cause: detect.Deviation, Raised: hour(x.from), End: hour(x.to), Closed: hour(x.to)}
		if x.to == 0 {
			a.End, a.Closed = 0, 0
		}
		r := c.Score([]Rang{{x.series, a}}, 0.03)
		if r.Found != x.found || r.False != x.wrong {
			t.Errorf("%s: found %d, false %d", name, r.Found, r.False)
		}
	}
	c.Impacts = []Impact{{Incident: "I2", Dataset: "gate", Start: hour(300), End: hour(310)}}
	if r := c.Score([]Rang{{rows, detect.Alert{Raised: hour(305), End: hour(306), Closed: hour(306)}}}, 0.03); r.Found != 1 ||
		r.False != 0 {
		t.Errorf("where an incident shows downstream: %+v", r)
	}
}

func TestAHistoryThatCannotBeReadSaysWhere(t *testing.T) {
	for want, change := range map[string]func(map[string]string){
		"column kind is missing": func(f map[string]string) {
			f["series.csv"] = strings.Replace(f["series.csv"], "kind", "sort", 1)
		},
		"allowed are count, ratio, value and lateness": func(f map[string]string) {
			f["series.csv"] = strings.Replace(f["series.csv"], ",ratio,", ",percent,", 1)
		},
		"samples.csv, line 3: value \"much\"": func(f map[string]string) {
			lines := strings.Split(f["samples.csv"], "\n")
			lines[2] = "gate.rows,2025-03-03T01:00:00Z,much"
			f["samples.csv"] = strings.Join(lines, "\n")
		},
		"two samples at": func(f map[string]string) {
			f["samples.csv"] += "gate.rows,2025-03-03T01:00:00Z,7\n"
		},
		"is not in series.csv": func(f map[string]string) { f["samples.csv"] += "gait.rows,2025-03-03T01:00:00Z,7\n" },
		"is not a time such as": func(f map[string]string) {
			f["incidents.csv"] = strings.Replace(f["incidents.csv"], "2025-04-30T02:00:00Z", "yesterday", 1)
		},
		"has no series": func(f map[string]string) { f["series.csv"] = strings.SplitAfter(f["series.csv"], "\n")[0] },
	} {
		_, err := Read(folder(t, change))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want an error with %q, got %v", want, err)
		}
	}
}

// The alerts of the earlier half are answered as the incidents have it, the later half is
// judged without the answers and with them, and no answer comes from the later half.
func TestAnswersOfTheEarlierHalfAreWorthSomethingLater(t *testing.T) {
	const split = 56 * 24
	stops := [][2]int{{split + 50, split + 60}, {split + 100, split + 104}, {split + 240, split + 250}, {split + 290, split + 294}}
	at := func(h int) string { return start.Add(time.Duration(h) * time.Hour).Format(time.RFC3339) }
	dir := folder(t, func(files map[string]string) {
		lines := strings.Split(files["samples.csv"], "\n")
		for i, line := range lines {
			for _, stop := range stops {
				for h := stop[0]; h < stop[1]; h++ {
					if strings.HasPrefix(line, "gate.rows,"+at(h)) {
						lines[i] = "gate.rows," + at(h) + ",0"
					}
				}
			}
		}
		files["samples.csv"] = strings.Join(lines, "\n")
		head, _, _ := strings.Cut(files["incidents.csv"], "\n")
		files["incidents.csv"] = head + "\n" // of two stops each half has one that is a fault
		for i, stop := range [][2]int{stops[0], stops[2]} {
			files["incidents.csv"] += fmt.Sprintf("S%d,gate.rows,gate,,%s,%s,stall,high\n", i, at(stop[0]), at(stop[1]))
		}
	})
	c, err := Read(dir)
	if err != nil {
		t.Fatal(err)
	}
	a, err := Answer(c, Order{Budget: 1}, 20, 0.05)
	if err != nil {
		t.Fatal(err)
	}
	if a.Faults < 1 || a.Noise < 1 || a.Answers != a.Faults+a.Noise {
		t.Errorf("one stop was a fault and one was not: %+v", a)
	}
	for name, r := range map[string]Result{"without": a.Without, "with": a.With, "filtered": a.Filtered} {
		if r.Incidents != 1 || r.Found != 1 {
			t.Errorf("%s: %d of %d incidents of the later half", name, r.Found, r.Incidents)
		}
	}
	if a.Filtered.False > a.With.False {
		t.Errorf("a filter made false alarms: %d of %d", a.Filtered.False, a.With.False)
	}
	some, err := Answer(c, Order{Budget: 1}, 1, 0.05)
	if err != nil || some.Answers != 1 || some.Without.False != a.Without.False {
		t.Errorf("one answer: %+v, %v", some, err)
	}
}
