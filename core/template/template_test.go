package template

import (
	"bytes"
	"fmt"
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
	if len(list) != 3 || list[0].String() != "loaded <number> rows into <identifier> in <number>" || list[1].String() != "connection opened" || list[2].String() != "connection closed" {
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
	lines := [][]byte{nil, []byte(" "), {0}, {0xff, 0xfe}, []byte(strings.Repeat("x", 1<<20)), []byte(strings.Repeat("a ", 100_000)), []byte(strings.Repeat("[", 5000)), []byte(strings.Repeat(`"`, 999)), []byte(`"\`)}
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
