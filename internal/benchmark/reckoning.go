package benchmark

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tinbell/internal/store"
)

// chaosPatience is how long after the last accident faults are waited for.
const chaosPatience = 2 * time.Minute

// reckon waits for what is under way and counts what became of it.
func (c *chaos) reckon(ctx context.Context) error {
	c.say("waiting for what is under way")
	for end := time.Now().Add(chaosPatience); time.Now().Before(end) && ctx.Err() == nil && len(c.untold()) > 0; {
		time.Sleep(200 * time.Millisecond)
	}
	c.result.Faults, c.result.Untold = len(c.planted), len(c.untold())
	c.told.mu.Lock()
	for name, at := range c.planted {
		if told, there := c.told.at[name]; there {
			c.result.Delays = append(c.result.Delays, max(told.Sub(at).Seconds(), 0))
		}
		if len(c.told.keys[name]) > 1 {
			c.result.Doubled++
		}
	}
	c.told.mu.Unlock()
	slices.Sort(c.result.Delays)
	c.result.Acknowledged = len(c.acked)
	there, err := c.kept(ctx, c.untold())
	if err != nil {
		return err
	}
	for key := range c.acked {
		if !there[key] {
			c.result.Lost++
		}
	}
	return nil
}

func (c *chaos) untold() []string {
	c.told.mu.Lock()
	defer c.told.mu.Unlock()
	var list []string
	for name := range c.planted {
		if _, there := c.told.at[name]; !there {
			list = append(list, name)
		}
	}
	return list
}

// kept reads which samples are there, and how far faults came that were not told, from
// the database itself.
func (c *chaos) kept(ctx context.Context, untold []string) (map[string]bool, error) {
	folder := filepath.Join(c.dir, "data", "postgres")
	password, err := os.ReadFile(filepath.Join(folder, "password"))
	if err != nil {
		return nil, err
	}
	port, err := os.ReadFile(filepath.Join(folder, "port"))
	if err != nil {
		return nil, err
	}
	url := fmt.Sprintf("postgres://tinbell:%s@127.0.0.1:%s/tinbell_records?sslmode=disable",
		strings.TrimSpace(string(password)), strings.TrimSpace(string(port)))
	records, err := store.Open(ctx, url)
	for end := time.Now().Add(chaosPatience); err != nil && time.Now().Before(end); { // it may have been killed just now
		if err := pauseFor(ctx, time.Second); err != nil {
			return nil, err
		}
		records, err = store.Open(ctx, url)
	}
	if err != nil {
		return nil, err
	}
	defer records.Close()
	for _, name := range untold {
		stuck, err := howFar(ctx, records, name)
		if err != nil {
			return nil, err
		}
		c.result.Stuck = append(c.result.Stuck, stuck)
	}
	m, err := records.Metric(ctx, "steady")
	if err != nil {
		return nil, err
	}
	list, err := records.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, series := range list {
		samples, err := records.Samples(ctx, []int64{series.ID}, time.Time{}, time.Now().AddDate(1, 0, 0))
		if err != nil {
			return nil, err
		}
		for _, one := range samples[series.ID] {
			there[series.Segment+" "+time.Unix(one.At, 0).UTC().Format(time.RFC3339)] = true
		}
	}
	return there, nil
}

// howFar says what there is of a fault: its sample, its alert, its group, its messages, and
// the jobs that are not done.
func howFar(ctx context.Context, records *store.Store, name string) (string, error) {
	var found string
	err := records.DB.GetContext(ctx, &found, `
		select format('%s: %s samples; fitted %s; alerts %s; groups %s; messages %s; jobs %s', $1::text,
			(select count(*) from sample p join series s on s.id = p.series_id where s.metric_id = m.id), v.learned_at::text,
			(select string_agg(format('%s raised %s, held "%s"', a.id, a.raised_at, a.held), ', ') from alert a where a.monitor_id = v.id),
			(select string_agg(format('%s of %s, merged into %s', g.id, g.origin, g.merged_into), ', ') from alert a join alert_group g on g.id = a.group_id
				where a.monitor_id = v.id),
			(select string_agg(format('%s %s due %s, %s tries %s', t.what, t.state, t.due_at, t.attempts, t.error), ', ')
				from alert a join message t on t.group_id = a.group_id where a.monitor_id = v.id),
			(select string_agg(format('%s %s %s', j.kind, j.state, j.args), ', ') from river_job j where j.finalized_at is null
				and (j.args->>'metric_id' = m.id::text or j.args->>'monitor_id' = v.id::text)))
		from metric m left join monitor v on v.metric_id = m.id where m.name = $1`, name)
	if err != nil {
		return "", fmt.Errorf("look for %s: %w", name, err)
	}
	return found, nil
}

// faultsTold takes webhooks and notes of each fault when it was told first, and
// under how many keys.
type faultsTold struct {
	mu   sync.Mutex
	at   map[string]time.Time
	keys map[string]map[string]bool
}

func (f *faultsTold) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var event struct {
		Type string
		Data struct{ Dataset string }
	}
	err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&event)
	f.mu.Lock()
	defer f.mu.Unlock()
	if err == nil && strings.HasSuffix(event.Type, ".opened") {
		name := event.Data.Dataset
		if f.keys[name] == nil {
			f.at[name], f.keys[name] = time.Now(), map[string]bool{}
		}
		f.keys[name][r.Header.Get("webhook-id")] = true
	}
	w.WriteHeader(http.StatusNoContent)
}
