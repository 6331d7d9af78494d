package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/demo"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/words"
)

func (a *app) demoCommand() *cobra.Command {
	return group("demo", "Vellamar Ferries: an invented warehouse to try things on", a.demoRun(), a.demoBreak(), a.demoMend(),
		a.demoReceiver(), a.demoFiles())
}

const warehouseName = "vellamar"

func (a *app) demoRun() *cobra.Command {
	var seed uint64
	var asOf, listen string
	var feed bool
	run := &cobra.Command{Use: "run", Short: "Run the demo: warehouse, history, service and live feeder", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			at, err := ago(asOf, time.Now())
			if err != nil {
				return err
			}
			return a.runDemo(c.Context(), demoOptions{seed: seed, asOf: at, listen: listen, feed: feed})
		}}
	run.Flags().Uint64Var(&seed, "seed", 1, "which of the many possible pasts")
	run.Flags().StringVar(&asOf, "as-of", "", "when the past ends and the clock stands still; now and running if left out")
	run.Flags().StringVar(&listen, "listen", "127.0.0.1:7411", "address to listen on")
	run.Flags().BoolVar(&feed, "feed", true, "keep appending rows")
	return run
}

type demoOptions struct {
	seed   uint64
	asOf   time.Time
	listen string
	feed   bool
}

func (a *app) runDemo(ctx context.Context, o demoOptions) error {
	began := time.Now()
	dir := or(a.dir, ".demo")
	clock := time.Now
	if !o.asOf.IsZero() {
		clock, o.feed = func() time.Time { return o.asOf }, false
	}
	stands, err := a.standIns(ctx, filepath.Join(dir, mailboxFolder))
	if err != nil {
		return err
	}
	s, err := service.Start(ctx, service.Options{Dir: dir, Listen: o.listen, SignIn: true, Now: clock, Mailbox: stands.mailbox,
		AllowPrivate: loopback, OpenID: &stands.openID, WatchItself: true,
		Log: slog.New(slog.NewTextHandler(a.errors, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return err
	}
	defer s.Stop()
	token := a.knownToken(dir)
	if s.FirstToken != "" {
		token = s.FirstToken
	}
	if err := a.remember(dir, s.Address, token); err != nil {
		return err
	}
	house, fresh, late, err := a.prepareWarehouse(ctx, s, o.seed, clock())
	if err != nil {
		return err
	}
	landing, err := filepath.Abs(filepath.Join(dir, "landing"))
	if err != nil {
		return err
	}
	if fresh != nil {
		if err := os.RemoveAll(landing); err != nil {
			return err
		}
	}
	emitter := &demo.Emitter{Client: client.New(s.Address, token), Folder: landing, World: house.World()}
	reader := s.Postgres.URLAs(demo.ReaderLogin, demo.ReaderPassword, warehouseName)
	if fresh != nil {
		if err := demo.Setup(ctx, emitter, reader, func(step string) { a.say("  %s …", step) }, a.bar("")); err != nil {
			return fmt.Errorf("set up the demo: %w (start again after removing %s)", err, dir)
		}
		if err := emitter.Runs(ctx, late); err != nil {
			return err
		}
		if err := emitter.Lines(ctx, late, nil, time.Now()); err != nil {
			return err
		}
		if err := demo.SetTelling(ctx, emitter.Client, stands.Receivers); err != nil {
			return fmt.Errorf("set up who is told: %w (start again after removing %s)", err, dir)
		}
		if err := demo.SetPeople(ctx, emitter.Client); err != nil {
			return fmt.Errorf("set up who may do what: %w (start again after removing %s)", err, dir)
		}
		if err := demo.SetOwn(ctx, emitter.Client); err != nil {
			return fmt.Errorf("set up how the service watches itself: %w (start again after removing %s)", err, dir)
		}
	} else if err := s.Parts.Warehouses.Move(ctx, "vellamar", reader); err != nil {
		return err
	}
	if fresh != nil {
		if err := os.WriteFile(filepath.Join(dir, "ready"), nil, 0o644); err != nil {
			return err
		}
	}
	a.greet(s.Address, token, time.Since(began))
	if o.feed {
		now := time.Now()
		if err := emitter.GateLog(ctx, now.AddDate(0, 0, -7), now); err != nil {
			return err
		}
		if err := emitter.Books(ctx, now); err != nil {
			return err
		}
		go a.feed(ctx, house, emitter)
	}
	return a.await(ctx, s)
}

func (a *app) knownToken(dir string) string {
	var known remembered
	if content, err := os.ReadFile(filepath.Join(dir, "client.json")); err == nil {
		json.Unmarshal(content, &known)
	}
	return known.Token
}

// prepareWarehouse fills the warehouse on the first start, and again if the
// first was interrupted; then it gives the world to set up, and the loads since
// its past ended.
func (a *app) prepareWarehouse(ctx context.Context, s *service.Service, seed uint64, now time.Time) (*demo.Warehouse, *demo.World,
	[]demo.Load, error) {
	if _, err := s.Postgres.EnsureDatabase(ctx, warehouseName); err != nil {
		return nil, nil, nil, err
	}
	address := s.Postgres.URL(warehouseName)
	if err := os.WriteFile(filepath.Join(or(a.dir, ".demo"), "warehouse"), []byte(address), 0o600); err != nil {
		return nil, nil, nil, err
	}
	knownSeed, asOf, _, err := demo.OpenWarehouse(address, nil).Loaded(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	sources, err := s.Parts.Store.Sources(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	if _, err := os.Stat(filepath.Join(or(a.dir, ".demo"), "ready")); err == nil && !asOf.IsZero() && len(sources) > 0 {
		w, err := demo.NewWorld(knownSeed, asOf)
		return demo.OpenWarehouse(address, w), nil, nil, err
	}
	w, err := demo.NewWorld(seed, now)
	if err != nil {
		return nil, nil, nil, err
	}
	begun := func(v record.Source) bool { return v.Name != collect.PushedSource } // that one the service makes of its own figures
	if !asOf.IsZero() || slices.ContainsFunc(sources, begun) {
		if err := s.Parts.Store.Forget(ctx); err != nil {
			return nil, nil, nil, err
		}
	}
	house := demo.OpenWarehouse(address, w)
	a.say("  generating sixteen weeks of rows …")
	rows, err := house.Fill(ctx, a.bar(""))
	if err != nil {
		return nil, nil, nil, err
	}
	late, err := house.Feed(ctx, now)
	if err != nil {
		return nil, nil, nil, err
	}
	a.say("  %s rows in eleven tables", words.Number(float64(rows)))
	return house, w, late, nil
}

// greet says where the demo is and what to try; the commands are those that work from
// here, whatever directory it was given.
func (a *app) greet(address, token string, took time.Duration) {
	here := "bin/tinbell "
	if a.dir != "" && a.dir != ".demo" {
		here += "--dir " + a.dir + " "
	}
	a.printf(`
Tin Bell watches Vellamar Ferries, an invented ferry line (ready after %.1f s).

  Console      %s/sign-in#%s
               then %[2]s/?tour for a way through it
  From here    %[4]salert list --state open
               %[4]sscore
               %[4]smailbox list
  Break it     %[4]sdemo break drop ops.boarding_scans --segment Ansby
               %[4]sdemo break stall raw.gate_events
               %[4]sdemo break double ops.ticket_sales
               %[4]sdemo mend
               %[4]sdemo receiver down
Ctrl-C stops everything.
`, took.Seconds(), address, token, here)
}

// feed appends rows and tells of them until ctx ends; a failure is told.
func (a *app) feed(ctx context.Context, house *demo.Warehouse, emitter *demo.Emitter) {
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for {
		loads, err := house.Feed(ctx, time.Now())
		for _, tell := range []func() error{
			func() error { return err },
			func() error { return emitter.Runs(ctx, loads) },
			func() error {
				broken, err := house.Broken(ctx)
				if err != nil {
					return err
				}
				return emitter.Lines(ctx, loads, broken, time.Now())
			},
			func() error { return emitter.Land(loads) },
			func() error { return emitter.Gates(ctx, time.Now()) },
		} {
			if err := tell(); err != nil && ctx.Err() == nil {
				a.logger("text").Warn("feeder", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// warehouse finds the running demo's warehouse by the data directory.
func (a *app) warehouse() (*demo.Warehouse, error) {
	content, err := os.ReadFile(filepath.Join(or(a.dir, ".demo"), "warehouse"))
	if err != nil {
		return nil, errors.New("no demo runs on this data directory: start it with 'make demo', or give its --dir")
	}
	return demo.OpenWarehouse(string(content), nil), nil
}

func (a *app) demoBreak() *cobra.Command {
	var segment, since string
	var share float64
	c := &cobra.Command{Use: "break stall|drop|double TABLE", Short: "Break something, and watch the alert arrive",
		Args: exactly(2, "stall|drop|double TABLE"),
		Long: `Breaks a table of the demo's warehouse from a little while ago on, as faults are
noticed late in life too: a stalled loader's rows are taken back until it is
mended, dropped rows are gone, doubled rows stand twice. The feeder goes on like
that until 'tinbell demo mend'.`,
		Example: "  tinbell demo break drop ops.boarding_scans --segment Ansby\n  tinbell demo break stall ops.ticket_sales",
		RunE: func(c *cobra.Command, args []string) error {
			kind := demo.EffectKind(args[0])
			defaults := map[demo.EffectKind]string{demo.Stall: "5h", demo.Drop: "10h", demo.Double: "10h"}
			if defaults[kind] == "" {
				return wrongUsage{fmt.Errorf("%q: what can be broken is stall, drop and double", args[0])}
			}
			d, err := collect.ParsePeriod(or(since, defaults[kind]))
			if err != nil {
				return wrongUsage{err}
			}
			house, err := a.warehouse()
			if err != nil {
				return err
			}
			b, err := house.Break(c.Context(), kind, args[1], segment, share, time.Now().Add(-d))
			if err != nil {
				return err
			}
			a.say("Broken %s. Watch: tinbell alert list --state open", b)
			return nil
		}}
	c.Flags().StringVar(&segment, "segment", "", "only this port, channel, vessel or partner")
	c.Flags().StringVar(&since, "since", "", "how long ago it began (default: stall 5h, drop and double 10h)")
	c.Flags().Float64Var(&share, "share", 1, "share of rows that drop takes")
	return c
}

func (a *app) demoMend() *cobra.Command {
	return &cobra.Command{Use: "mend", Short: "Mend what was broken", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			house, err := a.warehouse()
			if err != nil {
				return err
			}
			list, err := house.Mend(c.Context(), time.Now())
			for _, b := range list {
				a.say("Mended %s", b)
			}
			if err == nil && len(list) == 0 {
				a.say("Nothing was broken.")
			}
			return err
		}}
}

func (a *app) demoFiles() *cobra.Command {
	var seed uint64
	c := &cobra.Command{Use: "files FOLDER", Short: "Write the demo's incident catalogue and calendar as files", Args: exactly(1, "FOLDER"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := demo.NewWorld(seed, time.Now())
			if err != nil {
				return err
			}
			return w.Files(func(name string, content io.Reader) error {
				b, err := io.ReadAll(content)
				if err != nil {
					return err
				}
				return os.WriteFile(filepath.Join(args[0], name), b, 0o644)
			})
		}}
	c.Flags().Uint64Var(&seed, "seed", 1, "which of the many possible pasts")
	return c
}
