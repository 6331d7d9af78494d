package web

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
)

// Every address of the console is its page, built files are kept for ever by browsers, and
// one of another build is said to be gone rather than given as a page: then the page says
// that it is of another version.
func TestAddressesArePagesAndFilesOfOtherBuildsAreGone(t *testing.T) {
	get := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		Handler().ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w
	}
	page := get("/")
	script := regexp.MustCompile(`/assets/index-[^"]+\.js`).FindString(page.Body.String())
	if script == "" {
		t.Fatalf("the first page names no script: %.300s", page.Body.String())
	}
	for _, path := range []string{"/alerts/7", "/setup/people", "/nowhere"} {
		if w := get(path); w.Code != 200 || w.Body.String() != page.Body.String() || w.Header().Get("Cache-Control") != "no-cache" {
			t.Errorf("%s: %d, %s", path, w.Code, w.Header().Get("Cache-Control"))
		}
	}
	if w := get(script); w.Code != 200 || !strings.Contains(w.Header().Get("Cache-Control"), "immutable") ||
		!strings.Contains(w.Header().Get("Content-Type"), "javascript") {
		t.Errorf("%s: %d %v", script, w.Code, w.Header())
	}
	if w := get("/assets/AlertPage-0ld0ne.js"); w.Code != http.StatusNotFound {
		t.Errorf("a file of another build: %d", w.Code)
	}
}

// The first page comes with little script: those of other pages are fetched when they are
// wanted, and what draws charts when there is one.
func TestTheFirstPageNamesNoScriptOfAnother(t *testing.T) {
	w := httptest.NewRecorder()
	Handler().ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/", nil))
	named := regexp.MustCompile(`assets/[^"]+\.js`).FindAllString(w.Body.String(), -1)
	if len(named) == 0 || len(named) > 10 {
		t.Errorf("%d scripts: %v", len(named), named)
	}
	for _, other := range []string{"AlertPage", "MonitorPage", "SeriesChart", "Small-", "DriftPage", "SetupPage", "LogsPage"} {
		if strings.Contains(strings.Join(named, " "), other) {
			t.Errorf("%s comes with the first page: %v", other, named)
		}
	}
}
