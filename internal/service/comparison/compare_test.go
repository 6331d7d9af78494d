package comparison_test

import (
	"math/rand/v2"
	"net/url"
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
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// ten weeks of trips end the day before now.
var began = time.Date(2026, 4, 9, 3, 0, 0, 0, time.UTC)

const weeksBack = 70

// drifted are trips whose fares double from a day on, and that come in a new
// version that ranks nothing.
func drifted(from int) []trip {
	return trips(rand.New(rand.NewPCG(5, 5)), began, weeksBack, 150, func(day int, v *trip) {
		if day >= from {
			if v.Fare != nil {
				*v.Fare *= 2
			}
			v.Version = "v2"
			if v.Missed != nil {
				*v.Missed = v.Booking%4 == 0
			}
		}
	})
}

func settings() record.ComparisonSettings {
	return record.ComparisonSettings{TimeColumn: "scored_at", Period: "week", Score: "score", Version: "version", Outcome: "missed", Key: "booking", LeaveOut: record.Strings{"answer", "booking"}, SampleRows: 400}
}

// ran has a comparison computed and gives what it came to.
func ran(t *testing.T, s *dbtest.Service, name string, all bool) compare.Matrix {
	t.Helper()
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/"+name+"/run", httpapi.DriftOrder{All: all}, &started))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	s.Settle(t)
	return shown(t, s, name)
}

func shown(t *testing.T, s *dbtest.Service, name string) (m compare.Matrix) {
	t.Helper()
	dbtest.Must(t, s.Admin.Get(t.Context(), "/drift/"+name, url.Values{"from": {"2020-01-01T00:00:00Z"}}, &m))
	return m
}

// overIn are the features over their limits in a period, by its place.
func overIn(m compare.Matrix, period int) (list []string) {
	for _, r := range m.Rows {
		if r.Cells[period].State == drift.Over {
			list = append(list, r.Feature)
		}
	}
	slices.Sort(list)
	return list
}

func TestAComparisonFindsWhatDriftedRingsAndIsLabelled(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	house(t, s, drifted(56))
	in := httpapi.NewComparison{Name: "trips", Dataset: "public.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	m := ran(t, s, "trips", false)
	last := len(m.Periods) - 1
	if len(m.Periods) != 5 || m.State != "ready" || m.Owner != "Models" {
		t.Fatalf("%d periods, %s: %s", len(m.Periods), m.State, m.Message)
	}
	if got := overIn(m, last); !slices.Equal(got, []string{"fare"}) || m.Rows[0].Feature != "fare" || m.Rows[0].Importance < 0.5 {
		t.Errorf("over in the last week are %v, the first row is %s with importance %.2f", got, m.Rows[0].Feature, m.Rows[0].Importance)
	}
	for i := range 2 {
		if got := overIn(m, i); len(got) > 0 {
			t.Errorf("week %d is clean, over are %v", i, got)
		}
	}
	if sep := m.Periods[last].Separability; sep == nil || sep.Score <= sep.Limit || m.Periods[0].Separability.Score > m.Periods[0].Separability.Limit {
		t.Errorf("separability %+v after, %+v before", sep, m.Periods[0].Separability)
	}
	if !strings.HasPrefix(m.Sentence, "One of 6 features has drifted since model v2: fare") || !strings.Contains(m.Detail, "v2 ranks worse") {
		t.Errorf("it says: %s. %s", m.Sentence, m.Detail)
	}

	t.Run("a feature's distributions lie over each other", func(t *testing.T) {
		var d compare.Distributions
		dbtest.Must(t, s.Admin.Get(t.Context(), "/drift/trips/features/fare", nil, &d))
		was, is := 0.0, 0.0
		for _, b := range d.Bars {
			was, is = was+b.Reference, is+b.Period
		}
		if was < 0.999 || is < 0.999 || d.Streak != 2 || d.Result.Gained == nil || d.Result.Gained.From < d.Result.Lost.From || !strings.HasPrefix(d.Sentence, "fare: ") {
			t.Errorf("bars hold %.3f and %.3f; streak %d; %s", was, is, d.Streak, d.Sentence)
		}
		if err := s.Admin.Get(t.Context(), "/drift/trips/features/nope", nil, &d); err == nil || !strings.Contains(err.Error(), "fare") {
			t.Errorf("a feature that is not there: %v", err)
		}
		if err := s.Admin.Get(t.Context(), "/drift/trips/features/fare", url.Values{"at": {"2026-01-01T00:00:00Z"}}, &d); err == nil || !strings.Contains(err.Error(), "2026-01-01") {
			t.Errorf("a period that is not there: %v", err)
		}
	})

	t.Run("every figure is a series, the one beside its limit rings", func(t *testing.T) {
		var series []record.Series
		for _, name := range []string{"psi", "jensen-shannon", "ks", "wasserstein", "chi-square", "missing", "outside", "new", "vanished", "mean", "sd", "min", "max", "separability", "over", "score", "above", "missing-input", "auc", "calibration"} {
			dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/trips-drift-"+name+"/series", nil, &series))
			if len(series) == 0 {
				t.Errorf("%s has no series", name)
			}
		}
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"dataset": {"public.trips"}, "state": {"open"}}, &page))
		i := slices.IndexFunc(page.Alerts, func(a record.Alert) bool { return a.Segment == "fare" })
		if i < 0 {
			t.Fatalf("no alert about fare among %+v", page.Alerts)
		}
		a := page.Alerts[i]
		if a.Comparison != "trips" || a.Monitor != "trips-drift" || !strings.HasPrefix(a.Sentence, "fare has drifted: ") || !a.Since.Equal(time.Date(2026, 6, 7, 3, 0, 0, 0, time.UTC)) {
			t.Errorf("the alert is %+v", a)
		}
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", map[string]any{"alerts": []int64{a.ID}, "verdict": "fault"}, nil))
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"dataset": {"public.trips"}}, &page))
		if i := slices.IndexFunc(page.Alerts, func(x record.Alert) bool { return x.ID == a.ID }); page.Alerts[i].Verdict != "fault" {
			t.Errorf("labelled, it is %+v", page.Alerts[i])
		}
	})

	t.Run("the model's versions are told apart", func(t *testing.T) {
		var v compare.ModelView
		dbtest.Must(t, s.Admin.Get(t.Context(), "/drift/trips/models", nil, &v))
		if len(v.Versions) != 1 || v.Versions[0].Version != "v2" || v.Versions[0].Same || v.Versions[0].Concept == nil || v.Versions[0].Concept.High >= 0 {
			t.Fatalf("the last week's versions: %+v", v.Versions)
		}
		rows := int64(0)
		for _, p := range v.Versions[0].Calibration {
			rows += p.Rows
		}
		if len(v.Periods) != 5 || rows != v.Versions[0].Quality.Rows || len(v.Versions[0].Bars) == 0 {
			t.Errorf("%d periods; calibration of %d rows, quality of %d", len(v.Periods), rows, v.Versions[0].Quality.Rows)
		}
	})

	t.Run("any two features are looked at together", func(t *testing.T) {
		var v compare.PairView
		dbtest.Must(t, s.Admin.Get(t.Context(), "/drift/trips/pair", url.Values{"first": {"fare"}, "second": {"channel"}}, &v))
		if v.Found.First != "fare" || v.Found.Second != "channel" || v.Rows.Rows != 400 || v.Found.Beyond > v.Found.Limit || len(v.Found.Expected) != len(v.Found.Period) {
			t.Errorf("fare and channel: %+v", v)
		}
		for given, want := range map[string]string{"fare": "other than the first", "nope": "channel"} {
			if err := s.Admin.Get(t.Context(), "/drift/trips/pair", url.Values{"first": {"fare"}, "second": {given}}, &v); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("fare and %s: %v", given, err)
			}
		}
	})

	t.Run("figures are exported", func(t *testing.T) {
		var b strings.Builder
		dbtest.Must(t, s.Admin.Fetch(t.Context(), "/drift/trips/export", &b))
		if lines := strings.Split(strings.TrimSpace(b.String()), "\n"); lines[0] != "from,to,feature,state,measure,value,limit" || len(lines) < 100 || !strings.Contains(b.String(), ",fare,over,psi,") {
			t.Errorf("%d lines: %s", len(lines), lines[0])
		}
	})

	// Another reference, and everything follows; what is set again as it is stays.
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/trips/reference", httpapi.NewReference{From: "2026-06-08", To: "2026-06-14"}, nil))
	m = ran(t, s, "trips", false)
	if got := overIn(m, 0); len(m.Periods) != 9 || !slices.Contains(got, "fare") || m.Periods[8].To.After(time.Date(2026, 6, 8, 4, 0, 0, 0, time.UTC)) {
		t.Errorf("against the last week %d periods, first over are %v", len(m.Periods), got)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/drift/trips", nil, nil))
	if err := s.Admin.Get(t.Context(), "/drift/trips", nil, &m); err == nil {
		t.Error("the comparison is still there")
	}
}

func TestAnAnswerMayBeACategory(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	list := drifted(1000)
	for i := range list {
		if !list[i].At.Before(time.Date(2026, 6, 8, 3, 0, 0, 0, time.UTC)) {
			list[i].Answer = "no-show" // whatever is asked
		}
	}
	house(t, s, list)
	in := httpapi.NewComparison{Name: "answers", Dataset: "public.trips", ComparisonSettings: settings()}
	in.Score, in.LeaveOut = "answer", record.Strings{"score", "booking"}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	m := ran(t, s, "answers", false)
	if got := overIn(m, len(m.Periods)-1); !slices.Equal(got, []string{"answer"}) || len(overIn(m, 0)) > 0 {
		t.Errorf("over in the last week are %v (%s %s)", got, m.State, m.Message)
	}
	var v compare.ModelView
	dbtest.Must(t, s.Admin.Get(t.Context(), "/drift/answers/models", nil, &v))
	if len(v.Versions) != 1 || v.Versions[0].Classes["no-show"] != 1 || v.Versions[0].Scores.State != drift.Over || v.Versions[0].Quality != nil {
		t.Errorf("the last week's answers: %+v", v.Versions)
	}
	if was := v.Periods[0].Models[0].Classes; was["no-show"] < 0.1 || was["no-show"] > 0.5 || was["no-show"]+was["shows up"] < 0.999 {
		t.Errorf("the first week's answers: %v", was)
	}
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/answers-drift-class/series", nil, &series))
	if len(series) != 2 || series[0].Segment != "v1 / no-show" {
		t.Errorf("the share of each answer is a series: %+v", series)
	}
	// Any other figure can be watched too, by a band of its own history.
	monitor := map[string]any{"name": "answers-psi", "metric": "answers-drift-psi", "settings": record.DefaultSettings()}
	if err := s.Admin.Send(t.Context(), "POST", "/monitors", monitor, nil); err != nil {
		t.Errorf("a monitor on PSI: %v", err)
	}
}

func TestOnlyNewPeriodsAreJudgedAndLateRowsCount(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	list := drifted(1000)
	conn := house(t, s, list[:63*150])
	s.Clock.Set(now.AddDate(0, 0, -7))
	in := httpapi.NewComparison{Name: "trips", Dataset: "public.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	before := ran(t, s, "trips", false)

	// A week later its rows are there, and some of the week before came late; an
	// old week's rows changed, which is not looked at again.
	insert(t, conn, list[63*150:])
	late := list[55*150 : 55*150+90]
	insert(t, conn, late)
	_, err := conn.Exec(t.Context(), `delete from trips where scored_at < '2026-05-20' and scored_at >= '2026-05-15'`)
	dbtest.Must(t, err)
	s.Clock.Set(now)
	after := ran(t, s, "trips", false)
	n := len(before.Periods)
	if len(after.Periods) != n+1 {
		t.Fatalf("%d periods after %d", len(after.Periods), n)
	}
	for i := range n - 1 {
		if after.Periods[i].Rows != before.Periods[i].Rows {
			t.Errorf("period %d was judged again: %d rows, %d before", i, after.Periods[i].Rows, before.Periods[i].Rows)
		}
	}
	if got := after.Periods[n-1].Rows - before.Periods[n-1].Rows; got != int64(len(late)) {
		t.Errorf("%d late rows were counted of %d", got, len(late))
	}
	all := ran(t, s, "trips", true)
	if got := before.Periods[0].Rows - all.Periods[0].Rows; got <= 0 {
		t.Errorf("judged anew, the first period has %d rows fewer", got)
	}
}

func TestARunGoesOnWhereItWasCutOff(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := house(t, s, drifted(56))
	// The service's database refuses what periods come to: the run fails after it
	// has counted.
	exec := func(sql string) {
		t.Helper()
		_, err := s.Parts.Store.Pool.Exec(t.Context(), sql)
		dbtest.Must(t, err)
	}
	exec(`create function refuse() returns trigger language plpgsql as $$ begin raise 'the disk is full'; end $$`)
	exec(`create trigger refuse before insert on drift_period for each row execute function refuse()`)
	in := httpapi.NewComparison{Name: "trips", Dataset: "public.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/trips/run", httpapi.DriftOrder{}, &started))
	if err := s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}); err == nil || !strings.Contains(err.Error(), "the disk is full") {
		t.Fatalf("the run should have failed: %v", err)
	}
	if m := shown(t, s, "trips"); m.State != "failed" || !strings.Contains(m.Message, "the disk is full") || len(m.Periods) != 0 {
		t.Errorf("%s: %s, %d periods", m.State, m.Message, len(m.Periods))
	}
	// What was counted is not read again: rows that vanish meanwhile are in.
	_, err := conn.Exec(t.Context(), `delete from trips where scored_at < '2026-05-30' and scored_at >= '2026-05-15'`)
	dbtest.Must(t, err)
	exec(`drop trigger refuse on drift_period`)
	m := ran(t, s, "trips", false)
	if m.State != "ready" || len(m.Periods) != 5 || m.Periods[0].Rows != 7*150 {
		t.Errorf("%s, %d periods, the first of %d rows", m.State, len(m.Periods), m.Periods[0].Rows)
	}
}

func TestOneRunAtATimeAndNoneForWhatWasReplaced(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	house(t, s, drifted(56))
	in := httpapi.NewComparison{Name: "trips", Dataset: "public.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	ran(t, s, "trips", false)
	old, err := s.Parts.Store.Comparison(t.Context(), "trips")
	dbtest.Must(t, err)
	release, held, err := s.Parts.Store.HoldComparison(t.Context(), old.ID)
	if dbtest.Must(t, err); !held {
		t.Fatal("nobody else should hold it")
	}
	var started, again httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/trips/run", httpapi.DriftOrder{All: true}, &started))
	dbtest.Must(t, s.Parts.Comparer.Run(t.Context(), "trips"))
	if m := shown(t, s, "trips"); len(m.Periods) != 0 || m.State != "new" {
		t.Errorf("while another has it nothing is computed, but %d periods are there", len(m.Periods))
	}
	// A second order is served by the same run.
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/trips/run", httpapi.DriftOrder{}, &again))
	if again.TaskID != started.TaskID {
		t.Errorf("task %d, then %d", started.TaskID, again.TaskID)
	}
	release()
	dbtest.Must(t, s.Parts.Comparer.Run(t.Context(), "trips"))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	if m := shown(t, s, "trips"); len(m.Periods) != 5 {
		t.Errorf("%d periods", len(m.Periods))
	}
	// What a run read before it was set anew does not count.
	if _, err := s.Parts.Store.Ran(t.Context(), old); err == nil {
		t.Error("a run of what was replaced was kept")
	}
}

func TestOtherReferences(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	house(t, s, drifted(56))
	for name, c := range map[string]struct {
		change  func(*record.ComparisonSettings)
		periods int
		over    string
	}{
		"moving": {func(v *record.ComparisonSettings) { v.ReferenceDays = 28 }, 5, "fare"},
		"days":   {func(v *record.ComparisonSettings) { v.Period, v.ReferenceDays = "day", 14 }, 56, ""},
		"a query": {func(v *record.ComparisonSettings) {
			v.ReferenceQuery = "select * from trips where version = 'v2'; -- the new one"
		}, 10, ""},
		"a month": {func(v *record.ComparisonSettings) {
			v.Period = "month"
			v.ReferenceFrom, v.ReferenceTo = "2026-04-10", "2026-04-30"
		}, 1, ""},
	} {
		t.Run(name, func(t *testing.T) {
			in := httpapi.NewComparison{Name: name, Dataset: "public.trips", ComparisonSettings: settings()}
			c.change(&in.ComparisonSettings)
			dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
			m := ran(t, s, url.PathEscape(name), false)
			if len(m.Periods) != c.periods {
				t.Fatalf("%d periods (%s %s), wanted %d", len(m.Periods), m.State, m.Message, c.periods)
			}
			at := len(m.Periods) - 1
			if name == "moving" {
				at-- // after it the reference has moved over the change
			}
			got := overIn(m, at)
			if c.over != "" && !slices.Contains(got, c.over) || c.over == "" && len(got) > 0 {
				t.Errorf("over are %v, wanted %q", got, c.over)
			}
			if name == "a query" && !slices.Contains(overIn(m, 0), "fare") {
				t.Errorf("against the new version the first week is as expected")
			}
		})
	}
}

func TestFilesOfADatasetAreComparedToo(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	folder := dbtest.Folder(t)
	list := drifted(56)
	for week := range weeksBack / 7 {
		part := list[week*7*150 : (week+1)*7*150]
		path := filepath.Join(folder, "trips-"+part[0].At.Format(time.DateOnly))
		if week%2 == 0 {
			writeCSV(t, path+".csv", part)
			path += ".csv"
		} else {
			path += ".parquet"
			dbtest.Must(t, parquet.WriteFile(path, part))
		}
		landed := part[len(part)-1].At.Add(time.Hour)
		dbtest.Must(t, os.Chtimes(path, landed, landed))
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "landing", Address: folder}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "landing", Name: "landing.trips", Pattern: "trips-*", Zone: "America/Halifax"}, nil))
	in := httpapi.NewComparison{Name: "files", Dataset: "landing.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	m := ran(t, s, "files", false)
	if len(m.Periods) != 5 || !slices.Equal(overIn(m, 4), []string{"fare"}) || m.Periods[4].Rows != 7*150 {
		t.Fatalf("%d periods, %s: %s", len(m.Periods), m.State, m.Message)
	}
	in.Query = "select 1"
	if err := s.Admin.Send(t.Context(), "POST", "/drift", in, nil); err == nil || !strings.Contains(err.Error(), "is files") {
		t.Errorf("a query of files: %v", err)
	}
}

func TestWhatCannotBeComparedIsRefusedWithAReason(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := house(t, s, drifted(1000)[:500])
	_, err := conn.Exec(t.Context(), `
		create type mood as enum ('calm', 'rough');
		create table odd (day date, due date, nothing int, constant int, words text[], doc jsonb, mood mood, ride_id int, loaded_at timestamptz);
		insert into odd select date '2026-05-01' + i % 40, date '2026-05-03' + i % 40, null, 7, '{a}', '{}', 'calm', i, now() from generate_series(1, 4000) i`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: "public.odd", Zone: "America/Halifax"}, nil))
	good := func() httpapi.NewComparison {
		return httpapi.NewComparison{Name: "odd", Dataset: "public.odd", ComparisonSettings: record.ComparisonSettings{TimeColumn: "day", Period: "day"}}
	}
	for want, change := range map[string]func(*httpapi.NewComparison){
		"a name of its own":               func(c *httpapi.NewComparison) { c.Name = "a/b" },
		`one of "day, week, month"`:       func(c *httpapi.NewComparison) { c.Period = "hour" },
		"over 0 up to 0.1":                func(c *httpapi.NewComparison) { c.Accept = 0.5 },
		"200 to 50000":                    func(c *httpapi.NewComparison) { c.SampleRows = 5 },
		"not both":                        func(c *httpapi.NewComparison) { c.ReferenceDays, c.ReferenceFrom = 7, "2026-05-01" },
		"RFC 3339 date (given: May)":      func(c *httpapi.NewComparison) { c.ReferenceFrom = "May" },
		"a day from 2026-05-09 on":        func(c *httpapi.NewComparison) { c.ReferenceFrom, c.ReferenceTo = "2026-05-09", "2026-05-01" },
		"column with the model's score":   func(c *httpapi.NewComparison) { c.Outcome = "nothing" },
		"column with each row's time":     func(c *httpapi.NewComparison) { c.TimeColumn = "" },
		"a column that holds times":       func(c *httpapi.NewComparison) { c.TimeColumn = "constant" },
		"a column that is there":          func(c *httpapi.NewComparison) { c.Features = record.Strings{"nope"} },
		"at least one column":             func(c *httpapi.NewComparison) { c.Features = record.Strings{"words"} },
		"no dataset named":                func(c *httpapi.NewComparison) { c.Dataset = "public.nope" },
		"a dataset and a query":           func(c *httpapi.NewComparison) { c.ReferenceQuery, c.ReferenceDataset = "select 1", "public.trips" },
		"the warehouse answered":          func(c *httpapi.NewComparison) { c.Query = "select nonsense" },
		"cannot insert multiple commands": func(c *httpapi.NewComparison) { c.Query = "select 1) as x; drop table odd; select * from (select 1" },
	} {
		in := good()
		change(&in)
		if err := s.Admin.Send(t.Context(), "POST", "/drift", in, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q: %v", want, err)
		}
	}

	var v record.Comparison
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift/proposals", good(), &v))
	why := map[string]string{}
	for _, f := range v.Features {
		why[f.Name] = string(f.Kind) + " " + f.Why
	}
	for column, want := range map[string]string{"day": "time the row's own time", "due": "time ", "nothing": "number ", "words": " values of type text[] are not compared", "doc": " values of type jsonb are not compared", "mood": "category ", "ride_id": "number it names rows", "loaded_at": "time when the row was loaded"} {
		if why[column] != want {
			t.Errorf("%s: %q, wanted %q", column, why[column], want)
		}
	}
	if _, err := s.Parts.Store.Comparison(t.Context(), "odd"); err == nil {
		t.Error("a proposal was kept")
	}

	// What is always null or always the same is no drift, and breaks nothing.
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", good(), nil))
	m := ran(t, s, "odd", false)
	if m.State != "ready" || len(m.Periods) < 5 {
		t.Fatalf("%s: %s, %d periods", m.State, m.Message, len(m.Periods))
	}
	for _, r := range m.Rows {
		cell := r.Cells[0]
		if want := map[bool]string{true: drift.TooFew, false: drift.AsExpected}[r.Feature == "nothing"]; cell.State != want || r.Feature == "nothing" && !strings.Contains(cell.Why, "0 values") {
			t.Errorf("%s is %s: %s", r.Feature, cell.State, cell.Why)
		}
	}
	// A table without rows waits for its first.
	_, err = conn.Exec(t.Context(), `truncate odd`)
	dbtest.Must(t, err)
	if m = ran(t, s, "odd", true); m.State != "new" || !strings.Contains(m.Sentence, "no rows yet") {
		t.Errorf("without rows: %s, %s", m.State, m.Sentence)
	}
}

func TestAComparisonsFiguresAreMetricsAskedForAndItsFailureAnAlert(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := house(t, s, drifted(56))
	in := httpapi.NewComparison{Name: "trips", Dataset: "public.trips", ComparisonSettings: settings()}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/drift", in, nil))
	ran(t, s, "trips", false)
	var plain, all []record.Metric
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics", nil, &plain))
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics", url.Values{"drift": {"true"}, "dataset": {"public.trips"}}, &all))
	if len(plain) != 0 || len(all) < 10 {
		t.Errorf("a plain list has %d metrics, the comparison's figures are %d", len(plain), len(all))
	}
	rename := func(from, to string) {
		t.Helper()
		_, err := conn.Exec(t.Context(), `alter table trips rename column `+from+` to `+to)
		dbtest.Must(t, err)
	}
	tried := func() []record.Alert {
		t.Helper()
		_, err := s.Parts.Store.Pool.Exec(t.Context(), `update comparison set next_at = $1`, s.Clock.Now())
		dbtest.Must(t, err)
		dbtest.Must(t, s.Parts.Comparer.Run(t.Context(), "trips"))
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"dataset": {"public.trips"}}, &page))
		list := []record.Alert{}
		for _, a := range page.Alerts {
			if a.Cause == record.CauseComparison {
				list = append(list, a)
			}
		}
		return list
	}
	rename("fare", "price")
	s.Clock.Set(now.Add(24 * time.Hour))
	if list := tried(); len(list) != 0 {
		t.Errorf("one run that fails is no alert yet: %v", list)
	}
	s.Clock.Set(now.Add(25 * time.Hour))
	list := tried()
	if len(list) != 1 || list[0].ClosedAt != nil || list[0].Comparison != "trips" || !list[0].Since.Equal(now.Add(24*time.Hour)) || !strings.Contains(list[0].Sentence, "public.trips cannot be compared with its reference (trips): the warehouse answered: column \"fare\" does not exist") {
		t.Fatalf("%+v", list)
	}
	rename("price", "fare")
	s.Clock.Set(now.Add(26 * time.Hour))
	if list = tried(); len(list) != 1 || list[0].ClosedAt == nil || !list[0].ClosedAt.Equal(now.Add(26*time.Hour)) {
		t.Errorf("%+v", list)
	}
}
