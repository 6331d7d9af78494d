package benchmark

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/localpg"
	"tinbell/internal/record"
)

// ChaosOrder says how long accidents happen, to which program, and which.
type ChaosOrder struct {
	Program   string        // that is run as the service
	For       time.Duration // of accidents; what is under way afterwards is waited for
	Every     time.Duration // between accidents
	Seed      uint64
	Accidents []string // empty: all that can be made here
	Processes int      // of the service, on one database of their own; 0 or 1: one, with a private database
}

// Chaos is what a service went through, and what became of what it acknowledged.
type Chaos struct {
	Accidents    map[string]int `json:"accidents"`
	Left         []string       `json:"left_out" doc:"accidents that could not be made here, and why"`
	Acknowledged int            `json:"acknowledged" doc:"samples"`
	Refused      int            `json:"refused" doc:"pushes that were not acknowledged: none of these count"`
	Lost         int            `json:"lost" doc:"acknowledged samples that are not there in the end"`
	Faults       int            `json:"faults" doc:"planted, one after another"`
	Untold       int            `json:"untold" doc:"of these, never told"`
	Stuck        []string       `json:"stuck" doc:"how far each of these came"`
	Doubled      int            `json:"doubled" doc:"of these, told under two keys"`
	Delays       []float64      `json:"delays_seconds" doc:"from acknowledging a fault's sample to its message, accidents or not"`
	Peak         int            `json:"peak_mb" doc:"of the resident memory of a process of the service"`
}

// ClockFile names, by environment, a file with the seconds by which a service's
// clock is off: what a chaos run steps.
const ClockFile = "TINBELL_REHEARSAL_CLOCK"

// chaos is a run under way.
type chaos struct {
	order   ChaosOrder
	say     func(string)
	rng     *rand.Rand
	dir     string
	ports   []int           // of each process
	shared  *localpg.Server // that several processes have; nil: the one process has its own
	mounted bool
	told    *faultsTold

	mu      sync.Mutex
	runs    []*exec.Cmd
	turn    int                  // of the processes, who is asked next
	acked   map[string]bool      // samples
	planted map[string]time.Time // faults, by dataset, when acknowledged
	result  Chaos
}

// RunChaos starts a service with a private PostgreSQL, sends it samples without a
// pause, plants faults, and has accidents happen to it. At the end it waits for
// what is under way and counts.
func RunChaos(ctx context.Context, order ChaosOrder, say func(string)) (Chaos, error) {
	c := &chaos{order: order, say: say, rng: rand.New(rand.NewPCG(order.Seed, 1)), acked: map[string]bool{},
		planted: map[string]time.Time{},
		told:    &faultsTold{at: map[string]time.Time{}, keys: map[string]map[string]bool{}}, result: Chaos{Accidents: map[string]int{}}}
	if err := c.prepare(); err != nil {
		return c.result, err
	}
	defer c.clear()
	receiver, address, err := c.receive()
	if err != nil {
		return c.result, err
	}
	defer receiver.Close()
	for i := range c.ports {
		if err := c.serve(ctx, i); err != nil {
			return c.result, err
		}
		defer c.end(i, syscall.SIGKILL)
	}
	if err := c.setUp(ctx, address); err != nil {
		return c.result, err
	}
	within, cancel := context.WithTimeout(ctx, order.For)
	defer cancel()
	var wait sync.WaitGroup
	wait.Go(func() { c.push(within) })
	wait.Go(func() { c.plant(within) })
	wait.Go(func() { c.weigh(within) })
	c.happen(within)
	wait.Wait()
	if ctx.Err() != nil {
		return c.result, ctx.Err()
	}
	return c.result, c.reckon(ctx)
}

// diskSize is that of the disk a run is given, if it can make one.
const diskSize = 1500 << 20

func (c *chaos) prepare() error {
	dir, err := os.MkdirTemp("", "tinbell-chaos-")
	if err != nil {
		return err
	}
	c.dir = dir
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%d,mode=755", diskSize)); err != nil {
		c.result.Left = append(c.result.Left, "disk full: a small disk cannot be made here ("+err.Error()+")")
	} else {
		c.mounted = true
	}
	if err := os.MkdirAll(filepath.Join(dir, "landing"), 0o755); err != nil {
		return err
	}
	for range max(1, c.order.Processes) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l.Close()
		c.ports = append(c.ports, l.Addr().(*net.TCPAddr).Port)
	}
	c.runs = make([]*exec.Cmd, len(c.ports))
	if len(c.ports) > 1 {
		// Where a single process would have it, so that it is found alike.
		if c.shared, err = localpg.Start(context.Background(), localpg.Options{Dir: filepath.Join(c.dir, "data", "postgres")}); err != nil {
			return err
		}
		if _, err := c.shared.EnsureDatabase(context.Background(), "tinbell_records"); err != nil {
			return err
		}
	}
	return c.setClock(0)
}

func (c *chaos) clear() {
	if c.shared != nil {
		c.shared.Stop()
	}
	if c.mounted {
		syscall.Unmount(c.dir, syscall.MNT_DETACH)
	}
	os.RemoveAll(c.dir)
}

func (c *chaos) receive() (*http.Server, string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	server := &http.Server{Handler: c.told}
	go server.Serve(l)
	return server, "http://" + l.Addr().String() + "/", nil
}

// serve runs a process of the service until it is ready.
func (c *chaos) serve(ctx context.Context, i int) error {
	log, err := os.OpenFile(filepath.Join(os.TempDir(), "tinbell-chaos.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	at := fmt.Sprintf("127.0.0.1:%d", c.ports[i])
	run := exec.Command(c.order.Program, "serve", "--dir", filepath.Join(c.dir, "data"), "--listen", at, "--sign-in=false",
		"--allow-private", "127.0.0.0/8")
	run.Env = append(os.Environ(), ClockFile+"="+c.clockFile())
	if c.shared != nil {
		run.Env = append(run.Env, "TINBELL_DATABASE="+c.shared.URL("tinbell_records"))
	}
	run.Stdout, run.Stderr = log, log
	if err := run.Start(); err != nil {
		return err
	}
	c.mu.Lock()
	c.runs[i] = run
	c.mu.Unlock()
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if answer, err := http.Get("http://" + at + "/readyz"); err == nil {
			answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return nil
			}
		}
		if ctx.Err() != nil || time.Now().After(end) {
			return errors.New("the service does not come up: see " + log.Name())
		}
	}
}

// address is that of a process: each in turn.
func (c *chaos) address() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turn++
	return fmt.Sprintf("http://127.0.0.1:%d", c.ports[c.turn%len(c.ports)])
}

func (c *chaos) clockFile() string { return filepath.Join(c.dir, "clock") }

func (c *chaos) end(i int, signal syscall.Signal) {
	c.mu.Lock()
	run := c.runs[i]
	c.mu.Unlock()
	run.Process.Signal(signal)
	run.Wait()
}

// sound and bad are the value of a sample that is as it should be, and of a fault.
const sound, bad = 100, 0

func (c *chaos) setUp(ctx context.Context, receiver string) error {
	to := client.New(c.address(), "")
	wait := int64(0)
	for _, set := range []struct {
		path string
		body any
	}{
		{"/channels", httpapi.NewChannel{Name: "chaos", Kind: record.ChannelWebhook,
			Settings: record.ChannelSettings{URL: receiver}, HourlyLimit: 3600}},
		{"/routes", httpapi.NewRoute{Name: "chaos", Channel: "chaos", WaitSeconds: &wait}},
		{"/metrics/declare", collect.Declaration{Metric: "steady", Dataset: "chaos.steady", Measure: "rows", Kind: timeline.Count,
			Period: "1m", MaxSegments: 1000}},
		{"/sources", httpapi.NewSource{Name: "landing", Address: filepath.Join(c.dir, "landing")}},
		{"/datasets", httpapi.NewDataset{Source: "landing", Name: "files", Pattern: "{port}.csv"}},
		{"/metrics", httpapi.NewMetric{Dataset: "files", Name: "file-rows", Measure: "rows", PeriodSeconds: 3600, EverySeconds: 5}},
	} {
		if err := to.Send(ctx, "POST", set.path, set.body, nil); err != nil {
			return fmt.Errorf("set up %s: %w", set.path, err)
		}
	}
	return nil
}

// push sends samples without a pause, and keeps which were acknowledged.
func (c *chaos) push(ctx context.Context) {
	start := time.Now().UTC().Truncate(time.Minute).AddDate(0, 0, -3)
	for turn := 0; ctx.Err() == nil; turn++ {
		var body strings.Builder
		var keys []string
		at := start.Add(time.Duration(turn%4000) * time.Minute).Format(time.RFC3339)
		for i := range 100 {
			segment := fmt.Sprintf("s%d", turn/4000*100+i)
			keys = append(keys, segment+" "+at)
			fmt.Fprintf(&body, `{"metric":"steady","segment":%q,"at":%q,"value":%d}`+"\n", segment, at, turn)
		}
		if c.send(ctx, body.String()) {
			c.mu.Lock()
			for _, key := range keys {
				c.acked[key] = true
			}
			c.mu.Unlock()
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// send pushes a body, and tells whether all of it was acknowledged.
func (c *chaos) send(ctx context.Context, body string) bool {
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(limited, "POST", c.address()+"/api/v1/samples", strings.NewReader(body))
	if err != nil {
		return false
	}
	r.Header.Set("Content-Type", "application/x-ndjson")
	answer, err := http.DefaultClient.Do(r)
	ok := false
	if err == nil {
		var receipt collect.Receipt
		ok = answer.StatusCode == http.StatusOK && json.NewDecoder(answer.Body).Decode(&receipt) == nil && receipt.Refused == 0
		answer.Body.Close()
	}
	if !ok {
		c.mu.Lock()
		c.result.Refused++
		c.mu.Unlock()
	}
	return ok
}

// plant makes a fault in a dataset of its own every few seconds: a metric with a
// bound, and a sample under it. Each step is tried until it is acknowledged.
func (c *chaos) plant(ctx context.Context) {
	low := float64(sound) / 2
	settings := record.DefaultSettings()
	settings.Method, settings.Low, settings.Spikes = "fixed", &low, true
	for n := 0; ctx.Err() == nil; n++ {
		name := fmt.Sprintf("fault.%d", n)
		at := time.Now().UTC().Truncate(time.Hour).Add(-time.Hour).Format(time.RFC3339)
		steps := []func() bool{
			func() bool {
				return c.post(ctx, "/metrics/declare", collect.Declaration{Metric: name, Dataset: name, Measure: "rows",
					Kind: timeline.Count, Period: "1h"})
			},
			func() bool {
				return c.post(ctx, "/monitors", httpapi.NewMonitor{Name: name, Metric: name, Settings: &settings})
			},
			func() bool { return c.send(ctx, fmt.Sprintf(`{"metric":%q,"at":%q,"value":%d}`, name, at, bad)) },
		}
		for _, step := range steps {
			for !step() && ctx.Err() == nil {
				time.Sleep(200 * time.Millisecond)
			}
		}
		if ctx.Err() == nil {
			c.mu.Lock()
			c.planted[name] = time.Now()
			c.mu.Unlock()
		}
		time.Sleep(2 * time.Second)
	}
}

// post sends something that may be there already from a try whose answer was lost.
func (c *chaos) post(ctx context.Context, path string, body any) bool {
	raw, err := json.Marshal(body)
	if err != nil {
		return false
	}
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(limited, "POST", c.address()+"/api/v1"+path, bytes.NewReader(raw))
	if err != nil {
		return false
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return false
	}
	defer answer.Body.Close()
	return answer.StatusCode < 300 || answer.StatusCode == http.StatusConflict
}

// weigh keeps the most memory that the service took.
func (c *chaos) weigh(ctx context.Context) {
	for ctx.Err() == nil {
		c.mu.Lock()
		runs := slices.Clone(c.runs)
		c.mu.Unlock()
		for _, run := range runs {
			if mb := resident(run.Process.Pid); mb > 0 {
				c.mu.Lock()
				c.result.Peak = max(c.result.Peak, mb)
				c.mu.Unlock()
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// resident is the memory of a process in megabytes, 0 if it is gone.
func resident(pid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(status), "\n") {
		if kb, found := strings.CutPrefix(line, "VmRSS:"); found {
			n, _ := strconv.Atoi(strings.Fields(kb)[0])
			return n >> 10
		}
	}
	return 0
}
