package benchmark

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

// CrowdOrder says how many series of five minutes a service is given at once.
type CrowdOrder struct {
	Program string
	Series  int
	Periods int // of samples, one after another without waiting for the clock
}

// Crowd is what a service took to take in and judge them.
type Crowd struct {
	Series   int       `json:"series"`
	Push     []float64 `json:"push_seconds" doc:"until all samples of a period were acknowledged"`
	Judged   []float64 `json:"judged_seconds" doc:"from then until all were judged"`
	Service  float64   `json:"service_cpu_seconds" doc:"processor time of the service, over all periods"`
	Database float64   `json:"database_cpu_seconds" doc:"and of PostgreSQL"`
	Peak     int       `json:"peak_mb" doc:"resident memory of the service at most"`
	Minutes  int       `json:"minutes" doc:"that the periods stand for"`
}

// perMetric is how many segments each metric of a crowd has.
const perMetric = 1000

// RunCrowd pushes periods of many series to a service of its own, whose monitors have
// bounds that people set, and waits after each until all is judged.
func RunCrowd(ctx context.Context, order CrowdOrder, say func(string)) (v Crowd, err error) {
	v = Crowd{Series: order.Series, Minutes: 5 * order.Periods}
	dir, url, clear, err := ground(ctx, "crowd")
	if err != nil {
		return v, err
	}
	defer clear()
	metrics := (order.Series + perMetric - 1) / perMetric
	say(fmt.Sprintf("declaring %d metrics", metrics))
	if err := declareCrowd(ctx, dir, url, metrics); err != nil {
		return v, err
	}
	records, err := store.Open(ctx, url)
	if err != nil {
		return v, err
	}
	defer records.Close()
	address, err := freeAddress()
	if err != nil {
		return v, err
	}
	run := exec.Command(order.Program, "serve", "--dir", filepath.Join(dir, "data"), "--database", url, "--listen", address,
		"--sign-in=false", "--quiet")
	run.Stderr = os.Stderr
	if err := run.Start(); err != nil {
		return v, err
	}
	defer func() {
		run.Process.Signal(syscall.SIGTERM)
		run.Wait()
	}()
	if err := ready(ctx, "http://"+address); err != nil {
		return v, err
	}
	rng := rand.New(rand.NewPCG(8, 8))
	first := time.Now().UTC().Truncate(5 * time.Minute).Add(-time.Duration(order.Periods) * 5 * time.Minute)
	cpu := processorOf(run.Process.Pid)
	databaseCPU := processorOfAll("postgres")
	for n := range order.Periods {
		at := first.Add(time.Duration(n) * 5 * time.Minute)
		began := time.Now()
		for m := range metrics {
			if err := pushCrowd(ctx, "http://"+address, rng, m, min(perMetric, order.Series-m*perMetric), at); err != nil {
				return v, err
			}
		}
		pushed := time.Now()
		v.Push = append(v.Push, pushed.Sub(began).Seconds())
		for {
			if v.Peak = max(v.Peak, resident(run.Process.Pid)); v.Peak == 0 {
				return v, fmt.Errorf("the service ended")
			}
			judged, err := records.JudgedTo(ctx, at.Add(5*time.Minute))
			if err != nil {
				return v, err
			}
			if judged >= order.Series {
				break
			}
			if err := pauseFor(ctx, 100*time.Millisecond); err != nil {
				return v, err
			}
		}
		v.Judged = append(v.Judged, time.Since(pushed).Seconds())
		say(fmt.Sprintf("period %d: taken in %.1f s, judged %.1f s later, %d MB", n+1, v.Push[n], v.Judged[n], v.Peak))
	}
	v.Service, v.Database = processorOf(run.Process.Pid)-cpu, processorOfAll("postgres")-databaseCPU
	return v, nil
}

func declareCrowd(ctx context.Context, dir, url string, metrics int) error {
	s, err := service.Start(ctx, service.Options{Dir: filepath.Join(dir, "data"), Database: url, Listen: "127.0.0.1:0",
		Role: service.RoleWeb, Log: quietLog()})
	if err != nil {
		return err
	}
	defer s.Stop()
	low := 1.0
	settings := record.DefaultSettings()
	settings.Method, settings.Low = "fixed", &low
	for m := range metrics {
		name := fmt.Sprintf("crowd-%d", m)
		declared, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: name, Dataset: fmt.Sprintf("bench.crowd_%d",
			m), Measure: record.MeasureRows, Kind: timeline.Count, Period: "5m", MaxSegments: perMetric})
		if err != nil {
			return err
		}
		if _, err := s.Parts.Store.AddMonitor(ctx, record.Monitor{MetricID: declared.ID, Name: name, Settings: settings}); err != nil {
			return err
		}
	}
	return nil
}

func pushCrowd(ctx context.Context, address string, rng *rand.Rand, metric, series int, at time.Time) error {
	var b strings.Builder
	stamp := at.Format(time.RFC3339)
	for k := range series {
		fmt.Fprintf(&b, `{"metric":"crowd-%d","segment":"s%04d","at":%q,"value":%g}`+"\n", metric, k, stamp,
			math.Round(60+8*rng.NormFloat64()))
	}
	r, err := http.NewRequestWithContext(ctx, "POST", address+"/api/v1/samples", strings.NewReader(b.String()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-ndjson")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("samples are answered with %s", answer.Status)
	}
	return nil
}

// processorOf is the processor time of a process in seconds; 0 if it is gone.
func processorOf(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, after, _ := strings.Cut(string(text), ") ") // a name may hold anything
	fields := strings.Fields(after)
	if len(fields) < 13 {
		return 0
	}
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	const ticks = 100 // a second, on Linux
	return (user + system) / ticks
}

// processorOfAll is that of all processes of a name, those included that they had and that
// have ended.
func processorOfAll(name string) (sum float64) {
	folders, _ := filepath.Glob("/proc/[0-9]*")
	for _, folder := range folders {
		said, err := os.ReadFile(filepath.Join(folder, "comm"))
		if err != nil || strings.TrimSpace(string(said)) != name {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(folder))
		sum += processorOf(pid)
	}
	return sum
}
