package record_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// imports gives each package's imports within the module.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "tinbell/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	found := map[string][]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		found[fields[0]] = fields[1:]
	}
	return found
}

// allowed are the rooms that each room may look into; what is not listed is not
// allowed. A room below another is listed by its own path.
var allowed = map[string]string{
	"core/timeline":  "",
	"core/baseline":  "core/timeline core/robust",
	"core/figures":   "",
	"core/character": "core/timeline core/robust core/baseline",
	"core/detect":    "core/timeline core/robust core/baseline core/figures",
	"core/arrival":   "core/timeline core/robust core/baseline core/detect",
	"core/replay":    "core/timeline core/robust core/baseline core/detect core/score",
	"core/filter":    "core/timeline core/robust core/detect core/score",
	"core/tune":      "",
	"core/robust":    "",
	"core/diagnose":  "",
	"core/forecast":  "core/timeline core/robust core/baseline",
	"core/score":     "",
	"core/drift":     "core/score",
	"core/fault":     "core/robust",
	"core/trend":     "core/robust",
	"core/outlier":   "core/robust",

	"core/consistency": "",
	"core/standard":    "",
	"core/template":    "core/robust",

	"internal/contain":    "",
	"internal/record":     "core/*",
	"internal/words":      "",
	"internal/book":       "",
	"internal/flat":       "internal/record",
	"internal/outward":    "",
	"internal/backup":     "internal/localpg internal/people",
	"internal/telemetry":  "internal/vitals",
	"internal/vitals":     "core/* internal/collect internal/store internal/words",
	"internal/logs":       "core/* internal/collect internal/collect/landing internal/collect/otlp internal/contain internal/record internal/store internal/words",
	"internal/feed":       "internal/calendar internal/outward internal/people internal/record internal/store",
	"internal/draw":       "core/* internal/chart internal/compare internal/diagnose internal/record internal/replays internal/scorecard internal/study internal/words",
	"internal/store":      "core/* internal/record internal/store/pack",
	"internal/store/pack": "core/timeline",
	"internal/work":       "internal/contain",
	"internal/duty":       "internal/contain internal/store",
	"internal/people":     "internal/record internal/store",
	"internal/localpg":    "",
	"internal/sink":       "",

	"internal/collect/bound":     "",
	"internal/collect/columns":   "core/drift internal/collect/bound internal/contain",
	"internal/collect/landing":   "internal/collect/bound internal/record",
	"internal/collect/lineage":   "internal/record",
	"internal/collect/otlp":      "internal/collect/bound internal/record",
	"internal/collect/warehouse": "core/* internal/record internal/store internal/outward internal/people",
	"internal/collect":           "core/* internal/collect/* internal/contain internal/flat internal/record internal/store internal/work internal/words",

	"internal/watch":     "core/* internal/contain internal/duty internal/record internal/store internal/words",
	"internal/calendar":  "core/timeline internal/contain internal/duty internal/record internal/setup internal/store",
	"internal/incident":  "core/detect internal/flat internal/record internal/setup internal/store",
	"internal/label":     "core/score internal/flat internal/incident internal/record internal/setup internal/store internal/work",
	"internal/setup":     "core/detect core/timeline internal/collect/landing internal/record internal/store internal/work",
	"internal/compare":   "core/* internal/collect internal/collect/* internal/contain internal/record internal/setup internal/store internal/work internal/words internal/watch",
	"internal/scorecard": "core/score core/timeline internal/record internal/store internal/watch internal/wire",
	"internal/lessons":   "core/* internal/record internal/store internal/watch internal/words",
	"internal/replays":   "core/* internal/contain internal/lessons internal/record internal/scorecard internal/store internal/study internal/watch internal/wire internal/words",
	"internal/study":     "core/* internal/record internal/store internal/watch internal/wire internal/words",
	"internal/chart":     "core/* internal/record internal/store internal/study internal/watch internal/wire",
	"internal/health":    "core/* internal/record internal/store internal/watch internal/wire",
	"internal/lineage":   "core/* internal/record internal/store internal/watch",
	"internal/reconcile": "core/* internal/collect internal/collect/warehouse internal/contain internal/record internal/setup internal/store internal/work",
	"internal/diagnose":  "core/* internal/collect/warehouse internal/contain internal/lineage internal/record internal/store internal/study internal/words",
	"internal/faults":    "core/* internal/contain internal/record internal/store internal/words",
	"internal/notify":    "core/* internal/chart internal/contain internal/draw internal/faults internal/outward internal/people internal/record internal/store internal/words",
	"internal/config":    "core/* internal/calendar internal/collect internal/collect/* internal/compare internal/feed internal/notify internal/record internal/setup internal/store internal/watch",

	"internal/httpapi/proxies": "",
	"internal/httpapi":         "core/* internal/calendar internal/chart internal/collect internal/collect/* internal/compare internal/config internal/contain internal/diagnose internal/draw internal/faults internal/feed internal/flat internal/health internal/httpapi/proxies internal/incident internal/label internal/lessons internal/lineage internal/logs internal/notify internal/people internal/reconcile internal/record internal/replays internal/scorecard internal/setup internal/sink internal/store internal/study internal/vitals internal/watch internal/wire internal/words internal/work",
	"internal/service":         "core/* internal/calendar internal/chart internal/collect internal/collect/warehouse internal/compare internal/config internal/contain internal/diagnose internal/duty internal/faults internal/feed internal/health internal/httpapi internal/incident internal/label internal/lessons internal/lineage internal/localpg internal/logs internal/notify internal/people internal/reconcile internal/record internal/replays internal/scorecard internal/setup internal/sink internal/store internal/study internal/telemetry internal/vitals internal/watch internal/work web",
	"internal/client":          "internal/record internal/wire",
	"internal/wire":            "",

	"internal/browser": "internal/dbtest",
	"internal/pgtest":  "internal/localpg",
	// Tests of two rooms through the whole service; apart, so that it is compiled for them once.
	"internal/service/comparison": "",
	"internal/service/telling":    "",
	"internal/dbtest":             "internal/client internal/localpg internal/pgtest internal/service internal/store internal/work",
	"internal/demo":               "core/* internal/*",
	"internal/benchmark":          "core/* internal/*",
	"internal/benchmark/corpus":   "core/*",
	"internal/benchmark/grouping": "core/* internal/benchmark/corpus",
	"internal/cli":                "core/* internal/*",
	"cmd/tinbell":                 "internal/cli",
	"tools/pictures":              "internal/*",
	"tools/prior":                 "core/* internal/*",
	"web":                         "",
}

// others are packages of others that a room may not use, whoever it looks into.
var others = map[string][]string{
	"core/":              {"net", "net/http", "database/sql", "os", "log/slog", "github.com/", "golang.org/"},
	"internal/record":    {"net/http", "github.com/"},
	"internal/store":     {"net/http", "github.com/go-chi", "github.com/danielgtaylor"},
	"internal/collect":   {"net/http", "github.com/go-chi", "github.com/danielgtaylor"},
	"internal/watch":     {"net/http"},
	"internal/setup":     {"net/http"},
	"internal/scorecard": {"net/http"},
	"internal/lessons":   {"net/http"},
	"internal/replays":   {"net/http"},
	"internal/label":     {"net/http"},
	"internal/incident":  {"net/http"},
	"internal/calendar":  {"net/http"},
	"internal/chart":     {"net/http"},
	"internal/study":     {"net/http"},
	"internal/health":    {"net/http"},
	"internal/lineage":   {"net/http"},
	"internal/faults":    {"net/http"},
	"internal/benchmark": nil,
}

func TestArrowsRunOneWay(t *testing.T) {
	seen := map[string]bool{}
	for path, list := range imports(t) {
		room := strings.TrimPrefix(path, "tinbell/")
		may, listed := allowed[room]
		if !listed {
			t.Errorf("%s is a room that may look into nothing: say what it may", room)
			continue
		}
		seen[room] = true
		for _, used := range list {
			if below, own := strings.CutPrefix(used, "tinbell/"); own && !matches(strings.Fields(may), below) {
				t.Errorf("%s must not import %s", room, below)
			}
			for prefix, bad := range others {
				if strings.HasPrefix(room, prefix) && slices.ContainsFunc(bad,
					func(b string) bool { return used == b || strings.HasSuffix(b, "/") && strings.HasPrefix(used, b) }) {
					t.Errorf("%s must not import %s", room, used)
				}
			}
		}
	}
	for room := range allowed {
		if !seen[room] {
			t.Errorf("%s is listed and is not there", room)
		}
	}
}

// matches tells whether a room is among patterns; one that ends in * stands for all
// rooms below.
func matches(patterns []string, room string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		prefix, all := strings.CutSuffix(p, "*")
		return p == room || all && strings.HasPrefix(room, prefix)
	})
}
