package main

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"tinbell/internal/browser"
	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
)

// program is the built binary with a data directory of its own.
type program struct {
	t    *testing.T
	path string
	dir  string
	port int
	run  *exec.Cmd
	out  *bytes.Buffer
}

// of gives the program as another test has it, beside which this one runs.
func (p *program) of(t *testing.T) *program {
	its := *p
	its.t = t
	return &its
}

// built is the binary that the tests run.
var built struct {
	once      sync.Once
	dir, path string
	err       error
}

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "tinbell-test-")
	if err != nil {
		panic(err)
	}
	built.dir = dir
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func build(t *testing.T) *program {
	t.Helper()
	if _, err := os.Stat("../../web/dist/index.html"); err != nil {
		t.Fatal("the console is not built: run 'make build' first, or 'make test'")
	}
	built.once.Do(func() {
		built.path = filepath.Join(built.dir, "tinbell")
		if out, err := exec.Command("go", "build", "-o", built.path, ".").CombinedOutput(); err != nil {
			built.err = fmt.Errorf("build: %w\n%s", err, out)
		}
	})
	dbtest.Must(t, built.err)
	p := &program{t: t, path: built.path, dir: filepath.Join(dbtest.Folder(t), "demo")}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	dbtest.Must(t, err)
	p.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	return p
}

// start runs the demo until it says that it is ready.
func (p *program) start() {
	p.t.Helper()
	p.out = &bytes.Buffer{}
	log, err := os.Create(filepath.Join(filepath.Dir(p.dir), "log"))
	dbtest.Must(p.t, err)
	p.run = exec.Command(p.path, "demo", "run", "--dir", p.dir, "--listen", fmt.Sprintf("127.0.0.1:%d", p.port))
	p.run.Stdout, p.run.Stderr = log, log
	dbtest.Must(p.t, p.run.Start())
	p.t.Cleanup(p.stop)
	p.await("the demo is ready", 3*time.Minute, func() bool {
		content, _ := os.ReadFile(log.Name())
		return strings.Contains(string(content), "Ctrl-C")
	})
}

func (p *program) stop() {
	if p.run.ProcessState == nil {
		p.run.Process.Signal(syscall.SIGINT)
		p.run.Wait()
	}
}

func (p *program) await(what string, most time.Duration, done func() bool) {
	p.t.Helper()
	for end := time.Now().Add(most); !done(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			content, _ := os.ReadFile(filepath.Join(filepath.Dir(p.dir), "log"))
			p.t.Fatalf("never happened: %s; the program said:\n%s", what, content)
		}
	}
}

// do runs a command beside the demo and gives its output and exit code.
func (p *program) do(args ...string) (string, int) {
	c := exec.Command(p.path, append(args, "--dir", p.dir)...)
	out, _ := c.CombinedOutput()
	return string(out), c.ProcessState.ExitCode()
}

func (p *program) client() *client.Client {
	var known struct{ Server, Token string }
	content, err := os.ReadFile(filepath.Join(p.dir, "client.json"))
	dbtest.Must(p.t, err)
	dbtest.Must(p.t, json.Unmarshal(content, &known))
	return client.New(known.Server, known.Token)
}

func (p *program) open(dataset string) []record.Alert {
	p.t.Helper()
	var page httpapi.AlertPage
	dbtest.Must(p.t, p.client().Get(p.t.Context(), "/alerts", url.Values{"state": {"open"}, "dataset": {dataset}}, &page))
	return page.Alerts
}

// judged gives the open alerts that a monitor raised: what a log says, a late load or
// a changed table has no series to draw, and may come first in the list.
func (p *program) judged(dataset string) []record.Alert {
	p.t.Helper()
	return slices.DeleteFunc(p.open(dataset), func(a record.Alert) bool { return !a.Judged() })
}

func (p *program) score() scorecard.Scorecard {
	p.t.Helper()
	var s scorecard.Scorecard
	dbtest.Must(p.t, p.client().Get(p.t.Context(), "/scorecard", nil, &s))
	return s
}

func TestTheDemoAsANewcomerMeetsIt(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a minute")
	}
	t.Parallel()
	p := build(t)
	p.start()
	if open := p.open(""); len(open) < 3 {
		t.Errorf("the demo should begin with open alerts, has %d", len(open))
	}

	t.Run("what is wrong is told fault by fault, with figures that differ", func(t *testing.T) { faultsApart(t, p) })
	t.Run("why an alert rang is said in the console and on the command line", func(t *testing.T) { whyInConsole(t, p) })
	t.Run("two stages are reconciled in the console", func(t *testing.T) { reconcileInConsole(t, p) })
	t.Run("a broken loader rings within a minute and stops when mended", func(t *testing.T) {
		p.t = t
		for _, args := range [][]string{{"stall", "raw.gate_events"}, {"drop", "ops.boarding_scans", "--segment", "Ansby"}} {
			before := len(p.open(args[1]))
			if out, code := p.do(append([]string{"demo", "break"}, args...)...); code != 0 {
				t.Fatalf("break %v: %s", args, out)
			}
			p.await(args[0]+" is told", time.Minute, func() bool { return len(p.open(args[1])) > before })
		}
		late := func() bool {
			for _, a := range p.open("raw.gate_events") {
				if a.Cause == "overdue" {
					return true
				}
			}
			return false
		}
		p.await("the stalled loader is overdue", time.Minute, late)
		// Its own words and the ports that fall silent are the same fault's, whichever came
		// first; Gullstone's gates were broken before. At night few ports scan, or none.
		p.await("what its log never said is told with it and with the silent ports", time.Minute, func() bool {
			causes, faults := map[string]int{}, map[int64]bool{}
			for _, a := range p.open("raw.gate_events") {
				if a.Segment != "Gullstone" && a.GroupID != nil {
					faults[*a.GroupID] = true
					causes[string(a.Cause)]++
				}
			}
			return causes[string(record.CauseSentence)] == 1 && causes["overdue"] == 1 && len(faults) == 1
		})
		p.do("demo", "mend")
		p.await("the overdue load is back", 90*time.Second, func() bool { return !late() })
	})

	t.Run("an answer by key in the console changes the scorecard, and the CLI agrees", func(t *testing.T) { answerInConsole(t, p) })
	t.Run("settings are rehearsed in the console and put in force", func(t *testing.T) { rehearseInConsole(t, p) })
	t.Run("the label queue is answered by key, and what it teaches is accepted and taken back", func(t *testing.T) { learnInConsole(t, p) })
	t.Run("labels, filter and scorecard on the command line", func(t *testing.T) { learnOnTheCommandLine(t, p) })
	t.Run("who is told is set up, tried and read in the console", func(t *testing.T) { tellInConsole(t, p) })
	t.Run("who is told is set up, tried and read on the command line", func(t *testing.T) { tellOnTheCommandLine(t, p) })
	t.Run("a source is set up in the console, from its address to the first chart", func(t *testing.T) { setUpInConsole(t, p) })
	t.Run("what others send is measured too", func(t *testing.T) { sentToUs(t, p) })
	t.Run("drift is walked through, looked into and set up in the console", func(t *testing.T) { driftInConsole(t, p) })
	t.Run("drift on the command line, of the service and of files", func(t *testing.T) { driftOnTheCommandLine(t, p) })
	t.Run("a sentence of a log is looked into, read from its files and corrected", func(t *testing.T) { logsInConsole(t, p) })
	t.Run("a token is made, used, taken back and found in the audit trail", func(t *testing.T) { peopleInConsole(t, p) })
	t.Run("people sign in through the directory, and who is limited sees a part", func(t *testing.T) { limitedInConsole(t, p) })
	t.Run("commands say what happened and exit as they should", func(t *testing.T) { commands(t, p) })
	t.Run("every command of the book is typed", func(t *testing.T) { bookOnTheDemo(t, p) })
	t.Run("charts side by side, and words that lead to anything", func(t *testing.T) { lookInConsole(t, p) })
	t.Run("every place opens", func(t *testing.T) {
		t.Run("in light and in dark", func(t *testing.T) {
			t.Parallel()
			places(t, p)
		})
		t.Run("for every role", func(t *testing.T) {
			t.Parallel()
			placesByRole(t, p)
		})
	})

	p.t = t
	// A kill leaves a database behind that the next start takes over.
	before := p.score().Overall
	dbtest.Must(t, p.run.Process.Kill())
	p.run.Wait()
	began := time.Now()
	p.start()
	t.Logf("started again after a kill in %.1f s", time.Since(began).Seconds())
	if after := p.score().Overall; after.Labelled != before.Labelled || after.Alerts < before.Alerts {
		t.Errorf("labels or alerts were lost: %d of %d before, %d of %d after", before.Labelled, before.Alerts, after.Labelled,
			after.Alerts)
	}
}

func signIn(t *testing.T, p *program, dark bool) *browser.Tab {
	t.Helper()
	tab, err := browser.Open(t.Context(), 1280, 800, dark)
	dbtest.Must(t, err)
	t.Cleanup(tab.Close)
	c := p.client()
	dbtest.Must(t, tab.Go(c.Server+"/sign-in#"+c.Token))
	dbtest.Must(t, tab.Await("location.pathname === '/' && document.querySelector('[data-group]')"))
	return tab
}

// press waits for a button with a label that can be pressed, and presses it.
func press(t *testing.T, tab *browser.Tab, label string) {
	t.Helper()
	dbtest.Must(t, tab.Await(fmt.Sprintf("[...document.querySelectorAll('button')].some((b) => b.innerText === %q && !b.disabled)", label)))
	_, err := browser.Evaluate[bool](tab,
		fmt.Sprintf("[...document.querySelectorAll('button')].find((b) => b.innerText === %q).click() ?? true", label))
	dbtest.Must(t, err)
}

func answerInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Await("document.body.innerText.includes('alerts of one cause together') && document.body.innerText.includes('ops.boarding_scans')"))
	before := p.score().Overall
	open := p.judged("")
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/alerts/%d", p.client().Server, open[0].ID)))
	dbtest.Must(t, tab.Await("document.querySelector('svg[data-chart] path') && document.body.innerText.includes('What was it?')"))
	dbtest.Must(t, tab.Press("f"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('It was')"))
	after := p.score().Overall
	if after.Faults != before.Faults+1 || after.Unlabelled != before.Unlabelled-1 {
		t.Errorf("one more fault was labelled: %d to %d faults, %d to %d unlabelled", before.Faults, after.Faults,
			before.Unlabelled, after.Unlabelled)
	}
	dbtest.Must(t, tab.Go(p.client().Server+"/scorecard"))
	want := fmt.Sprintf("%.0f %%", 100**after.Precision.Estimate)
	dbtest.Must(t, tab.Await(fmt.Sprintf("document.querySelector('h1').innerText.startsWith(%q)", want)))
	out, code := p.do("score", "--output", "json")
	var told scorecard.Scorecard
	if err := json.Unmarshal([]byte(out), &told); err != nil || code != 0 || told.Overall.Faults != after.Faults ||
		*told.Overall.Precision.Estimate != *after.Precision.Estimate {
		t.Errorf("the CLI says %s (%v)", out, err)
	}
	// A change made elsewhere reaches the open page by itself.
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/alerts/%d", p.client().Server, open[0].ID)))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('It was')"))
	if out, code := p.do("alert", "label", fmt.Sprint(open[0].ID), "none"); code != 0 {
		t.Errorf("label: %s", out)
	}
	dbtest.Must(t, tab.Await("document.body.innerText.includes('What was it?')"))
}

func rehearseInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Go(p.client().Server+"/monitors/gate-events-volume"))
	drawn := "document.querySelectorAll('svg[data-rehearsal] path').length > 7"
	dbtest.Must(t, tab.Await(drawn+" && document.querySelector('h1').innerText.startsWith('Over this stretch')"))
	click := func(label string) {
		t.Helper()
		found, err := browser.Evaluate[bool](tab,
			fmt.Sprintf("(() => { const b = [...document.querySelectorAll('button')].find((b) => b.innerText === %q); b?.click(); return !!b; })()", label))
		dbtest.Must(t, err)
		if !found {
			t.Fatalf("there is no button %q", label)
		}
	}
	// Over eleven weeks, for at six an incident lies inside at one hour and outside at another.
	click("11 weeks")
	dbtest.Must(t, tab.Await("document.querySelector('h1').innerText.includes('found') && "+drawn))
	// The slider at its left end, a false alarm a week, tells more than today.
	_, err := browser.Evaluate[bool](tab,
		"(() => { const s = document.querySelector('[role=slider]'); s.focus(); s.dispatchEvent(new KeyboardEvent('keydown', { key: 'Home', bubbles: true })); return true; })()")
	dbtest.Must(t, err)
	dbtest.Must(t, tab.Await("document.querySelector('h1').innerText.startsWith('Rehearsed on') && document.body.innerText.includes('1 changed')"))
	click("high")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('2 changed') && document.querySelector('h1').innerText.includes('misses')"))
	click("Discard")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('as in force') && document.querySelector('h1').innerText.startsWith('Over this stretch')"))
	click("over 12")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('1 changed')"))
	click("Save as version 2")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('version 2') && document.body.innerText.includes('as in force')"))
	var m record.Monitor
	dbtest.Must(t, p.client().Get(t.Context(), "/monitors/gate-events-volume", nil, &m))
	if m.Version != 2 || m.Settings.Sustained != "short" || m.Settings.Direction != "both" {
		t.Errorf("in force is version %d: %+v", m.Version, m.Settings)
	}
	// A segment of its own is part of the draft, rehearsed and saved like the rest.
	_, err = browser.Evaluate[bool](tab, `(() => { const f = document.querySelector('input[aria-label="Segment or pattern"]');
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), 'value').set.call(f, 'Gull*'); f.dispatchEvent(new Event('input', { bubbles: true })); return true; })()`)
	dbtest.Must(t, err)
	click("Add")
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('label')].some((l) => { const is = l.innerText.startsWith('muted:'); if (is) l.querySelector('input').click(); return is; })"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('muted new') && document.querySelector('h1').innerText.startsWith('Rehearsed on')"))
	click("Save as version 3")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Save as version 4') && document.body.innerText.includes('1 of its own')"))
	dbtest.Must(t, p.client().Get(t.Context(), "/monitors/gate-events-volume", nil, &m))
	if len(m.Settings.Segments) != 1 || !m.Settings.For("Gullstone").Muted || m.Settings.For("Fennick").Muted {
		t.Errorf("segments of their own: %+v", m.Settings.Segments)
	}
	if out, code := p.do("monitor", "segment", "remove", "gate-events-volume", "Gull*"); code != 0 {
		t.Error(out)
	}
	var series []record.Series
	dbtest.Must(t, p.client().Get(t.Context(), "/metrics/boarding-scans-rows/series", nil, &series))
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/series/%d", p.client().Server, series[0].ID)))
	dbtest.Must(t, tab.Await("document.querySelector('svg[data-forecast] path') && document.querySelectorAll('table tr').length > 14"))
	text, err := tab.Text()
	dbtest.Must(t, err)
	for _, want := range []string{"Suitability", "Forecast", "Why this was expected", "Smoothing bench", "level", "no full year seen"} {
		if !strings.Contains(text, want) {
			t.Errorf("the study of a series lacks %q", want)
		}
	}
}

func commands(t *testing.T, p *program) {
	p.t = t
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"alert list --state open", 0, "ops.boarding_scans"},
		{"dataset health", 0, "Harbour data"},
		{"monitor list", 0, "boarding-scans-volume"},
		{"metric sql boarding-scans-rows", 0, `from "ops"."boarding_scans"`},
		{"incident list", 0, "VF-006"},
		{"calendar list --all", 0, "Gullstone regatta"},
		{"monitor backtest refunds-volume --since 30d", 0, "all together"},
		{"monitor backtest refunds-volume --since 30d --warn 10d", 0, "proposed"},
		{"monitor backtest refunds-volume --since 30d --method fixed", 2, "at least one of low and high"},
		{"monitor show boarding-scans-volume", 0, "Cried wolf so far"},
		{"series suits refunds-rows", 0, "a band"},
		{"series explain boarding-scans-rows --segment Cald", 0, "hour of the week"},
		{"series smooth boarding-scans-rows --segment Cald --since 30d", 0, "recommended"},
		{"series forecast boarding-scans-rows --segment Cald --days 20 --limit 900", 0, "no full year seen"},
		{"series forecast boarding-scans-rows", 2, "is split into Ansby"},
		{"consistency", 0, "web-orders-passenger-type-nulls"},
		{"consistency --at 2026-W60", 2, "no week 60"},
		{"consistency nothing", 3, `no metric named "nothing"`},
		{"consistency --at tomorrow", 2, "2026-W44"},
		{"series earlier refunds-rows", 0, "1 week before"},
		{"series earlier refunds-rows --by month", 0, "no year before it is known"},
		{"forecast show boarding-scans-rows --whole --days 60 --limit 9000", 0, "does not reach 9,000"},
		{"forecast show boarding-scans-rows refunds-rows --days 20", 0, "boarding-scans-rows at Cald"},
		{"forecast show boarding-scans-freshness --whole", 2, "can be summed"},
		{"forecast show refunds-rows --days 900", 2, "days of history allow"},
		{"forecast show nothing", 3, `no metric named "nothing"`},
		{"forecast show", 2, "at least one METRIC"},
		{"outliers table ops.ticket_sales fare_minor --since 7d --z 1", 0, `from "ops"."ticket_sales"`},
		{"outliers table ops.ticket_sales colour", 2, "a column with numbers"},
		{"outliers table landing.parcels weight", 2, "a table of a warehouse"},
		{"outliers table nowhere fare_minor", 3, "no dataset"},
		{"forecast export refunds-rows --days 3", 0, "total_low"},
		{"log list", 0, "gates-loader"},
		{"log templates gates-loader --since 7d --severity debug", 0, "<number> events"},
		{"log templates gates-loader --severity loud", 2, "trace, debug"},
		{"log templates nothing", 3, `no log named "nothing"`},
		{"log show gates-loader 1", 0, "By the hour"},
		{"log show gates-loader 9999", 3, "9999"},
		{"log show gates-loader first", 2, "the number of a sentence"},
		{"log compare gates-loader --against before", 0, "against"},
		{"log set gates-loader --keep-samples 50", 2, "1 to 20"},
		{"log set gates-loader", 2, "nothing to set"},
		{"log push", 2, "at least one FILE"},
		{"log push nowhere.log --log x", 3, "nowhere.log"},
		{"alert normal 999999", 3, "no alert"},
		{"series list nothing", 3, `no metric named "nothing"`},
		{"bench accuracy --part magic", 2, "rarity, everyday, longer, faults, detectors, losses"},
		{"monitor backtest nothing", 3, `no monitor named "nothing"`},
		{"alert show 999999", 3, "no alert"},
		{"score --require precision=1.01", 4, "required is 1.01"},
		{"score --require colour=1", 2, "precision=0.8"},
		{"monitor set refunds-volume --persist often", 2, "2 of 3"},
		{"monitor set refunds-volume --warn 1h", 2, "at least 1d"},
		{"monitor set refunds-volume --warn 2y", 0, "version"},
		{"source tables vellamar", 0, "ops.boarding_scans"},
		{"source tables landing", 2, "a warehouse"},
		{"source try postgres://a:b@127.0.0.1:1/c", 2, "refused"},
		{"source remove vellamar", 2, "--yes"},
		{"dataset columns ops.refunds", 0, "first seen"},
		{"dataset lineage ops.refunds", 0, "mart.daily_revenue"},
		{"dataset deliveries landing.parcels", 0, ".parquet"},
		{"dataset runs ops.refunds", 0, "complete"},
		{"dataset keep ops.refunds --days 400", 0, "400 days"},
		{"job list", 0, "load ops.refunds"},
		{"task list", 0, "backfill"},
		{"task pause 999999", 3, "no task"},
		{"metric add ops.refunds x --measure quantile --quantile 0.9 --column amount_minor --time-column refunded_at --try", 0,
			"percentile_cont(0.9)"},
		{"metric add ops.refunds x --measure mean --time-column refunded_at", 2, "needs the column"},
		{"metric backfill refunds-rows web-orders-rows", 2, "one dataset at a time"},
		{"config diff /nowhere", 3, "no such file"},
		{"config schema", 0, "additionalProperties"},
		{"demo break flood ops.refunds", 2, "stall, drop and double"},
		{"demo break drop ops.refundz", 2, "ops.refunds"},
		{"alert list --output wild", 2, "table, json and csv"},
		{"nonsense", 2, "there is no command"},
		{"monitor nonsense", 2, "there is no command"},
		{"version", 0, "tinbell"},
		{"alert list --monitor nothing", 3, "no monitor"},
		{"alert list --dataset nothing", 3, "no dataset"},
		{"alert list --utc", 0, "UTC"},
		{"incident list --zone Atlantis", 2, "tz database"},
	} {
		out, code := p.do(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("tinbell %s: exit %d, want %d with %q:\n%.600s", c.args, code, c.code, c.says, out)
		}
	}
	if out, err := exec.Command(p.path, "__complete", "--dir", p.dir, "monitor", "show", "refunds-").Output(); err != nil ||
		!strings.Contains(string(out), "refunds-volume\n") {
		t.Errorf("the shell completes names: %v\n%s", err, out)
	}
	file := filepath.Join(filepath.Dir(p.dir), "scans.parquet")
	if out, code := p.do("series", "export", "boarding-scans-rows", "--from", "3d", "--segment", "Cald", "--file",
		file); code != 0 || !strings.Contains(out, "Written to "+file) {
		t.Errorf("exit %d: %s", code, out)
	}
	if out, code := p.do("series", "export", "refunds-rows", "--from", "2d", "--fill", "zero"); code != 0 || strings.Count(out,
		"\n") < 40 || !strings.HasPrefix(out, "metric,dataset,segment,at,period_seconds,value,filled,rows,expected,low,high,") {
		t.Errorf("exit %d: %.300s", code, out)
	}
	id := fmt.Sprint(p.judged("ops.boarding_scans")[0].ID)
	for _, ending := range []string{"png", "svg"} {
		file := filepath.Join(filepath.Dir(p.dir), "chart."+ending)
		text, code := p.do("alert", "show", id, "--explain", "--plot", file)
		if info, err := os.Stat(file); err != nil || info.Size() < 2000 || code != 0 || !strings.Contains(text, "hour of the week") {
			t.Errorf("a picture as %s, and the parts of an expected value: %v\n%s", ending, err, text)
		}
	}
	for _, study := range []string{"suits", "explain", "smooth", "forecast"} {
		file := filepath.Join(filepath.Dir(p.dir), study+".png")
		text, code := p.do("series", study, "boarding-scans-rows", "--segment", "Gullstone", "--plot", file)
		if info, err := os.Stat(file); err != nil || info.Size() < 2000 || code != 0 {
			t.Errorf("a picture of series %s: %v\n%s", study, err, text)
		}
	}
	if text, code := p.do("alert", "show", id, "--plot", "chart.gif"); code != 2 || !strings.Contains(text, ".png or .svg") {
		t.Errorf("a format that is not drawn: %d, %s", code, text)
	}
	out, _ := p.do("monitor", "backtest", "--since", "30d", "--alerts", "--output", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if err != nil || len(rows) < 5 || strings.Join(rows[0],
		",") != "monitor,dataset,measure,segment,series_id,since,raised_at,closed_at,severity,direction,rule,outcome,incident" {
		t.Errorf("the backtest's alerts as CSV: %v, %d rows", err, len(rows))
	}
	push := exec.Command(p.path, "sample", "push", "--dir", p.dir)
	push.Stdin = strings.NewReader(`{"declare":{"metric":"tide","dataset":"sea.tide","measure":"height","kind":"value","period":"1h"}}
{"metric":"tide","at":"2026-01-01T00:00:00Z","value":1.5}
{"metric":"tide","at":"2026-01-01T00:30:00Z","value":1.5}
`)
	if text, _ := push.CombinedOutput(); !strings.Contains(string(text), "1 samples stored") || !strings.Contains(string(text), "line 3") {
		t.Errorf("push from standard input: %s", text)
	}
}

func TestTheContractAndItsTypesAreCurrent(t *testing.T) {
	p := build(t)
	written, err := exec.Command(p.path, "openapi").Output()
	dbtest.Must(t, err)
	committed, err := os.ReadFile("../../openapi.json")
	dbtest.Must(t, err)
	if !bytes.Equal(written, committed) {
		t.Error("openapi.json is not what the program writes: run 'make openapi' and build the console")
	}
}
