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
	// newsShare is how much rarer news are than all that a log may tell together: half of
	// that is theirs, and of bursts and of sentences that vanish a quarter each.
	newsShare, oddShare = 2, 4
	// countedBack is how far back news are counted for how rare they are.
	countedBack = 90 * 24 * time.Hour
)

// Fresh is a sentence that a log never said before.
type Fresh struct {
	record.LogTemplate
	Every float64 `json:"every_seconds" doc:"one such in so long, by the log's own past"`
	What  string  `json:"what" enum:"new,burst,vanished"`
	Said  string  `json:"said" doc:"what is odd about it; empty of a new one"`
}

// News gives the new sentences of a log that are told now: of the severities that are
// watched, unlike what was said before, of a log where such are as rare as is asked for,
// not usual by now, and still said.
func news(log record.Log, list []record.LogTemplate, now time.Time) []Fresh {
	if log.FirstAt == nil || len(log.Watched) == 0 || !slices.Contains(log.Kinds, "new") {
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
		if more--; more < 0 && slices.ContainsFunc(list[:i],
			func(known record.LogTemplate) bool { return template.Alike(known.Places, t.Places) }) {
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
		if every < newsShare*float64(log.RareSeconds) || t.Usual || now.Sub(t.FirstAt) > time.Duration(log.Normal)*time.Second ||
			now.Sub(t.LastAt) > quiet {
			continue
		}
		found = append(found, Fresh{LogTemplate: t, Every: every, What: "new"})
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
			odd, err := k.odd(ctx, log, rows)
			if err != nil {
				return err
			}
			if fresh := append(news(log, rows, k.now()), odd...); len(fresh) > 0 {
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
			lead, from := leading(d.logs, d.fresh)
			lines, err := k.store.In(tx).LogSamples(ctx, lead.LogID, lead.Number)
			if err != nil {
				return err
			}
			said := template.Spoken(template.Gist(lead.Text))
			if len(lines) > 0 {
				said = template.Gist(lines[0].Line)
			}
			return store.Trouble(ctx, tx, about, alertOf(lead, from, said, d.fresh, k.now()))
		}))
	}
	return errors.Join(failed...)
}

// leading is the sentence that an alert begins with, and its log: a new one before others,
// and of one kind the one that came most often.
func leading(logs []string, fresh [][]Fresh) (lead Fresh, from string) {
	lead, from = fresh[0][0], logs[0]
	for i := range fresh {
		for _, f := range fresh[i] {
			if lead.What != "new" && f.What == "new" || lead.What == f.What && f.Lines > lead.Lines {
				lead, from = f, logs[i]
			}
		}
	}
	return lead, from
}

// alertOf writes the alert of a dataset's logs; said is the leading sentence by a line of it.
func alertOf(lead Fresh, from, said string, fresh [][]Fresh, now time.Time) record.Alert {
	a := record.Alert{Cause: record.CauseSentence, Direction: "high", Severity: "warning", Since: lead.began(),
		RaisedAt: now.UTC().Truncate(time.Second)}
	n := -1
	for i := range fresh {
		for _, f := range fresh[i] {
			n++
			a.Since = timeline.Earlier(a.Since, f.began())
			if f.Severity == "FATAL" && f.What == "new" {
				a.Severity = "critical"
			}
		}
	}
	said = cut(said, 160)
	switch lead.What {
	case "new":
		a.Sentence = fmt.Sprintf("%s says what it never said: “%s”, %s", from, said, words.Plural(int(lead.Lines), "line"))
	case "burst":
		a.Sentence = fmt.Sprintf("%s says far more often than it does: “%s”, %s", from, said, lead.Said)
	case "vanished":
		a.Sentence, a.Direction = fmt.Sprintf("%s no longer says: “%s”, %s", from, said, lead.Said), "low"
	}
	if n > 0 {
		a.Sentence += fmt.Sprintf(", and %s", words.Plural(n, "more such sentence"))
	}
	return a
}

// began is since when a sentence is odd.
func (f Fresh) began() time.Time {
	switch f.What {
	case "vanished":
		return f.LastAt
	case "burst":
		return f.LastAt.Add(-time.Hour).Truncate(record.LogPeriod)
	}
	return f.FirstAt
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
	if _, err := k.metric(ctx, Sentences(name), log.Dataset, "sentence", 0); err != nil {
		return err
	}
	return k.store.CountAgain(ctx, log.ID, timeline.Later(*log.FirstAt, k.now().Add(-farthest)))
}
