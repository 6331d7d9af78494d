package benchmark

import (
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"time"

	"tinbell/core/template"
)

// LogScene is a log whose sentences are known.
type LogScene struct {
	Templates int // true ones
	Lines     int
	Seed      uint64
}

// LogResult is how well templates were found.
type LogResult struct {
	Name      string  `json:"name"`
	Lines     int     `json:"lines"`
	True      int     `json:"true_templates"`
	Found     int     `json:"found_templates"`
	Grouping  float64 `json:"grouping" doc:"share of lines whose whole group is exactly right"`
	Templates float64 `json:"templates" doc:"share of true templates whose constant and variable parts are exactly right"`
	Order     float64 `json:"order" doc:"share of lines grouped alike when the log is read backwards"`
	PerSecond float64 `json:"lines_per_second" doc:"on one core"`
	Megabytes float64 `json:"megabytes" doc:"held by templates"`
}

// slot is a variable part of a true template.
type slot struct {
	kind string
	make func(*rand.Rand) string
}

// sentence is a true template: constant texts with slots between.
type sentence struct {
	texts []string // one more than slots
	slots []slot
}

// say writes a line, and where its variable parts lie.
func (s sentence) say(rng *rand.Rand) (line string, varies [][2]int) {
	var b strings.Builder
	for i, text := range s.texts {
		b.WriteString(text)
		if i < len(s.slots) {
			from := b.Len()
			b.WriteString(s.slots[i].make(rng))
			varies = append(varies, [2]int{from, b.Len()})
		}
	}
	return b.String(), varies
}

var logWords = strings.Fields(`loader batch partition queue retry commit rollback schema column checksum manifest ledger ferry berth gate scanner kiosk refund voucher deck
manifesto crew roster tide harbour pilot tariff invoice parcel crate pallet hold bridge engine radar beacon buoy anchor cable winch ramp lounge turnstile boarding
opened closed started stopped paused resumed skipped finished queued dropped merged split read wrote compared verified rejected accepted expired renewed published archived
before after during without within until across beyond because while unless against toward behind onto upon via per slow late early stale fresh empty full partial broken ready idle busy
utf8 http2 v2 s3 sha256 x86 tls1.3 phase-2 worker planner writer reader keeper watcher broker router cache index cursor lease lock snapshot delta journal segment replica shard bucket token cookie header footer payload envelope`)

var otherWords = map[string][]string{
	"german":   strings.Fields("Fähre Größe prüfen übertragen gelöscht Zeile Spalte Schlüssel ungültig während geöffnet schließen Überlauf Lücke Datei gelesen"),
	"greek":    strings.Fields("πλοίο γραμμή στήλη αρχείο λιμάνι εισιτήριο σφάλμα έτοιμο κλειστό ανοιχτό ουρά πύλη φορτίο ώρα"),
	"russian":  strings.Fields("паром строка столбец файл порт билет ошибка готово закрыто открыто очередь ворота груз время"),
	"japanese": strings.Fields("行を 件読み込みました ファイルが 見つかりません 港の 門を 開きました 閉じました 再試行 列の 値が 不正です"),
}

// slotsOf are the kinds of variable parts.
func slotsOf() []slot {
	hex := func(rng *rand.Rand, n int) string {
		const digits = "0123456789abcdef"
		b := make([]byte, n)
		for i := range b {
			b[i] = digits[rng.IntN(16)]
		}
		return string(b)
	}
	return []slot{
		{"number", func(r *rand.Rand) string { return fmt.Sprint(r.IntN(100000)) }},
		{"decimal", func(r *rand.Rand) string { return fmt.Sprintf("%.3f", 100*r.Float64()) }},
		{"negative", func(r *rand.Rand) string { return fmt.Sprint(r.IntN(2000) - 1000) }},
		{"duration", func(r *rand.Rand) string {
			return fmt.Sprintf("%d%s", 1+r.IntN(900), []string{"ms", "s", "us", "m"}[r.IntN(4)])
		}},
		{"size", func(r *rand.Rand) string {
			return fmt.Sprintf("%.1f%s", 900*r.Float64(), []string{"kB", "MB", "GiB"}[r.IntN(3)])
		}},
		{"per cent", func(r *rand.Rand) string { return fmt.Sprintf("%d%%", r.IntN(101)) }},
		{"time", func(r *rand.Rand) string {
			return time.Unix(1_700_000_000+r.Int64N(5e7), r.Int64N(1e9)).UTC().Format("2006-01-02T15:04:05.000Z")
		}},
		{"clock", func(r *rand.Rand) string {
			return fmt.Sprintf("%02d:%02d:%02d", r.IntN(24), r.IntN(60), r.IntN(60))
		}},
		{"day", func(r *rand.Rand) string {
			return time.Unix(1_700_000_000+r.Int64N(5e7), 0).UTC().Format("2006-01-02")
		}},
		{"long identifier", func(r *rand.Rand) string {
			return hex(r, 8) + "-" + hex(r, 4) + "-4" + hex(r, 3) + "-a" + hex(r, 3) + "-" + hex(r, 12)
		}},
		{"short identifier", func(r *rand.Rand) string { return "0x" + hex(r, 8) }},
		{"job", func(r *rand.Rand) string { return fmt.Sprintf("job-%d", r.IntN(9000)) }},
		{"address", func(r *rand.Rand) string {
			return fmt.Sprintf("10.%d.%d.%d:%d", r.IntN(256), r.IntN(256), r.IntN(256), 1024+r.IntN(60000))
		}},
		{"mailbox", func(r *rand.Rand) string {
			return fmt.Sprintf("%s.%d@ferries.example", logWords[r.IntN(len(logWords))], r.IntN(99))
		}},
		{"page", func(r *rand.Rand) string {
			return fmt.Sprintf("https://ferries.example/%s/%d?page=%d", logWords[r.IntN(len(logWords))], r.IntN(900), r.IntN(30))
		}},
		{"path", func(r *rand.Rand) string {
			return fmt.Sprintf("/var/land/%s/%s-%d.parquet", logWords[r.IntN(len(logWords))], logWords[r.IntN(len(logWords))], r.IntN(999))
		}},
		{"quoted", func(r *rand.Rand) string {
			list := make([]string, 1+r.IntN(6))
			for i := range list {
				list[i] = logWords[r.IntN(len(logWords))]
			}
			return `"` + strings.Join(list, " ") + `"`
		}},
		{"number or none", func(r *rand.Rand) string {
			if r.IntN(6) == 0 {
				return []string{"none", "null", "-"}[r.IntN(3)]
			}
			return fmt.Sprint(r.IntN(900))
		}},
		{"host", func(r *rand.Rand) string {
			if r.IntN(5) == 0 {
				return []string{"primary", "standby", "gateway", "localhost"}[r.IntN(4)]
			}
			return fmt.Sprintf("%s%d", []string{"db", "land", "edge"}[r.IntN(3)], r.IntN(40))
		}},
		{"bare hexadecimal", func(r *rand.Rand) string { return hex(r, 8) }},
		{"version", func(r *rand.Rand) string { return fmt.Sprintf("%d.%d.%d", r.IntN(4), r.IntN(20), r.IntN(30)) }},
		{"flag", func(r *rand.Rand) string { return []string{"true", "false"}[r.IntN(2)] }},
		{"list", func(r *rand.Rand) string {
			list := make([]string, 2+r.IntN(7))
			for i := range list {
				list[i] = fmt.Sprint(r.IntN(500))
			}
			return "[" + strings.Join(list, ", ") + "]"
		}},
	}
}

// name is a slot whose values are words: of so many.
func name(rng *rand.Rand, of int) slot {
	list := make([]string, of)
	for i := range list {
		list[i] = string(rune('a'+rng.IntN(26))) + logWords[rng.IntN(len(logWords))] + string(rune('a'+rng.IntN(26)))
	}
	return slot{"name", func(r *rand.Rand) string { return list[r.IntN(len(list))] }}
}

// sentences makes true templates: no two alike, a tenth of them in pairs that differ in
// one constant word, a tenth in other languages.
func sentences(rng *rand.Rand, n int) []sentence {
	slots := slotsOf()
	var list []sentence
	seen := map[string]bool{}
	for len(list) < n {
		words := logWords
		if rng.IntN(10) == 0 {
			words = otherWords[[]string{"german", "greek", "russian", "japanese"}[rng.IntN(4)]]
		}
		var s sentence
		text := ""
		for k, length := 0, 3+rng.IntN(9); k < length; k++ {
			if k > 0 {
				text += []string{" ", " ", " ", " ", ": ", ", "}[rng.IntN(6)]
			}
			switch r := rng.Float64(); {
			case k > 0 && r < 0.3:
				if rng.IntN(4) == 0 {
					text += words[rng.IntN(len(words))] + "="
				}
				s.texts, text = append(s.texts, text), ""
				if one := slots[rng.IntN(len(slots))]; rng.IntN(8) > 0 {
					s.slots = append(s.slots, one)
				} else {
					s.slots = append(s.slots, name(rng, []int{12, 60, 400}[rng.IntN(3)]))
				}
			default:
				text += words[rng.IntN(len(words))]
			}
		}
		s.texts = append(s.texts, text)
		key := strings.Join(s.texts, "\x00")
		if len(strings.Fields(strings.Join(s.texts, " "))) < 2 || seen[key] {
			continue
		}
		seen[key] = true
		list = append(list, s)
		if fields := strings.Fields(s.texts[0]); len(list) < n && rng.IntN(10) == 0 && len(fields) > 0 {
			// Its twin says the opposite in one word.
			other := sentence{slices.Clone(s.texts), s.slots}
			other.texts[0] = strings.Replace(s.texts[0], fields[0], []string{"un" + fields[0], "re" + fields[0]}[rng.IntN(2)], 1)
			if key := strings.Join(other.texts, "\x00"); !seen[key] {
				seen[key] = true
				list = append(list, other)
			}
		}
	}
	return list
}

// Logs finds the templates of a generated log and says how right they are.
func Logs(q LogScene) LogResult {
	rng := rand.New(rand.NewPCG(q.Seed, 77))
	truth := sentences(rng, q.Templates)
	heads := make([]string, len(truth))
	for i := range heads {
		heads[i] = fmt.Sprintf("%s [%s.%s]", []string{"INFO", "INFO", "INFO", "WARN", "ERROR", "DEBUG"}[rng.IntN(6)],
			logWords[rng.IntN(30)], logWords[rng.IntN(30)])
	}
	at := time.Date(2026, 10, 31, 4, 0, 0, 0, time.UTC)
	// A few sentences make most lines, many are rare (Zipf).
	weights := make([]float64, len(truth))
	sum := 0.0
	for i, k := range rng.Perm(len(truth)) {
		weights[k] = 1 / math.Pow(float64(i+1), 1.1)
		sum += weights[k]
	}
	lines, of := make([][]byte, q.Lines), make([]int, q.Lines)
	varies := make([][][2]int, q.Lines)
	for i := range lines {
		left := rng.Float64() * sum
		for k, w := range weights {
			if left -= w; left <= 0 || k == len(weights)-1 {
				of[i] = k
				break
			}
		}
		line, where := truth[of[i]].say(rng)
		if q.Seed%2 == 0 { // every other log has a head on each line
			at = at.Add(time.Duration(rng.ExpFloat64() * 3e8))
			stamp := at.Format("2006-01-02 15:04:05.000")
			head := stamp + " " + heads[of[i]] + " "
			for k := range where {
				where[k][0], where[k][1] = where[k][0]+len(head), where[k][1]+len(head)
			}
			line, where = head+line, append([][2]int{{0, len(stamp)}}, where...)
		}
		lines[i], varies[i] = []byte(line), where
	}
	forward, took, held, miner := mined(lines, false)
	backward, _, _, _ := mined(lines, true)
	r := LogResult{Name: fmt.Sprintf("%d templates, seed %d", q.Templates, q.Seed), Lines: q.Lines, Found: len(miner.Templates()),
		PerSecond: float64(q.Lines) / took.Seconds(), Megabytes: held}
	there := map[int]bool{}
	for _, k := range of {
		there[k] = true
	}
	r.True = len(there)
	r.Grouping = alike(of, forward)
	r.Order = alike(forward, backward)
	r.Templates = exact(of, forward, lines, varies, miner)
	return r
}

// mined gives each line its template's number, after all were read.
func mined(lines [][]byte, backward bool) (ids []int, took time.Duration, megabytes float64, m *template.Miner) {
	taken := make([]*template.Template, len(lines))
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	m = template.NewMiner(10_000)
	begun := time.Now()
	for k := range lines {
		i := k
		if backward {
			i = len(lines) - 1 - k
		}
		taken[i] = m.Take(lines[i])
	}
	took = time.Since(begun)
	runtime.GC()
	runtime.ReadMemStats(&after)
	ids = make([]int, len(lines))
	for i, t := range taken {
		ids[i] = t.Number()
	}
	return ids, took, max(float64(after.HeapAlloc)-float64(before.HeapAlloc), 0) / 1e6, m
}

// alike is the share of lines whose group is the same, whole, in both.
func alike(a, b []int) float64 {
	inA, inB := map[int]int{}, map[int]int{}
	both := map[[2]int]int{}
	for i := range a {
		inA[a[i]]++
		inB[b[i]]++
		both[[2]int{a[i], b[i]}]++
	}
	right := 0
	for pair, n := range both {
		if n == inA[pair[0]] && n == inB[pair[1]] {
			right += n
		}
	}
	return float64(right) / float64(len(a))
}

// exact is the share of true templates of which up to five lines have just their variable
// parts marked as such. A part counts as variable if a variable stretch lies in it.
func exact(of, found []int, lines [][]byte, varies [][][2]int, m *template.Miner) float64 {
	byID := map[int]*template.Template{}
	for _, t := range m.Templates() {
		byID[t.ID] = t
	}
	looked, wrong := map[int]int{}, map[int]bool{}
	for i, k := range of {
		if looked[k]++; looked[k] > 5 {
			continue
		}
		t := byID[found[i]]
		if t == nil {
			wrong[k] = true
			continue
		}
		for at, p := range template.Scan(lines[i], nil) {
			varied := slices.ContainsFunc(varies[i], func(s [2]int) bool { return s[0] < p.To && s[1] > p.From })
			if at >= len(t.Places) || p.Kind != template.Mark && varied == t.Fixed(at) {
				wrong[k] = true
				break
			}
		}
	}
	return 1 - float64(len(wrong))/float64(len(looked))
}
