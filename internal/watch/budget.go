package watch

import (
	"context"
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"tinbell/core/arrival"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/duty"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// mostTried is how many series of a monitor its past is tried on.
const mostTried = 24

// hold tries a monitor's limits on its past, adds what it has told since, and keeps
// by how much each rule's limit is raised for it. The subject judges by that from
// here on.
func (w *Watcher) hold(ctx context.Context, v *Subject) error {
	if len(v.Series) == 0 {
		return nil
	}
	h, err := v.HoldOut(ctx, w.store, w.now().UTC())
	if err != nil || h.Series == 0 { // nothing to try it on yet
		return err
	}
	return w.govern(ctx, v, h)
}

// HoldOut tries the limits that the subject's settings give on a part of its past that
// they were not fitted to. What its monitor has told since stays as it is kept.
func (v *Subject) HoldOut(ctx context.Context, s *store.Store, now time.Time) (record.Budget, error) {
	h := record.Budget{At: now}
	if v.Monitor.Budget != nil {
		for _, r := range v.Monitor.Budget.Rules {
			if r.Told > 0 {
				own := h.Rule(r.Rule)
				own.Told, own.Since, own.ToldLogs = r.Told, r.Since, r.ToldLogs
			}
		}
	}
	if v.Monitor.Settings.Method == record.MethodArrival {
		err := v.tryLoads(ctx, s, now, &h)
		return h, err
	}
	var jobs []replay.Job
	stride := max(1, (len(v.Series)+mostTried-1)/mostTried)
	for i := 0; i < len(v.Series); i += stride {
		id := v.Series[i].ID
		histories, err := v.come(ctx, s, []int64{id}, now)
		if err != nil {
			return h, err
		}
		history := histories[id]
		if len(history) == 0 {
			continue
		}
		jobs = append(jobs, replay.Job{Config: v.Config, Rule: v.stated(v.Series[i]), History: history,
			Exclusions: v.Exclusions[id], From: history[len(history)-1].At + 1})
		h.Series++
		from, to := time.Unix(history[len(history)*2/3].At, 0).UTC(), time.Unix(history[len(history)-1].At, 0).UTC()
		if h.From.IsZero() || from.Before(h.From) {
			h.From = from
		}
		h.To = timeline.Later(h.To, to)
	}
	trial, err := replay.HoldOut(jobs)
	if err != nil {
		return h, err
	}
	h.Kin = trial.Kin
	for cause, f := range trial.Rules {
		r := h.Rule(string(cause))
		r.Stated, r.Rung, r.Logs = f.Stated, f.Rung, f.Logs
	}
	h.Settle()
	return h, nil
}

// leastLoads is how many loads must lie in the part of the past that deadlines are tried on.
const leastLoads = 12

// tryLoads tries deadlines on the last third of the loads.
func (v *Subject) tryLoads(ctx context.Context, s *store.Store, now time.Time, h *record.Budget) error {
	loads, err := s.Loads(ctx, v.Metric.DatasetID, now.Add(-arrivalMemory), now.Add(time.Second))
	if err != nil || len(loads) < 3*leastLoads || len(v.Series) == 0 {
		return err
	}
	rule := v.Monitor.Settings.Rule(1)
	known := replay.Faults(v.Exclusions[v.Series[0].ID], math.MaxInt64)
	t := arrival.Try(unixTimes(loads), v.Grid.Zone, rule, replay.RefitEvery, func(from, to int64) bool {
		return v.Muted(from) || v.Muted(to) || known.Touches(from, to)
	})
	h.Series, h.From, h.To = 1, time.Unix(t.From, 0).UTC(), time.Unix(t.To, 0).UTC()
	r := h.Rule(string(detect.Overdue))
	r.Rung, r.Logs, r.Stated = t.Rung, t.Logs, detect.Budget(rule.Normal().Warn, 1)*h.To.Sub(h.From).Hours()/720
	h.Settle()
	return nil
}

// governed is how far back what was told counts: so many of a series' own days.
const governed = 90

// Govern raises the limits of rules that told more than is stated beyond chance, of
// all monitors, and lowers them again where labels say that the alerts were right.
func (w *Watcher) Govern(ctx context.Context) error {
	monitors, err := w.store.Monitors(ctx)
	if err != nil {
		return err
	}
	named := func(m record.Monitor) string { return "monitor " + m.Name }
	return duty.Each(ctx, monitors, named, func(m record.Monitor) error {
		if m.LearnedAt == nil || m.Paused {
			return nil
		}
		v, err := Load(ctx, w.store, m)
		switch {
		case err != nil:
			return err
		case m.Budget == nil:
			return w.hold(ctx, v)
		}
		return w.govern(ctx, v, *m.Budget)
	})
}

// govern adds to a trial of the past what has been told since, where that is more
// than chance allows, and keeps what follows if it is anything new.
func (w *Watcher) govern(ctx context.Context, v *Subject, h record.Budget) error {
	now := w.now().UTC()
	h.Rules = slices.Clone(h.Rules)
	for i := range h.Rules {
		h.Rules[i].Told, h.Rules[i].Since, h.Rules[i].ToldLogs = 0, 0, 0
	}
	if v.Monitor.LearnedAt != nil {
		from := now.Add(-governed * v.Grid.Day())
		if made := v.Monitor.CreatedAt; made.After(from) && made.Before(now) {
			from = made
		}
		from = timeline.Later(from, h.To) // before, the trial itself has counted
		told, err := w.store.ToldSince(ctx, v.Monitor.ID, from)
		if err != nil {
			return err
		}
		all := 0.0
		for _, series := range v.Series {
			rule := v.stated(series)
			if rule.BandOnly && v.Monitor.Settings.Method != record.MethodArrival {
				continue
			}
			all += detect.Budget(rule.Warn, rule.Series) * now.Sub(from).Hours() / 720
		}
		for _, t := range told {
			if stated := all * detect.Share(t.Cause); beyondChance(t.N, stated) {
				r := h.Rule(string(t.Cause))
				r.Told, r.Since, r.ToldLogs = t.N, stated, t.Logs
			}
		}
	}
	h.Settle()
	if v.Monitor.Budget != nil && v.Monitor.Budget.At.Equal(h.At) && v.Monitor.Budget.Caution() == h.Caution() {
		return nil
	}
	v.Monitor.Budget = &h
	return w.store.PutBudget(ctx, v.Monitor.ID, h)
}

// beyondChance tells whether so many are more than a Poisson count of that mean
// reaches once in a hundred times.
func beyondChance(n int, mean float64) bool {
	if n < 2 {
		return false
	}
	return distuv.Poisson{Lambda: max(mean, 1e-9)}.Survival(float64(n-1)) < 0.01
}
