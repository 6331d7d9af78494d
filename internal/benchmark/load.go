package benchmark

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

// LoadOrder says how much a service is given to judge, and for how long.
type LoadOrder struct {
	Program string
	Series  int // of one minute
	For     time.Duration
}

// Load is what a service took to judge many series of one minute.
type Load struct {
	Series  int           `json:"series"`
	Fitted  time.Duration `json:"fitted_ns" doc:"that fitting all of them took"`
	Minutes int           `json:"minutes" doc:"of samples that were pushed, each as it ended"`
	Memory  []int         `json:"memory_mb" doc:"of the service, once a minute"`
	Peak    int           `json:"peak_mb"`
	Cores   []float64     `json:"cores" doc:"processor time of the service in each minute, in cores"`
	Behind  []int         `json:"behind" doc:"series not judged to the end at the end of each minute"`
}

// loadDays is how much history each series has: enough for a band.
const loadDays = 4

// RunLoad fits bands to many series of one minute, pushes a sample of each every
// minute, and weighs the service, which runs as a process of its own.
func RunLoad(ctx context.Context, order LoadOrder, say func(string)) (Load, error) {
	v := Load{Series: order.Series}
	dir, url, clear, err := ground(ctx, "load")
	if err != nil {
		return v, err
	}
	defer clear()
	say(fmt.Sprintf("writing %d days of %d series", loadDays, order.Series))
	if err := fillMinutes(ctx, dir, url, order.Series); err != nil {
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
		"--sign-in=false")
	run.Stdout, run.Stderr = io.Discard, os.Stderr
	began := time.Now()
	if err := run.Start(); err != nil {
		return v, err
	}
	defer func() {
		run.Process.Signal(syscall.SIGTERM)
		run.Wait()
	}()
	say("fitting them")
	for {
		fitted, err := records.LearnedMonitors(ctx, time.Now())
		if err != nil {
			return v, err
		}
		v.Peak = max(v.Peak, resident(run.Process.Pid))
		if len(fitted) == 1 {
			break
		}
		if err := pauseFor(ctx, 200*time.Millisecond); err != nil {
			return v, err
		}
	}
	v.Fitted = time.Since(began)
	say(fmt.Sprintf("fitted after %s, %d MB at most; now a sample of each every minute", v.Fitted.Round(time.Second), v.Peak))
	rng := rand.New(rand.NewPCG(5, 5))
	for end := time.Now().Add(order.For); time.Now().Before(end); {
		at := time.Now().UTC().Truncate(time.Minute)
		if err := pauseFor(ctx, time.Until(at.Add(time.Minute+time.Second))); err != nil {
			return v, err
		}
		before := processorOf(run.Process.Pid)
		answer, err := http.Post("http://"+address+"/api/v1/samples", "application/x-ndjson", minute(rng, at, order.Series))
		if err != nil {
			return v, err
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return v, fmt.Errorf("a minute of samples is answered with %s", answer.Status)
		}
		for until := at.Add(time.Minute + 55*time.Second); time.Now().Before(until); {
			v.Peak = max(v.Peak, resident(run.Process.Pid))
			if err := pauseFor(ctx, 250*time.Millisecond); err != nil {
				return v, err
			}
		}
		behind, err := records.Behind(ctx, at.Add(time.Minute))
		if err != nil {
			return v, err
		}
		v.Minutes++
		v.Cores = append(v.Cores, (processorOf(run.Process.Pid)-before)/60)
		v.Memory, v.Behind = append(v.Memory, resident(run.Process.Pid)), append(v.Behind, behind)
		say(fmt.Sprintf("minute %d: %d MB, %.0f %% of a core, %d series behind", v.Minutes, v.Memory[v.Minutes-1],
			100*v.Cores[v.Minutes-1], behind))
	}
	return v, nil
}

func pauseFor(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func minuteValue(rng *rand.Rand, at time.Time, k int) float64 {
	mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(at.Hour()*60+at.Minute()+k)/1440))
	return math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))
}

// minute are the samples of one minute.
func minute(rng *rand.Rand, at time.Time, n int) io.Reader {
	var b strings.Builder
	stamp := at.Format(time.RFC3339)
	for k := range n {
		fmt.Fprintf(&b, `{"metric":"minutes","segment":"s%05d","at":%q,"value":%g}`+"\n", k, stamp, minuteValue(rng, at, k))
	}
	return strings.NewReader(b.String())
}

// fillMinutes declares the metric with its history and its monitor. Nothing is
// fitted: that is for the service.
func fillMinutes(ctx context.Context, dir, url string, n int) error {
	s, err := service.Start(ctx, service.Options{Dir: filepath.Join(dir, "data"), Database: url, Listen: "127.0.0.1:0", Log: quietLog()})
	if err != nil {
		return err
	}
	defer s.Stop()
	m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: "minutes", Dataset: "bench.minutes",
		Measure: record.MeasureRows, Kind: timeline.Count, Period: "1m", MaxSegments: n})
	if err != nil {
		return err
	}
	rng := rand.New(rand.NewPCG(4, 4))
	until := time.Now().UTC().Truncate(time.Minute)
	const part = 100
	for from := 0; from < n; from += part {
		var names []string
		for k := from; k < min(from+part, n); k++ {
			names = append(names, fmt.Sprintf("s%05d", k))
		}
		ids, err := s.Parts.Store.EnsureSeries(ctx, m.ID, names)
		if err != nil {
			return err
		}
		var samples []record.Sample
		for i, name := range names {
			for at := until.AddDate(0, 0, -loadDays); at.Before(until); at = at.Add(time.Minute) {
				value := minuteValue(rng, at, from+i)
				samples = append(samples, record.Sample{SeriesID: ids[name], At: at, Value: &value})
			}
		}
		if err := s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, until)
			return err
		}); err != nil {
			return err
		}
	}
	_, err = s.Parts.Store.AddMonitor(ctx, record.Monitor{MetricID: m.ID, Name: "minutes", Settings: record.DefaultSettings()})
	return err
}
