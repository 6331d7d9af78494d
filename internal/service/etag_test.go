package service_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func TestTheSecondOfTwoWhoChangeAThingIsTold(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	const path = "/api/v1/monitors/scans"
	read := func() (m record.Monitor, tag string) {
		code, text, head := request(t, s, "GET", path, nil, nil)
		if code != 200 || head.Get("ETag") == "" {
			t.Fatalf("%d, tag %q", code, head.Get("ETag"))
		}
		dbtest.Must(t, json.Unmarshal([]byte(text), &m))
		return m, head.Get("ETag")
	}
	s.Settle(t)
	m, tag := read()
	code, text, _ := request(t, s, "GET", path, map[string]string{"If-None-Match": tag}, nil)
	for range 5 { // the service itself may have changed it in between
		if code == http.StatusNotModified {
			break
		}
		m, tag = read()
		code, text, _ = request(t, s, "GET", path, map[string]string{"If-None-Match": tag}, nil)
	}
	if code != http.StatusNotModified || text != "" {
		t.Errorf("who has the newest gets nothing: %d %q", code, text)
	}
	rename := func(owner, tag string) int {
		body, err := json.Marshal(httpapi.MonitorNames{Owner: &owner})
		dbtest.Must(t, err)
		code, _, _ := request(t, s, "PATCH", path, map[string]string{"If-Match": tag, "Content-Type": "application/json"},
			strings.NewReader(string(body)))
		return code
	}
	// A fit in between is in nobody's way.
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors/scans/learn", nil, nil))
	s.Clock.Set(now.Add(1e9))
	s.Settle(t)
	if again, other := read(); other == tag && again.LearnedAt.Equal(*m.LearnedAt) {
		t.Log("the fit came at the same second")
	}
	if code := rename("first", tag); code != 200 {
		t.Errorf("the first is let through: %d", code)
	}
	if code := rename("second", tag); code != http.StatusPreconditionFailed {
		t.Errorf("the second is told: %d", code)
	}
	_, tag = read()
	var wait sync.WaitGroup
	var through atomic.Int64
	for _, owner := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		wait.Go(func() {
			if rename(owner, tag) == 200 {
				through.Add(1)
			}
		})
	}
	wait.Wait()
	if through.Load() != 1 {
		t.Errorf("of eight at once %d were let through", through.Load())
	}
	if code := rename("any", "*"); code != 200 {
		t.Errorf("a star stands for whatever is there: %d", code)
	}
	if code, _, _ := request(t, s, "DELETE", path, map[string]string{"If-Match": tag}, nil); code != http.StatusPreconditionFailed {
		t.Errorf("nor is removed what was changed: %d", code)
	}
	if code, _, _ := request(t, s, "DELETE", "/api/v1/monitors/none", map[string]string{"If-Match": "*"},
		nil); code != http.StatusPreconditionFailed {
		t.Errorf("a star wants that something is there: %d", code)
	}
}
