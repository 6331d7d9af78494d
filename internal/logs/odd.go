package logs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"tinbell/core/template"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

const (
	// watchedDays is how much of a log's past its sentences are learned from.
	watchedDays = 42
	// mostWatched is how many sentences of a log are watched for bursts and silence, the most
	// frequent first.
	mostWatched = 2000
	// learnedAgain is how often what is usual is learned anew.
	learnedAgain = 12 * time.Hour
	// leastLines is from how many lines on a sentence is watched.
	leastLines = 20
)

// watch is what is usual of a log's sentences, as it was learned at an instant from a day
// on.
type watch struct {
	at, from time.Time
	rare     int64
	usual    *template.Watch
}

// odd gives the sentences of a log that burst, or that have stopped.
func (k *Keeper) odd(ctx context.Context, log record.Log, rows []record.LogTemplate) ([]Fresh, error) {
	bursts, vanish := slices.Contains(log.Kinds, "burst"), slices.Contains(log.Kinds, "vanished")
	if !bursts && !vanish || len(log.Watched) == 0 || log.LastAt == nil {
		return nil, nil
	}
	w, err := k.usual(ctx, log, rows)
	if err != nil {
		return nil, err
	}
	now := k.now()
	period := int(now.Sub(w.from)/record.LogPeriod) - 1 // the last that is over
	end := w.from.Add(time.Duration(period+1) * record.LogPeriod)
	var found []Fresh
	if bursts {
		tallies, err := k.store.LogTallies(ctx, log.ID, end.Add(-time.Hour), end)
		if err != nil {
			return nil, err
		}
		lines := map[int]int64{}
		for _, t := range tallies {
			lines[t.Number] += t.N
		}
		for _, t := range rows {
			if n := lines[t.Number]; !t.Usual && w.usual.Bursts(t.Number, period, n) >= 1 {
				found = append(found, Fresh{LogTemplate: t, What: "burst", Every: float64(oddShare * log.RareSeconds),
					Said: fmt.Sprintf("%s within the hour, usually %s", words.Plural(int(n), "line"),
						words.Number(w.usual.Usual(t.Number, period)))})
			}
		}
	}
	// Where the whole log is silent no sentence of it has vanished: its lines are a series of
	// their own.
	if !vanish || w.usual.Missing(template.Other, periods(now.Sub(*log.LastAt))) >= 0.5 {
		return found, nil
	}
	for _, t := range rows {
		gap := now.Sub(t.LastAt)
		if t.MergedInto != 0 || t.Usual || gap > time.Duration(log.Normal)*time.Second || w.usual.Missing(t.Number, periods(gap)) < 1 {
			continue
		}
		longest := time.Duration(w.usual.Longest(t.Number)) * record.LogPeriod
		found = append(found, Fresh{LogTemplate: t, What: "vanished", Every: float64(oddShare * log.RareSeconds),
			Said: fmt.Sprintf("not for %s, before never longer than %s", words.Duration(gap), words.Duration(longest))})
	}
	return found, nil
}

func periods(d time.Duration) int { return int(d / record.LogPeriod) }

// usual gives what is usual of a log's sentences, learned anew once it is old.
func (k *Keeper) usual(ctx context.Context, log record.Log, rows []record.LogTemplate) (*watch, error) {
	k.mu.Lock()
	w := k.watches[log.ID]
	k.mu.Unlock()
	now := k.now()
	if w != nil && now.Sub(w.at) < learnedAgain && w.rare == log.RareSeconds {
		return w, nil
	}
	midnight := now.UTC().Truncate(24 * time.Hour)
	from := timeline.Later(midnight.AddDate(0, 0, -watchedDays), log.FirstAt.UTC().Add(24*time.Hour-1).Truncate(24*time.Hour))
	w = &watch{at: now, from: from, rare: log.RareSeconds}
	days := int(midnight.Sub(from).Hours() / 24)
	out := map[int]bool{}
	if days > 0 {
		spans, err := k.store.FaultSpans(ctx, log.DatasetID, from)
		if err != nil {
			return nil, err
		}
		for _, s := range spans {
			for at := timeline.Later(s.From, from); at.Before(s.To.Add(24 * time.Hour)); at = at.Add(24 * time.Hour) {
				out[int(timeline.Earlier(at, s.To).Sub(from).Hours()/24)] = true
			}
		}
	}
	learner := template.NewLearner(max(days, 0), out)
	if days > 0 {
		if err := k.learn(ctx, learner, log, rows, from, midnight); err != nil {
			return nil, err
		}
	}
	w.usual = learner.Watch(oddShare * float64(log.RareSeconds) / 86400)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.watches[log.ID] = w
	return w, nil
}

// learn goes through the counts of a log's sentences, some at a time.
func (k *Keeper) learn(ctx context.Context, learner *template.Learner, log record.Log, rows []record.LogTemplate, from,
	to time.Time) error {
	rows = slices.DeleteFunc(slices.Clone(rows), func(t record.LogTemplate) bool {
		return t.MergedInto != 0 || t.Lines < leastLines || t.LastAt.Before(from)
	})
	slices.SortFunc(rows, func(a, b record.LogTemplate) int { return int(min(max(b.Lines-a.Lines, -1), 1)) })
	whole := map[int]bool{}
	const some = 50
	for first := 0; first < min(len(rows), mostWatched); first += some {
		var numbers []int
		for _, t := range rows[first:min(first+some, len(rows))] {
			numbers = append(numbers, t.Number)
		}
		cells, err := k.store.LogCells(ctx, log.ID, numbers, from, to)
		if err != nil {
			return err
		}
		var track template.Track
		for i, c := range cells {
			period := periods(c.At.Sub(from))
			whole[period] = true
			track.ID = c.Number
			track.Cells = append(track.Cells, template.Cell{Period: period, Lines: c.N})
			if i+1 == len(cells) || cells[i+1].Number != c.Number {
				learner.Add(track)
				track.Cells = track.Cells[:0]
			}
		}
	}
	// That the whole log is silent is told by its own gaps.
	all := template.Track{ID: template.Other}
	for p := range periods(to.Sub(from)) {
		if whole[p] {
			all.Cells = append(all.Cells, template.Cell{Period: p, Lines: 1})
		}
	}
	learner.Add(all)
	return nil
}
