package benchmark

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// WorkersOrder says how much there is to fit, and by how many processes each time.
type WorkersOrder struct {
	Program   string
	Monitors  int
	Series    int // of each
	Weeks     int // of hourly history
	Processes []int
}

// WorkersRow is how long so many processes took.
type WorkersRow struct {
	Processes int     `json:"processes"`
	Cores     int     `json:"cores" doc:"of this machine"`
	Fits      int     `json:"fits" doc:"series that were fitted"`
	Seconds   float64 `json:"seconds"`
	Rate      float64 `json:"fits_per_second"`
	Trial     float64 `json:"trial_seconds" doc:"of trials of all monitors, two at a time in each process"`
}

// RunWorkers orders the same fits and trials for one process that works, then for more.
func RunWorkers(ctx context.Context, order WorkersOrder, say func(string)) (list []WorkersRow, err error) {
	dir, url, clear, err := ground(ctx, "workers")
	if err != nil {
		return nil, err
	}
	defer clear()
	web, err := service.Start(ctx, service.Options{Dir: filepath.Join(dir, "data"), Database: url, Listen: "127.0.0.1:0",
		Role: service.RoleWeb, Log: quietLog()})
	if err != nil {
		return nil, err
	}
	defer web.Stop()
	say(fmt.Sprintf("writing %d weeks of %d series", order.Weeks, order.Monitors*order.Series))
	monitors, err := fillWorkers(ctx, web, order)
	if err != nil {
		return nil, err
	}
	for _, n := range order.Processes {
		row, err := workers(ctx, order, web, monitors, n, filepath.Join(dir, "data"), url)
		if err != nil {
			return list, err
		}
		say(fmt.Sprintf("%d processes: %.1f fits a second", n, row.Rate))
		list = append(list, row)
	}
	return list, nil
}

// workers starts so many processes, orders the fits, and waits until nothing is left to do.
func workers(ctx context.Context, order WorkersOrder, web *service.Service, monitors []record.Monitor, n int, dir,
	url string) (row WorkersRow, err error) {
	var runs []*exec.Cmd
	defer func() {
		for _, run := range runs {
			run.Process.Signal(syscall.SIGTERM)
		}
		for _, run := range runs {
			run.Wait()
		}
	}()
	for range n {
		address, err := freeAddress()
		if err != nil {
			return row, err
		}
		run := exec.Command(order.Program, "serve", "--role", "work", "--dir", dir, "--database", url, "--listen", address,
			"--sign-in=false", "--quiet")
		run.Stdout, run.Stderr = io.Discard, os.Stderr
		if err := run.Start(); err != nil {
			return row, err
		}
		runs = append(runs, run)
		if err := ready(ctx, "http://"+address); err != nil {
			return row, err
		}
	}
	row = WorkersRow{Processes: n, Cores: runtime.NumCPU(), Fits: order.Monitors * order.Series}
	began := time.Now()
	for _, m := range monitors {
		if err := web.Parts.Queue.Add(ctx, work.Learn{MonitorID: m.ID, Asked: began.UTC()}); err != nil {
			return row, err
		}
	}
	if err := idle(ctx, web); err != nil {
		return row, err
	}
	row.Seconds = time.Since(began).Seconds()
	row.Rate = float64(row.Fits) / row.Seconds
	began = time.Now()
	until := time.Now().UTC().Truncate(time.Hour)
	for _, m := range monitors {
		calmer := m.Settings
		calmer.WarnSeconds *= 2
		order := map[string]any{"monitors": []string{m.Name}, "settings": calmer, "from": until.AddDate(0, 0, -28)}
		if err := client.New(web.Address, "").Send(ctx, "POST", "/trials", order, nil); err != nil {
			return row, err
		}
	}
	if err := idle(ctx, web); err != nil {
		return row, err
	}
	row.Trial = time.Since(began).Seconds()
	return row, nil
}

// idle waits until no job is left.
func idle(ctx context.Context, s *service.Service) error {
	for {
		done, err := s.Parts.Queue.Idle(ctx)
		if err != nil || done {
			return err
		}
		if err := pauseFor(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
}

func fillWorkers(ctx context.Context, s *service.Service, order WorkersOrder) (monitors []record.Monitor, err error) {
	rng := rand.New(rand.NewPCG(6, 6))
	until := time.Now().UTC().Truncate(time.Hour)
	for i := range order.Monitors {
		name := fmt.Sprintf("hours-%d", i)
		m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: name, Dataset: "bench.hours",
			Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h"})
		if err != nil {
			return nil, err
		}
		var names []string
		for k := range order.Series {
			names = append(names, fmt.Sprintf("s%02d", k))
		}
		ids, err := s.Parts.Store.EnsureSeries(ctx, m.ID, names)
		if err != nil {
			return nil, err
		}
		var samples []record.Sample
		for k, segment := range names {
			for at := until.AddDate(0, 0, -7*order.Weeks); at.Before(until); at = at.Add(time.Hour) {
				mu := 400 * (1.1 + math.Sin(2*math.Pi*float64(at.Hour()+k)/24))
				value := math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))
				samples = append(samples, record.Sample{SeriesID: ids[segment], At: at, Value: &value})
			}
		}
		if err := s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, until)
			return err
		}); err != nil {
			return nil, err
		}
		v := record.Monitor{MetricID: m.ID, Name: name, Settings: record.DefaultSettings()}
		if v.ID, err = s.Parts.Store.AddMonitor(ctx, v); err != nil {
			return nil, err
		}
		monitors = append(monitors, v)
	}
	return monitors, nil
}

// freeAddress is one on loopback that nobody listens on.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// ready waits until a service answers.
func ready(ctx context.Context, address string) error {
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		if answer, err := http.Get(address + "/readyz"); err == nil {
			answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return nil
			}
		}
		if err := pauseFor(ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
	return errors.New("the service does not come up")
}
