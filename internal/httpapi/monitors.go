package httpapi

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/setup"
	"tinbell/internal/store"
	"tinbell/internal/study"
	"tinbell/internal/work"
)

// NewMonitor puts a baseline and an alert rule on a metric. Settings left out
// are the defaults.
type NewMonitor struct {
	Name     string           `json:"name" minLength:"1"`
	Metric   string           `json:"metric"`
	Owner    string           `json:"owner,omitempty"`
	Tags     record.Strings   `json:"tags,omitempty"`
	Settings *record.Settings `json:"settings,omitempty"`
}

// MonitorNames is what can change of a monitor beside its settings; what is left out
// stays.
type MonitorNames struct {
	Name    *string         `json:"name,omitempty"`
	Owner   *string         `json:"owner,omitempty"`
	Tags    *record.Strings `json:"tags,omitempty"`
	Retired *bool           `json:"retired,omitempty" doc:"it judges nothing, is left out of lists, and keeps its past"`
}

// ChangedMonitor replaces a monitor's settings if Version is still in force.
type ChangedMonitor struct {
	Version  int             `json:"version" doc:"the version that was read"`
	Settings record.Settings `json:"settings"`
	Paused   bool            `json:"paused,omitempty"`
	Reason   string          `json:"reason,omitempty" doc:"why, for the list of versions"`
}

// ChangedSegment gives a segment of a monitor settings of its own.
type ChangedSegment struct {
	record.SegmentSettings
	Reason string `json:"reason,omitempty" doc:"why, for the list of versions"`
}

// RehearsalOrder asks what a monitor would have told under other settings.
type RehearsalOrder struct {
	Settings     record.Settings `json:"settings"`
	SeriesID     int64           `json:"series_id,omitempty" doc:"the series to draw; the first if left out"`
	SinceSeconds int64           `json:"since_seconds" minimum:"86400" maximum:"63072000" default:"3628800" doc:"how far back; of periods longer than a day as many as there are days in it"`
}

// BacktestOrder asks for a replay of monitors over the past.
type BacktestOrder struct {
	Monitors []string  `json:"monitors,omitempty" doc:"names; all if left out"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to,omitempty" doc:"now if left out"`
	record.Tried
}

func (s *server) addMonitors(api huma.API) {
	add(api, "GET", "/monitors", "monitors", "The monitors, by name", people.Reader, func(ctx context.Context, in *struct {
		Retired bool `query:"retired" doc:"with those that are no longer needed"`
	}) (*body[[]record.Monitor], error) {
		list, err := s.Store.Monitors(ctx)
		return ok(slices.DeleteFunc(list, func(m record.Monitor) bool { return m.RetiredAt != nil && !in.Retired }), err)
	})
	add(api, "PATCH", "/monitors/{name}", "rename-monitor",
		"Change what a monitor is called, whose it is, or whether it is needed; its alerts and labels stay with it",
		people.Editor, func(ctx context.Context, in *struct {
			Named
			Body MonitorNames
		}) (*body[record.Monitor], error) {
			c := store.Renamed{Name: in.Body.Name, Owner: in.Body.Owner, Tags: in.Body.Tags}
			if in.Body.Retired != nil {
				c.Retired = &time.Time{}
				if *in.Body.Retired {
					now := s.Now().UTC()
					c.Retired = &now
				}
			}
			return ok(s.Setup.RenameMonitor(ctx, in.Name, c))
		})
	add(api, "DELETE", "/monitors/{name}", "remove-monitor",
		"Remove a monitor with its alerts and what was said of them; retire it to keep them", people.Editor,
		func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.RemoveMonitor(ctx, in.Name)
		})
	add(api, "GET", "/monitors/{name}", "monitor", "One monitor", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Monitor], error) {
			return ok(s.Store.Monitor(ctx, in.Name))
		})
	add(api, "POST", "/monitors", "add-monitor", "Add a monitor; it is fitted to the past at once", people.Editor,
		func(ctx context.Context, in *body[NewMonitor]) (*body[record.Monitor], error) {
			v := record.Monitor{Metric: in.Body.Metric, Name: in.Body.Name, Owner: in.Body.Owner, Tags: in.Body.Tags,
				Settings: record.DefaultSettings()}
			if in.Body.Settings != nil {
				v.Settings = *in.Body.Settings
			}
			return ok(s.Setup.AddMonitor(ctx, v))
		})
	add(api, "PUT", "/monitors/{name}", "change-monitor", "Change a monitor's settings", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body ChangedMonitor
		}) (*body[record.Monitor], error) {
			change := store.Change{Version: in.Body.Version, Settings: in.Body.Settings, Paused: in.Body.Paused,
				Author: account(ctx).Name, Reason: in.Body.Reason}
			return ok(s.Setup.ChangeMonitor(ctx, in.Name, change))
		})
	add(api, "PUT", "/monitors/{name}/segments", "change-segment",
		"Give a segment of a monitor, or a pattern of segments, settings of its own; those of others stay", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body ChangedSegment
		}) (*body[record.Monitor], error) {
			return ok(s.Setup.ChangeSegment(ctx, in.Name, in.Body.SegmentSettings, false, account(ctx).Name, in.Body.Reason))
		})
	add(api, "DELETE", "/monitors/{name}/segments", "remove-segment", "Let a segment have the monitor's settings again",
		people.Editor, func(ctx context.Context, in *struct {
			Named
			Segment string `query:"segment" required:"true"`
		}) (*body[record.Monitor], error) {
			return ok(s.Setup.ChangeSegment(ctx, in.Name, record.SegmentSettings{Segment: in.Segment}, true, account(ctx).Name, ""))
		})
	add(api, "POST", "/monitors/{name}/learn", "learn-monitor",
		"Fit a monitor's baselines anew; with history, its past alerts too", people.Editor, func(ctx context.Context, in *struct {
			Named
			History bool `query:"history"`
		}) (*body[Started], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			task, err := s.Store.AddTask(ctx, "learn", m.Name)
			if err != nil {
				return nil, err
			}
			return ok(Started{task}, s.Queue.Add(ctx, work.Learn{MonitorID: m.ID, History: in.History, TaskID: task}))
		})
	add(api, "GET", "/monitors/{name}/states", "monitor-states",
		"The series that a monitor cannot judge yet or any more: since when, and why", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]record.SeriesState], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.StatesOf(ctx, m.ID, 1000))
		})
	add(api, "GET", "/monitors/{name}/losses", "losses", "What losses a monitor shows, and within what time", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]study.Detectable], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Studies.Losses(ctx, m))
		})
	add(api, "POST", "/monitors/{name}/rehearsal", "rehearse",
		"What other settings would have told, beside today's, on the same past", people.Reader, func(ctx context.Context, in *struct {
			Named
			Body RehearsalOrder
		}) (*body[replays.Rehearsal], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if err := s.checkSettings(ctx, m.MetricID, in.Body.Settings); err != nil {
				return nil, err
			}
			return ok(s.Bench.Rehearse(ctx, m, in.Body.Settings, in.Body.SeriesID, time.Duration(in.Body.SinceSeconds)*time.Second))
		})
	add(api, "POST", "/backtests", "backtest", "Replay monitors over the past, walking forward", people.Reader,
		func(ctx context.Context, in *body[BacktestOrder]) (*body[replays.Backtest], error) {
			return ok(s.backtest(ctx, in.Body))
		})
}

func (s *server) backtest(ctx context.Context, in BacktestOrder) (replays.Backtest, error) {
	monitors, err := s.Store.Monitors(ctx)
	if err != nil {
		return replays.Backtest{}, err
	}
	if len(in.Monitors) > 0 {
		monitors = monitors[:0]
		for _, name := range in.Monitors {
			m, err := s.Store.Monitor(ctx, name)
			if err != nil {
				return replays.Backtest{}, err
			}
			monitors = append(monitors, m)
		}
	}
	for _, m := range monitors {
		if err := s.checkTried(ctx, m, in.Tried); err != nil {
			return replays.Backtest{}, err
		}
	}
	return s.Bench.Backtest(ctx, monitors, in.From, in.To, in.Tried)
}

// checkTried refuses what a monitor cannot be tried with.
func (s *server) checkTried(ctx context.Context, m record.Monitor, tried record.Tried) error {
	if tried.Nothing() {
		return nil
	}
	settings, err := tried.On(m.Settings)
	if err != nil {
		return err
	}
	if err := s.checkSettings(ctx, m.MetricID, settings); err != nil {
		return fmt.Errorf("%s: %w", m.Name, err)
	}
	return nil
}

// checkSettings refuses settings that a metric's monitor could not follow.
func (s *server) checkSettings(ctx context.Context, metric int64, settings record.Settings) error {
	m, err := s.Store.MetricByID(ctx, metric)
	if err != nil {
		return err
	}
	return setup.CheckSettings(settings, m)
}
