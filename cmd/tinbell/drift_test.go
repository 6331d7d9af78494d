package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tinbell/internal/browser"
	"tinbell/internal/compare"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

func driftInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	c := p.client()
	var m compare.Matrix
	dbtest.Must(t, c.Get(t.Context(), "/drift/noshow", nil, &m))
	await := func(expression string) {
		t.Helper()
		if err := tab.Await(expression); err != nil {
			text, _ := tab.Text()
			t.Fatalf("%v; the page says: %.1500s", err, text)
		}
	}
	run := func(js string) {
		t.Helper()
		_, err := browser.Evaluate[bool](tab, "(() => {"+js+"; return true })()")
		dbtest.Must(t, err)
	}
	// set types into a field as a person does.
	set := func(field, value string) {
		t.Helper()
		run(fmt.Sprintf(`const e = document.querySelector(%q); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, %q); e.dispatchEvent(new Event('input', { bubbles: true }))`, field, value))
	}
	press := func(label string) {
		t.Helper()
		run(fmt.Sprintf(`[...document.querySelectorAll('button')].find((b) => b.innerText === %q).click()`, label))
	}

	dbtest.Must(t, tab.Go(c.Server+"/drift"))
	await("document.querySelectorAll('[data-comparison]').length === 2 && document.querySelector('h1').innerText.includes('noshow')")
	dbtest.Must(t, tab.Go(c.Server+"/drift/noshow"))
	await(fmt.Sprintf("document.querySelectorAll('[role=gridcell]').length === %d && document.querySelector('[aria-label=\"distributions\"], [aria-label*=\"over each other\"]')", len(m.Rows)*len(m.Periods)))
	await(fmt.Sprintf("document.querySelector('h1').innerText === %q", m.Sentence+"."))

	// The frame moves by keys, the distributions follow, and the place is in the address.
	dbtest.Must(t, tab.Press("ArrowDown"))
	await(fmt.Sprintf("document.querySelector('[aria-selected=true]').dataset.cell === '%s %d' && document.querySelector('h2.mono').innerText === %[1]q && location.search.includes(%[1]q)", m.Rows[1].Feature, len(m.Periods)-1))
	dbtest.Must(t, tab.Press("ArrowLeft"))
	await(fmt.Sprintf("document.querySelector('[aria-selected=true]').dataset.cell === '%s %d'", m.Rows[1].Feature, len(m.Periods)-2))

	// Pairs, and any two.
	dbtest.Must(t, tab.Press("2"))
	await("document.querySelectorAll('figure svg').length === 2")
	dbtest.Must(t, tab.Choose("First feature", "party_size"))
	dbtest.Must(t, tab.Choose("Second feature", "has_vehicle"))
	await("[...document.querySelectorAll('h2')].some((h) => h.innerText.startsWith('party_size and has_vehicle'))")

	// The model over time, where the new version took over.
	dbtest.Must(t, tab.Go(c.Server+"/drift/noshow?view=models"))
	await("document.querySelectorAll('svg[aria-label*=\"by period and version\"]').length === 4 && document.querySelector('svg[aria-label*=\"by what scores said\"] circle') && document.body.innerText.includes('like inputs')")

	// A reference that cannot be is refused, and what was typed stays.
	dbtest.Must(t, tab.Press("b"))
	await("document.querySelector('[role=dialog] input[name=from]')")
	set("input[name=from]", "2026-09-10")
	set("input[name=to]", "2026-09-01")
	press("Compare with these")
	await("document.querySelector('[role=dialog] [role=alert]')?.innerText.includes('2026-09-10') && document.querySelector('input[name=from]').value === '2026-09-10'")
	press("Cancel")

	// A new comparison: first what would be compared, then yes.
	dbtest.Must(t, tab.Go(c.Server+"/drift"))
	await("document.querySelector('[data-comparison]')")
	dbtest.Must(t, tab.Press("a"))
	await("document.querySelector('form[aria-label=\"new comparison\"]') && document.querySelector('input[name=dataset]').value !== ''")
	set("input[name=name]", "fares")
	dbtest.Must(t, tab.Choose("Dataset", "ops.refunds"))
	press("Look at its columns")
	await("document.querySelector('form [role=alert]')?.innerText.includes('refunded_at') && document.querySelector('input[name=name]').value === 'fares'")
	set("input[name=time_column]", "refunded_at")
	press("Look at its columns")
	await("[...document.querySelectorAll('fieldset label')].some((l) => l.innerText.includes('amount_minor'))")
	press("Compare these")
	await("location.pathname === '/drift/fares' && document.querySelectorAll('[role=gridcell]').length > 3")
	dbtest.Must(t, c.Send(t.Context(), "DELETE", "/drift/fares", nil, nil))

	// An alert about drift shows the distributions and leads to them.
	var alert record.Alert
	for _, a := range p.open("ml.noshow_features") {
		if a.Comparison == "noshow" && a.Segment == "lead_time_hours" {
			alert = a
		}
	}
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/alerts/%d", c.Server, alert.ID)))
	await("document.querySelector('section[aria-label=lead_time_hours] svg') && document.querySelector('h1').innerText.startsWith('lead_time_hours has drifted')")
	press0 := "[...document.querySelectorAll('a')].find((a) => a.innerText === 'Open comparison noshow').click()"
	run(press0)
	await("location.pathname === '/drift/noshow' && document.querySelector('[aria-selected=true]')?.dataset.cell.startsWith('lead_time_hours')")
}

func driftOnTheCommandLine(t *testing.T, p *program) {
	p.t = t
	folder := filepath.Dir(p.dir)
	file := func(name, content string) string {
		t.Helper()
		path := filepath.Join(folder, name)
		dbtest.Must(t, os.WriteFile(path, []byte(content), 0o644))
		return path
	}
	rows := func(values ...string) string {
		return "fare,channel\n" + strings.Repeat(strings.Join(values, "\n")+"\n", 60)
	}
	before, like, other := file("before.csv", rows("10,web", "12,web", "14,kiosk")), file("like.csv",
		rows("14,kiosk", "10,web", "12,web")), file("other.csv", rows("10,web", "1200,pigeon", "14,kiosk"))
	few, lacking := file("few.csv", "fare,channel\n10,web\n12,web\n14,kiosk\n"), file("lacking.csv",
		"fare\n"+strings.Repeat("10\n12\n14\n", 60))
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"drift list", 0, "ml.noshow_features"},
		{"drift show noshow", 0, "drifted since"},
		{"drift show noshow", 0, " % before"}, // of whichever feature moved most
		{"drift show noshow --feature lead_time_hours", 0, "100 to"},
		{"drift show noshow --feature lead_time_hours", 0, "Kolmogorov-Smirnov"},
		{"drift show noshow --feature nope", 2, "party_size"},
		{"drift show noshow --period 2026-10-01", 2, "--feature, --pairs"},
		{"drift show noshow --pairs --period 2020-01-01", 3, "no period"},
		{"drift show noshow --period soon", 2, "a day as"},
		{"drift show noshow --pairs", 0, "changed together"},
		{"drift show noshow --pair lead_time_hours,party_size", 0, "Shares of rows"},
		{"drift show noshow --pair lead_time_hours", 2, "two features"},
		{"drift show noshow --models", 0, "like inputs"},
		{"drift show nothing", 3, `no comparison named "nothing"`},
		{"drift run noshow", 0, "drifted since"},
		{"drift export noshow", 0, "lead_time_hours,over,psi"},
		{"drift set x ops.refunds --time refunded_at --try", 0, "the row's own time"},
		{"drift set x ops.refunds --time amount_minor --try", 2, "a column that holds times"},
		{"drift set x ops.refunds --by hour", 2, "day"},
		{"drift reference noshow --from 2026-10-01", 2, "--to"},
		{"drift plot noshow matrix.gif", 2, ".png or .svg"},
		{"drift compare " + before + " " + like, 0, "None of 2 features has drifted"},
		{"drift compare " + before + " " + other, 0, "pigeon"},
		{"drift compare " + before + " " + like + " --require over=0", 0, "as expected"},
		{"drift compare " + before + " " + other + " --require over=0", 4, "over is 2, allowed is 0"},
		{"drift compare " + before + " " + other + " --require colour=0", 2, "over=0, drifted=0 or separability"},
		{"drift compare " + before + " " + like + " --require drifted=0", 0, "only if rows are independent"},
		{"drift compare " + before + " " + like + " " + other + " --independent", 0, "over!"},
		{"drift compare " + before + " " + like + " " + other + " --require drifted=0", 4, "drifted is 1, allowed is 0"},
		{"drift compare " + before + " " + few + " --require over=0", 4, "could be judged: 3 rows"},
		{"drift compare " + before + " " + lacking + " --require over=0", 4, "are gone"},
		{"drift compare " + before + " " + before, 2, "which of its days are the reference"},
		{"drift compare " + before + " nowhere.csv", 3, "nowhere.csv"},
		{"drift compare " + before + " " + other + " --by hour --time fare", 2, "day, week and month"},
		{"drift compare " + before + " " + other + " --by day", 2, "needs --time"},
		{"bench drift --accept 2", 2, "up to 0.1"},
	} {
		out, code := p.do(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("tinbell %s: exit %d, want %d with %q:\n%.600s", c.args, code, c.code, c.says, out)
		}
	}
	for _, args := range [][]string{{"drift", "plot", "noshow"}, {"drift", "plot", "noshow", "--feature", "passenger_type"},
		{"drift", "compare", before, other, "--plot"}} {
		for _, ending := range []string{"png", "svg"} {
			picture := filepath.Join(folder, "drift."+ending)
			os.Remove(picture)
			text, code := p.do(append(args, picture)...)
			if info, err := os.Stat(picture); err != nil || info.Size() < 2000 || code != 0 {
				t.Errorf("%v as %s: %v\n%s", args, ending, err, text)
			}
		}
	}
	kept := filepath.Join(folder, "kept")
	p.do("config", "save", kept)
	if content, err := os.ReadFile(filepath.Join(kept, "comparisons.yaml")); err != nil || !strings.Contains(string(content),
		"kind: comparison\nname: noshow\n") {
		t.Errorf("comparisons are saved as files: %v\n%s", err, content)
	}
	var m compare.Matrix
	dbtest.Must(t, p.client().Get(t.Context(), "/drift/"+url.PathEscape("noshow"), nil, &m))
	if m.TaskID != 0 || m.State != "ready" {
		t.Errorf("after a run it is %s with task %d", m.State, m.TaskID)
	}
}
