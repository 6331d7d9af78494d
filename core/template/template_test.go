package template

import (
	"bytes"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

// kinds writes a line's parts as kind:text.
func kinds(line string) string {
	var list []string
	for _, p := range Scan([]byte(line), nil) {
		text := line[p.From:p.To]
		if p.Kind.Varies() {
			text = p.Kind.String() + ":" + text
		}
		list = append(list, text)
	}
	return strings.Join(list, " | ")
}

func TestPartsAreToldByTheirLooks(t *testing.T) {
	for line, want := range map[string]string{
		`loaded 1,204 rows in 1.5s, 98% ok`:               `loaded | number:1,204 | rows | in | number:1.5s | , | number:98% | ok`,
		`2026-10-31T04:05:06.789Z done`:                   `time:2026-10-31T04:05:06.789Z | done`,
		`2026-10-31 04:05:06,789 done at 12:30`:           `time:2026-10-31 04:05:06,789 | done | at | time:12:30`,
		`peer 10.0.12.7:5432 closed`:                      `peer | address:10.0.12.7:5432 | closed`,
		`from db-3.port.example:5432 again`:               `from | address:db-3.port.example:5432 | again`,
		`mail to crew.7@ferries.example failed`:           `mail | to | address:crew.7@ferries.example | failed`,
		`GET https://ferries.example/a/7?page=2 gave 503`: `GET | address:https://ferries.example/a/7?page=2 | gave | number:503`,
		`read /var/land/a.parquet (12 MB)`:                `read | path:/var/land/a.parquet | ( | number:12 | MB | )`,
		`run 0f8fad5b-d9cb-469f-a165-70867728950e ended`:  `run | identifier:0f8fad5b-d9cb-469f-a165-70867728950e | ended`,
		`said "no such port" twice`:                       `said | quoted text:"no such port" | twice`,
		`it doesn't matter`:                               `it | doesn't | matter`,
		`columns [id, fare, 'x y'] missing`:               `columns | list:[id, fare, 'x y'] | missing`,
		`[INFO] ready`:                                    `[ | INFO | ] | ready`,
		`state=ok rows=12`:                                `state | = | ok | rows | = | number:12`,
		`job-17: 行を12件読み込みました`:                            `identifier:job-17 | : | 行を | number:12 | 件読み込みました`,
		`balance -3.5e-7 at +40`:                          `balance | number:-3.5e-7 | at | number:+40`,
		`waited 1h2m3.5s`:                                 `waited | number:1h2m3.5s`,
		`C:\land\a.csv gone`:                              `path:C:\land\a.csv | gone`,
		``:                                                ``,
	} {
		if got := kinds(line); got != want {
			t.Errorf("%s\n is %s\nwant %s", line, got, want)
		}
	}
}

func take(m *Miner, format string, args ...any) *Template {
	return m.Take([]byte(fmt.Sprintf(format, args...)))
}

func TestLinesOfASentenceAreOneTemplate(t *testing.T) {
	m := NewMiner(100)
	for i := range 50 {
		take(m, "loaded %d rows into ops.t%d in %dms", i*37, i, i)
		take(m, "connection %s", []string{"opened", "closed"}[i%2])
	}
	list := m.Templates()
	if len(list) != 3 || list[0].String() != "loaded <number> rows into <identifier> in <number>" ||
		list[1].String() != "connection opened" || list[2].String() != "connection closed" {
		t.Errorf("%v", list)
	}
	if list[0].Lines != 50 || list[1].Lines != 25 {
		t.Errorf("%d and %d lines", list[0].Lines, list[1].Lines)
	}
}

// A word becomes variable when too many differ there; the template keeps its number, and
// what became part of it is told.
func TestATemplateKeepsItsNumberWhenItBecomesMoreGeneral(t *testing.T) {
	m := NewMiner(100)
	first := take(m, "user anna signed in")
	for i := range 20 {
		take(m, "user %c%s signed in", 'a'+i, strings.Repeat("x", i+1))
	}
	list, merges := m.Templates(), m.Merges()
	if len(list) != 1 || list[0].ID != first.ID || list[0].Lines != 21 || list[0].String() != "user <word that varies> signed in" {
		t.Errorf("%v", list)
	}
	if len(merges) != mostWordings || merges[0].Into != first.ID {
		t.Errorf("merges: %v", merges)
	}
	if again := take(m, "user zoe signed in"); again.Number() != first.ID {
		t.Errorf("zoe is of %d", again.Number())
	}
}

// Two places that vary at once are found though no two lines differ in one alone.
func TestSeveralPlacesMayVaryAtOnce(t *testing.T) {
	m := NewMiner(1000)
	rng := rand.New(rand.NewPCG(1, 1))
	name := func() string {
		return string(rune('a'+rng.IntN(26))) + string(rune('a'+rng.IntN(26))) + string(rune('a'+rng.IntN(26)))
	}
	for range 300 {
		take(m, "crew %s moved manifest %s to pier", name(), name())
		take(m, "berth for ferry is closed")
	}
	list := m.Templates()
	if len(list) != 2 || list[0].Number() != 1 || strings.Count(list[0].String(), "<") != 2 {
		t.Errorf("%v", list)
	}
}

// What looks variable but never varies is constant, until it does.
func TestANumberThatNeverVariesIsConstant(t *testing.T) {
	m := NewMiner(10)
	for i := range 40 {
		take(m, "exit code 0 after %d s", i)
	}
	if s := m.Templates()[0].String(); s != "exit code 0 after <number> s" {
		t.Error(s)
	}
	id := take(m, "exit code 3 after 7 s").Number()
	if list := m.Templates(); len(list) != 1 || id != list[0].ID || list[0].String() != "exit code <number> after <number> s" {
		t.Errorf("%v", list)
	}
}

// Whatever bytes come, lines are taken, parts lie in order within them, and memory is
// bounded by templates.
func TestHostileLinesAreTaken(t *testing.T) {
	m := NewMiner(50)
	rng := rand.New(rand.NewPCG(3, 3))
	lines := [][]byte{nil, []byte(" "), {0}, {0xff, 0xfe}, []byte(strings.Repeat("x", 1<<20)),
		[]byte(strings.Repeat("a ", 100_000)), []byte(strings.Repeat("[", 5000)), []byte(strings.Repeat(`"`, 999)), []byte(`"\`)}
	for range 3000 {
		b := make([]byte, rng.IntN(60))
		for i := range b {
			b[i] = byte(rng.IntN(256))
			if rng.IntN(2) == 0 {
				b[i] = ` :/.-'"[](){}=,0a9%@\T`[rng.IntN(22)]
			}
		}
		lines = append(lines, b)
	}
	for _, line := range lines {
		m.Take(line)
		last := 0
		for _, p := range Scan(line, nil) {
			if p.From < last || p.To <= p.From || p.To > len(line) {
				t.Fatalf("%q: %+v after %d", line, p, last)
			}
			last = p.To
		}
	}
	if n := len(m.Templates()); n > 50 || m.Overflow() == 0 {
		t.Errorf("%d templates, %d lines beyond them", n, m.Overflow())
	}
}

func FuzzScan(f *testing.F) {
	for _, seed := range []string{"loaded 12 rows", `a="b c" [1, 2]`, "C:\\x 10.0.0.1:80 2026-10-31 04:05:06"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		last := 0
		for _, p := range Scan(line, nil) {
			if p.From < last || p.To <= p.From || p.To > len(line) || bytes.ContainsAny(line[p.From:p.From+1], " \t\r\n") {
				t.Fatalf("%q: %+v after %d", line, p, last)
			}
			last = p.To
		}
		m := NewMiner(4)
		m.Take(line)
		m.Take(line)
	})
}

func BenchmarkTake(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 9))
	var lines [][]byte
	for i := range 4096 {
		lines = append(lines, []byte(fmt.Sprintf("2026-10-31T04:%02d:%02d.%03dZ INFO loader.%d: loaded %d rows into ops.%s in %dms from /land/p-%d.parquet", i%60, i%60, i%1000, i%7, rng.IntN(1e6), []string{"refunds", "sales", "scans"}[i%3], rng.IntN(900), rng.IntN(1e5))))
	}
	m := NewMiner(1000)
	b.ReportAllocs()
	for b.Loop() {
		for _, line := range lines {
			m.Take(line)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(len(lines)), "ns/line")
}

// After a restart lines are told as before: what was kept is enough, and no value of what
// varies is in it.
func TestWhatIsKeptTellsLinesAsBefore(t *testing.T) {
	lines := func(from, to int) (list [][]byte) {
		for i := from; i < to; i++ {
			host := fmt.Sprintf("db%d", i)
			if i%5 == 0 {
				host = "localhost"
			}
			list = append(list, []byte(fmt.Sprintf("user u%cx%c signed in from %s", 'a'+i%26, 'a'+i/7%26, host)),
				[]byte(fmt.Sprintf("loaded %d rows in %dms", i, i%9)), []byte("connection "+[]string{"opened", "closed"}[i%2]))
		}
		return list
	}
	whole, first := NewMiner(500), NewMiner(500)
	for _, line := range lines(0, 60) {
		whole.Take(line)
		first.Take(line)
	}
	var kept []Saved
	seen := map[*Template]bool{}
	for _, f := range first.frames {
		for _, o := range f.templates {
			if s, ok := o.Save(); ok && !seen[o] {
				kept, seen[o] = append(kept, s), true
			}
		}
	}
	again := Restore(500, first.Next(), kept)
	if len(again.Templates()) != len(first.Templates()) {
		t.Fatalf("%d templates came back of %d", len(again.Templates()), len(first.Templates()))
	}
	for _, line := range lines(60, 200) {
		a, b := whole.Take(line), again.Take(line)
		if a.Number() != b.Number() {
			t.Fatalf("%s: %d, after a restart %d", line, a.Number(), b.Number())
		}
	}
	for _, s := range kept {
		for _, p := range s.Places {
			if p.Varied && p.Text != "" {
				t.Errorf("a value is kept: %+v", p)
			}
		}
	}
}

func TestSecretsAreMasked(t *testing.T) {
	for line, want := range map[string]string{
		`mail to anna.b@ferries.example failed`:                         `mail to ‹masked› failed`,
		`login user=anna password=hunter2, retrying`:                    `login user=anna password=‹masked›, retrying`,
		`Authorization: Bearer abcDEF123456789xyz done`:                 `Authorization: ‹masked› done`,
		`card 4111-1111-1111-1111 refused`:                              `card ‹masked› refused`,
		`card 4111 1111 1111 1111 refused`:                              `card ‹masked› refused`,
		`took 4111 1111 1111 1112 ms`:                                   `took 4111 1111 1111 1112 ms`,
		`key AbCdEf0123456789GhIjKlMnOp used`:                           `key ‹masked› used`,
		`GET https://u:p@ferries.example/x gave 200`:                    `GET ‹masked› gave 200`,
		`said "token=abc123" once`:                                      `said "token=‹masked›" once`,
		`run 0f8fad5b-d9cb-469f-a165-70867728950e read /var/land/a.csv`: `run 0f8fad5b-d9cb-469f-a165-70867728950e read /var/land/a.csv`,
		`order 4111111111111112 of 12`:                                  `order 4111111111111112 of 12`,
	} {
		if got := string(Mask([]byte(line))); got != want {
			t.Errorf("%s\n is %s\nwant %s", line, got, want)
		}
	}
}

func TestALineSaysItsSeverity(t *testing.T) {
	for line, want := range map[string]string{
		`2026-10-31 04:05:06 ERROR [loader] gone`: "ERROR", `ts=1 level=warn msg="slow"`: "WARN", `[INFO] ready`: "INFO",
		`{"severity":"error","body":"x"}`: "", `an error was seen`: "", `PANIC: out of memory`: "FATAL",
	} {
		if got := Severity([]byte(line), Scan([]byte(line), nil)); got != want {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
}

// Of two stretches that differ by how counts wander alone about one count in a thousand
// differs, be they Poisson's or wander three times as much; what changed is found.
func TestCountsThatWanderDoNotDiffer(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, spread := range []float64{1, 3} {
		differ, all := 0, 0
		for range 60 {
			var list []Tally
			for i := range 100 {
				mean := 30 * float64(1+i%40)
				draw := func(times float64) int64 {
					return int64(max(mean*times+spread*rng.NormFloat64()*math.Sqrt(mean*times), 0))
				}
				list = append(list, Tally{ID: i, Now: draw(1), Before: draw(4)})
			}
			for _, d := range Compare(list, 4) {
				if all++; d.Way != Same {
					differ++
				}
			}
		}
		if share := float64(differ) / float64(all); share > 0.004 {
			t.Errorf("spread %g: %.4f differ, .001 stated", spread, share)
		}
	}
	var list []Tally
	for i := range 20 {
		list = append(list, Tally{ID: i, Now: 100, Before: 101})
	}
	list = append(list, Tally{ID: 20, Now: 3, Fresh: true}, Tally{ID: 21, Before: 90}, Tally{ID: 22, Now: 300, Before: 100},
		Tally{ID: 23, Now: 20, Before: 100}, Tally{ID: 24, Now: 1, Before: 0})
	got := map[int]string{}
	for _, d := range Compare(list, 1) {
		if d.Way != Same {
			got[d.ID] = d.Way
		}
	}
	if want := map[int]string{20: New, 21: Vanished, 22: More, 23: Less}; !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

func TestASentenceThatDiffersInLittleIsAlike(t *testing.T) {
	of := func(line string) []Place {
		m := NewMiner(10)
		m.Take([]byte(line))
		s, _ := m.Templates()[0].Save()
		return s.Places
	}
	for _, c := range []struct {
		a, b  string
		alike bool
	}{
		{"ERROR could not load the manifest of partner Norrland after 3 tries",
			"ERROR could not load the manifest of partner Sundby after 5 tries", true},
		{"ERROR could not load the manifest of partner Norrland after 3 tries",
			"ERROR could not load the file of partner Norrland after 3 tries again", true},
		{"ERROR disk of /landing is full", "ERROR connection to 10.0.0.7:5432 refused", false},
		{"ERROR disk full", "ERROR disk broken", false}, // of three words one is a quarter too many
		{"2026-11-29T10:00:00Z ERROR disk full", "ERROR disk full", true},
	} {
		if got := Alike(of(c.a), of(c.b)); got != c.alike {
			t.Errorf("%q and %q: alike is %t", c.a, c.b, got)
		}
	}
}

func TestTheGistLeavesOutWhenAndHowGrave(t *testing.T) {
	for text, want := range map[string]string{
		"<time> ERROR [<identifier>] disk of <path> is full": "disk of <path> is full", "[ERROR] [a] [b] gone": "gone",
		"ERROR: gone":    "gone",
		"no such <path>": "no such <path>", "ERROR": "ERROR",
		"an odd sentence about an error in it": "an odd sentence about an error in it",
	} {
		if got := Gist(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
