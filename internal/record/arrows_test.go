package record_test

import (
	"os/exec"
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

func TestArrowsRunOneWay(t *testing.T) {
	above := []string{"tinbell/internal/httpapi", "tinbell/internal/cli", "tinbell/internal/service", "net/http", "github.com/go-chi", "github.com/danielgtaylor"}
	forbidden := map[string][]string{
		"tinbell/core/":            {"tinbell/internal/", "net/", "database/sql", "github.com/", "os", "log/slog"},
		"tinbell/internal/record":  {"tinbell/internal/"},
		"tinbell/internal/store":   append([]string{"tinbell/internal/collect", "tinbell/internal/watch", "tinbell/internal/answer", "tinbell/internal/improve", "tinbell/internal/work"}, above...),
		"tinbell/internal/work":    append([]string{"tinbell/internal/store", "tinbell/internal/record"}, above...),
		"tinbell/internal/collect": append([]string{"tinbell/internal/watch", "tinbell/internal/improve"}, above...),
		"tinbell/internal/watch":   append([]string{"tinbell/internal/collect", "tinbell/internal/improve"}, above...),
		"tinbell/internal/answer":  above,
		"tinbell/internal/improve": above,
		"tinbell/internal/inspect": above,
		"tinbell/internal/people":  above,
		"tinbell/internal/client":  {"tinbell/internal/store", "tinbell/internal/httpapi"},
		"tinbell/internal/httpapi": {"tinbell/internal/cli", "tinbell/internal/client", "tinbell/internal/demo"},
	}
	seen := 0
	for pkg, list := range imports(t) {
		for prefix, bad := range forbidden {
			if !strings.HasPrefix(pkg, prefix) {
				continue
			}
			seen++
			for _, used := range list {
				for _, b := range bad {
					if used == b || strings.HasPrefix(used, b) && (strings.HasSuffix(b, "/") || strings.Contains(b, "/")) {
						t.Errorf("%s must not import %s", pkg, used)
					}
				}
			}
		}
	}
	if seen < len(forbidden) {
		t.Errorf("only %d packages were looked at", seen)
	}
}
