package logs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

const (
	// young is how long a log is known before anything in it can be new.
	young = 24 * time.Hour
	// quiet is after how long without a line a new sentence is over.
	quiet = time.Hour
	// mostNews is of how many sentences, the newest, it is asked whether they are like one
	// before; those before count as new.
	mostNews = 200
	// countedBack is how far back news are counted for how rare they are.
	countedBack = 90 * 24 * time.Hour
)

// Fresh is a sentence that a log never said before.
type Fresh struct {
	record.LogTemplate
	Every float64 `json:"every_seconds" doc:"one such in so long, by the log's own past"`
}

// News gives the new sentences of a log that are told now: of the severities that are
// watched, unlike what was said before, of a log where such are as rare as is asked for,
// not usual by now, and still said.
func news(log record.Log, list []record.LogTemplate, now time.Time) []Fresh {
	if log.FirstAt == nil || len(log.Watched) == 0 {
		return nil
	}
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b record.LogTemplate) int {
		return cmp.Or(a.FirstAt.Compare(b.FirstAt), cmp.Compare(a.Number, b.Number))
	})
	grave := func(t record.LogTemplate) bool {
		return t.MergedInto == 0 && !t.FirstAt.Before(log.FirstAt.Add(young)) && slices.Contains(log.Watched, t.Severity)
	}
	more := -mostNews // than are looked at closely
	for _, t := range list {
		if grave(t) {
			more++
		}
	}
	var found []Fresh
	var came []time.Time // of news before, one an hour
	for i, t := range list {
		if !grave(t) {
			continue
		}
		if more--; more < 0 && slices.ContainsFunc(list[:i], func(known record.LogTemplate) bool { return template.Alike(known.Places, t.Places) }) {
			continue
		}
		from := timeline.Later(*log.FirstAt, t.FirstAt.Add(-countedBack))
		before := 0
		for _, at := range came {
			if at.After(from) && t.FirstAt.Sub(at) >= time.Hour {
				before++
			}
		}
		if len(came) == 0 || t.FirstAt.Sub(came[len(came)-1]) >= time.Hour {
			came = append(came, t.FirstAt)
		}
		// As often as before and half a time more.
		every := t.FirstAt.Sub(from).Seconds() / (float64(before) + 0.5)
		if every < float64(log.RareSeconds) || t.Usual || now.Sub(t.FirstAt) > time.Duration(log.Normal)*time.Second || now.Sub(t.LastAt) > quiet {
			continue
		}
		found = append(found, Fresh{t, every})
	}
	return found
}

// News opens, renews and closes the alerts about logs that say what they never said: one
// a dataset.
func (k *Keeper) News(ctx context.Context) error {
	list, err := k.store.Logs(ctx)
	if err != nil {
		return err
	}
	type told struct {
		logs  []string
		fresh [][]Fresh
	}
	datasets := map[int64]*told{}
	var failed []error
	for _, log := range list {
		failed = append(failed, contain.Run(func() error {
			if datasets[log.DatasetID] == nil {
				datasets[log.DatasetID] = &told{}
			}
			if len(log.Watched) == 0 {
				return nil
			}
			rows, err := k.store.LogTemplates(ctx, log.ID)
			if err != nil {
				return err
			}
			if fresh := news(log, rows, k.now()); len(fresh) > 0 {
				d := datasets[log.DatasetID]
				d.logs, d.fresh = append(d.logs, log.Name), append(d.fresh, fresh)
			}
			return nil
		}))
	}
	for dataset, d := range datasets {
		about := store.About{Dataset: dataset}
		failed = append(failed, k.store.InTx(ctx, func(tx pgx.Tx) error {
			if len(d.logs) == 0 {
				return store.Mended(ctx, tx, about, record.CauseSentence, k.now())
			}
			return store.Trouble(ctx, tx, about, alertOf(d.logs, d.fresh, k.now()))
		}))
	}
	return errors.Join(failed...)
}

func alertOf(logs []string, fresh [][]Fresh, now time.Time) record.Alert {
	a := record.Alert{Cause: record.CauseSentence, Direction: "high", Severity: "warning", Since: fresh[0][0].FirstAt, RaisedAt: now.UTC().Truncate(time.Second)}
	n := -1
	lead, from := fresh[0][0], logs[0]
	for i := range fresh {
		for _, f := range fresh[i] {
			n++
			a.Since = timeline.Earlier(a.Since, f.FirstAt)
			if f.Severity == "FATAL" {
				a.Severity = "critical"
			}
			if f.Lines > lead.Lines {
				lead, from = f, logs[i]
			}
		}
	}
	a.Sentence = fmt.Sprintf("%s says what it never said: “%s”, %s", from, cut(template.Spoken(template.Gist(lead.Text)), 160), words.Plural(int(lead.Lines), "line"))
	if n > 0 {
		a.Sentence += fmt.Sprintf(", and %s", words.Plural(n, "more new sentence"))
	}
	return a
}

// Watch says what is told of a log; nil stays.
type Watch struct {
	Severities   *record.Strings
	Rare, Normal *int64
}

// Set says how many lines are kept of each sentence, and what is told.
func (k *Keeper) Set(ctx context.Context, name string, keep *int, w Watch) (record.Log, error) {
	log, err := k.store.Log(ctx, name)
	if err != nil {
		return log, err
	}
	if w.Severities != nil {
		log.Watched = *w.Severities
	}
	if w.Rare != nil {
		log.RareSeconds = *w.Rare
	}
	if w.Normal != nil {
		log.Normal = *w.Normal
	}
	if err = log.Check(); err == nil {
		err = k.store.SetLog(ctx, log)
	}
	if err == nil && keep != nil {
		err = k.store.SetKeptSamples(ctx, name, *keep)
		k.forget(log.ID)
	}
	if err == nil {
		log, err = k.store.Log(ctx, name)
	}
	return log, err
}

// Say keeps what a person says of a sentence: that it is no news, that its lines are to
// be a series of their own; nil stays. A series has the past that is counted.
func (k *Keeper) Say(ctx context.Context, name string, number int, usual, followed *bool) error {
	log, err := k.store.Log(ctx, name)
	if err != nil {
		return err
	}
	there, err := k.store.SetLogTemplate(ctx, log.ID, number, usual, followed)
	if err == nil && !there {
		err = record.NotFound{Kind: "template of log " + name, Name: fmt.Sprint(number)}
	}
	if err != nil || followed == nil || !*followed {
		return err
	}
	if _, err := k.collector.Declare(ctx, collect.Declaration{Metric: Sentences(name), Dataset: log.Dataset, Measure: "log_lines", Kind: timeline.Count, Unit: "lines", Period: "5m"}); err != nil {
		return err
	}
	return k.store.CountAgain(ctx, log.ID, timeline.Later(*log.FirstAt, k.now().Add(-farthest)))
}
