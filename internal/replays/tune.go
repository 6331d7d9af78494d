package replays

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/score"
	"tinbell/core/tune"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Tuning is what a search for better settings came to.
type Tuning struct {
	From      time.Time         `json:"from"`
	To        time.Time         `json:"to"`
	Monitors  int               `json:"monitors"`
	Tried     int               `json:"tried" doc:"settings replayed, over all monitors"`
	Answers   int               `json:"answers" doc:"labels that were known"`
	Faults    int               `json:"faults"`
	Noise     int               `json:"noise"`
	Proposals []record.Proposal `json:"proposals"`
	Passed    []Passed          `json:"passed" doc:"monitors for which nothing is proposed, and why"`
	Sentence  string            `json:"sentence"`
}

// Passed is a monitor that tuning leaves as it is.
type Passed struct {
	Monitor string    `json:"monitor"`
	Why     string    `json:"why"`
	Stopped []Stopped `json:"stopped" doc:"settings that spare more, those that spare most first, and the known faults that they would lose"`
}

// Stopped is a setting that would spare more false alarms than today's, but loses faults.
type Stopped struct {
	Changes []string    `json:"changes"`
	Spared  float64     `json:"spared" doc:"false alarms that would be gone"`
	Lost    float64     `json:"lost" doc:"faults, with what is likely of alerts that nobody answered"`
	Faults  []LostFault `json:"faults" doc:"of these, what people know"`
}

// LostFault is a fault that people know of and that a setting would not have told.
type LostFault struct {
	Alert    int64     `json:"alert" doc:"that was labelled a fault; 0 if an incident says it"`
	Incident string    `json:"incident"`
	Segment  string    `json:"segment"`
	Since    time.Time `json:"since"`
	Sentence string    `json:"sentence"`
}

// blocks is how many stretches of time a choice is checked on, each by what was
// known before.
const blocks = 4

// Tune searches for settings that spare false alarms and lose no more than the
// limit of faults, over all monitors named (all if none is), and keeps proposals.
// proceed is told of progress and may stop the search.
func (b *Bench) Tune(ctx context.Context, names []string, from time.Time, proceed func(done, total int) error) (Tuning, error) {
	to := b.now()
	if from.IsZero() {
		from = to.AddDate(0, 0, -16*7)
	}
	t := Tuning{From: from, To: to, Proposals: []record.Proposal{}, Passed: []Passed{}}
	a, err := b.lessons.Open(ctx)
	if err != nil {
		return t, err
	}
	monitors, err := b.tunable(ctx, names, &t)
	if err != nil {
		return t, err
	}
	q, err := b.lessons.Ask(ctx, 1, "")
	if err != nil {
		return t, err
	}
	t.Monitors, t.Answers, t.Faults, t.Noise = len(monitors), q.Answered, q.Faults, q.Noise
	if q.TooFew() {
		t.Sentence = fmt.Sprintf("Too few labels to tune: %d answers, of them %s and %d noise; it takes %s.", q.Answered,
			words.Plural(q.Faults, "fault"), q.Noise, q.Missing())
		return t, nil
	}
	incidents, err := b.store.Incidents(ctx, "", from, to)
	if err != nil {
		return t, err
	}
	total := 0
	for _, m := range monitors {
		total += len(optionsFor(m.Settings))
	}
	var list []*candidate
	for _, m := range monitors {
		c, err := b.tryOptions(ctx, a, m, incidents, from, to, func() error { t.Tried++; return proceed(t.Tried, total) })
		if err != nil {
			return t, fmt.Errorf("tune %s: %w", m.Name, err)
		}
		list = append(list, c)
	}
	b.propose(&t, list, a.How.Limit)
	ids := make([]int64, len(list))
	for i, c := range list {
		ids[i] = c.monitor.ID
	}
	return t, b.store.PutProposals(ctx, ids, t.Proposals, to.UTC())
}

// tunable gives the monitors that have anything to search.
func (b *Bench) tunable(ctx context.Context, names []string, t *Tuning) ([]record.Monitor, error) {
	all, err := b.store.Monitors(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if !slices.ContainsFunc(all, func(m record.Monitor) bool { return m.Name == name }) {
			return nil, record.NotFound{Kind: "monitor", Name: name}
		}
	}
	var list []record.Monitor
	for _, m := range all {
		switch {
		case len(names) > 0 && !slices.Contains(names, m.Name):
		case m.Paused:
			t.Passed = append(t.Passed, Passed{m.Name, "it is paused", []Stopped{}})
		case m.Settings.Method == record.MethodArrival:
			t.Passed = append(t.Passed, Passed{m.Name,
				"learned arrivals have nothing to search but their rarity; change that by hand", []Stopped{}})
		default:
			list = append(list, m)
		}
	}
	return list, nil
}

// propose chooses on the whole stretch and measures, block by block, what the
// same choice made on the blocks before would have done on the next.
func (b *Bench) propose(t *Tuning, list []*candidate, limit float64) {
	searched := make([]*tune.Candidate, len(list))
	for m, c := range list {
		searched[m] = &c.search
	}
	chosen, outlooks := tune.Choose(searched, t.From.Unix(), t.To.Unix(), limit)
	kept := tune.HoldOut(searched, t.From.Unix(), t.To.Unix(), blocks, limit)
	for m, c := range list {
		o, of := outlooks[m][chosen[m]], kept[m]
		g := record.Gain{From: t.From, To: t.To, Changes: c.options[chosen[m]].changes, Faults: of.Faults, FaultsLost: of.FaultsLost,
			Noise: of.Noise, NoiseSpared: of.NoiseSpared}
		g.Spared, g.Lost, g.Before, g.After = o.Spared, max(o.Lost, 0), len(c.told[0]), len(c.told[chosen[m]])
		spared := score.Wilson(g.NoiseSpared, g.Noise)
		g.SparedLow, g.SparedHigh, g.Gained = spared.Low, spared.High, c.search.Gained(chosen[m])
		if g.Faults > 0 {
			g.LostHigh = score.UpperShare(g.FaultsLost, g.Faults)
		} else {
			g.LostHigh = 1
		}
		if why := refuse(chosen[m], o, g); why != "" {
			t.Passed = append(t.Passed, Passed{c.monitor.Name, why, c.stops(0, outlooks[m], t.From, t.To)})
			continue
		}
		t.Proposals = append(t.Proposals, record.Proposal{MonitorID: c.monitor.ID, Monitor: c.monitor.Name,
			Dataset: c.monitor.Dataset, Version: c.monitor.Version,
			Settings: c.options[chosen[m]].settings, Gain: g, MadeAt: t.To.UTC(), State: "open"})
	}
	t.Sentence = t.sentence()
}

// refuse says why a choice is not worth a person's time, empty if it is.
func refuse(choice int, o tune.Outlook, g record.Gain) string {
	switch {
	case choice == 0:
		return "nothing that was tried is better than today's settings"
	case len(g.Gained) == 0 && o.Spared < 1:
		return "the best that was found spares less than one alert over the stretch"
	case 10*g.FaultsLost > g.Faults:
		return fmt.Sprintf("on later time the choice lost %d of %s and spared %d false alarms", g.FaultsLost,
			words.Plural(g.Faults, "known fault"), g.NoiseSpared)
	case g.Noise == 0 && o.Spared < 2 && len(g.Gained) == 0:
		return "the best that was found spares about one alert, and nothing is known of the time held out"
	case g.Noise > 0 && g.NoiseSpared == 0:
		return fmt.Sprintf("on later time the choice spared none of %s", words.Plural(g.Noise, "known false alarm"))
	}
	return ""
}

func (t *Tuning) sentence() string {
	if len(t.Proposals) == 0 {
		return fmt.Sprintf("%d settings of %s were tried, and none is clearly better than today's.", t.Tried,
			words.Plural(t.Monitors, "monitor"))
	}
	spared, lost := 0.0, 0.0
	for _, p := range t.Proposals {
		spared, lost = spared+p.Gain.Spared, lost+p.Gain.Lost
	}
	return fmt.Sprintf("%s: together they would have spared about %.0f alerts in %s and lost about %s.",
		words.Plural(len(t.Proposals), "proposal"), math.Round(spared),
		words.Duration(t.To.Sub(t.From).Round(24*time.Hour)), words.Plural(int(math.Round(lost)), "fault"))
}
