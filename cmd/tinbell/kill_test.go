package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/sink"
)

// serve runs the service until it answers.
func (p *program) serve() {
	p.t.Helper()
	log, err := os.OpenFile(filepath.Join(filepath.Dir(p.dir), "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	dbtest.Must(p.t, err)
	defer log.Close()
	p.run = exec.Command(p.path, "serve", "--dir", p.dir, "--listen", fmt.Sprintf("127.0.0.1:%d", p.port), "--allow-private", "127.0.0.0/8")
	p.run.Stdout, p.run.Stderr = log, log
	dbtest.Must(p.t, p.run.Start())
	p.t.Cleanup(p.stop)
	p.await("the service answers", time.Minute, func() bool {
		if _, err := os.Stat(filepath.Join(p.dir, "client.json")); err != nil {
			return false
		}
		return p.client().Get(p.t.Context(), "/me", nil, nil) == nil
	})
}

// Faults are pushed, each acknowledged, and the service is killed at a random
// moment after: between keeping samples, judging, grouping, writing the outbox,
// and sending.
func TestKillsLoseNoMessageAndTellNothingTwice(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	t.Parallel()
	const faults = 10
	p := build(t)
	p.dir = filepath.Join(filepath.Dir(p.dir), "service")
	p.serve()
	box, err := sink.Open(t.TempDir())
	dbtest.Must(t, err)
	receiver := httptest.NewServer(box.Receiver())
	t.Cleanup(receiver.Close)
	ctx, c := t.Context(), p.client()
	var set httpapi.SetChannel
	dbtest.Must(t, c.Send(ctx, "POST", "/channels", httpapi.NewChannel{Name: "pager", Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: receiver.URL + "/pager"}, HourlyLimit: 3600}, &set))
	dbtest.Must(t, box.Expect("/pager", set.Secret))
	dbtest.Must(t, c.Send(ctx, "POST", "/routes", httpapi.NewRoute{Name: "all", Channel: "pager", WaitSeconds: new(int64)}, nil))
	last := time.Now().UTC().Truncate(time.Hour).Add(-time.Hour)
	sample := func(name string, at time.Time, v float64) string {
		return fmt.Sprintf(`{"metric":%q,"at":%q,"value":%g}`+"\n", name, at.Format(time.RFC3339), v)
	}
	push := func(body string) {
		t.Helper()
		dbtest.Must(t, p.client().Stream(ctx, "POST", "/samples", "application/x-ndjson", strings.NewReader(body), nil))
	}
	low := 50.0
	settings := record.DefaultSettings()
	settings.Method, settings.Low, settings.Spikes = "fixed", &low, true
	for i := range faults {
		name := fmt.Sprintf("ops.t%d", i)
		dbtest.Must(t, c.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: name, Dataset: name, Measure: "rows",
			Kind: timeline.Count, Period: "1h"}, nil))
		var past strings.Builder
		for at := last.AddDate(0, 0, -5); at.Before(last); at = at.Add(time.Hour) {
			past.WriteString(sample(name, at, 100+float64(at.Hour())))
		}
		push(past.String())
		dbtest.Must(t, c.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: name, Settings: &settings}, nil))
	}
	p.await("the monitors are fitted", time.Minute, func() bool {
		var list []record.Monitor
		dbtest.Must(t, c.Get(ctx, "/monitors", nil, &list))
		fitted := 0
		for _, m := range list {
			if m.LearnedAt != nil {
				fitted++
			}
		}
		return fitted == faults
	})
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for i := range faults {
		push(sample(fmt.Sprintf("ops.t%d", i), last, 0))
		if i%2 == 1 {
			time.Sleep(time.Duration(rng.IntN(500)) * time.Millisecond)
			dbtest.Must(t, p.run.Process.Kill())
			p.run.Wait()
			p.serve()
		}
	}
	opened := func() map[string]map[string]bool { // keys by what was told
		told := map[string]map[string]bool{}
		for _, l := range box.Letters(1000) {
			var event struct {
				Type string
				Data struct{ Dataset string }
			}
			dbtest.Must(t, json.Unmarshal([]byte(l.Text), &event))
			what := event.Type + " " + event.Data.Dataset
			if told[what] == nil {
				told[what] = map[string]bool{}
			}
			told[what][l.Key] = true
			if l.Signature != "valid" {
				t.Errorf("%s: the signature is %s", what, l.Signature)
			}
		}
		return told
	}
	p.await("every fault is told", 4*time.Minute, func() bool { return len(opened()) == faults })
	for what, keys := range opened() {
		if len(keys) != 1 || !strings.HasPrefix(what, "tinbell.group.opened ops.t") {
			t.Errorf("%s was told under %d keys", what, len(keys))
		}
	}
}
