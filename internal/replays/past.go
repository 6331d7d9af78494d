package replays

import (
	"context"
	"fmt"
	"time"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/words"
)

// PastQuestion is a stretch of a monitor's past of which only a person can say
// whether it was a fault or what the series does.
type PastQuestion struct {
	SeriesID  int64     `json:"series_id" doc:"the one whose limits it moves most"`
	Segment   string    `json:"segment"`
	Series    []int64   `json:"series" doc:"all that show it"`
	Segments  []string  `json:"segments"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
	Rule      string    `json:"rule" enum:"deviation,silence,missing"`
	Direction string    `json:"direction" enum:"low,high"`
	Strength  float64   `json:"strength" doc:"its statistic, in multiples of the limit"`
	Others    int       `json:"others" doc:"further stretches, at least as strong, that must be faults as well for the limit to fall"`
	Gain      float64   `json:"gain" doc:"share by which the limit falls if it was a fault, and so were the others"`
	LossNow   float64   `json:"loss_now" doc:"share lost that shows within a day if it is ordinary; 0 where that says nothing"`
	LossIf    float64   `json:"loss_if" doc:"the same if it was a fault"`
	Sentence  string    `json:"sentence"`
}

// PastQuestions are the questions about a monitor's past, the one that changes most
// first.
type PastQuestions struct {
	Monitor   string         `json:"monitor"`
	Zone      string         `json:"zone"`
	Questions []PastQuestion `json:"questions"`
	Sentence  string         `json:"sentence"`
}

// MostAsked is how many questions about its past a monitor has at once; more bring
// hardly anything.
const (
	MostAsked = 7
	askedOf   = 8 // series
)

// AskPast finds the stretches of a monitor's past whose answers would move its
// limits most.
func (b *Bench) AskPast(ctx context.Context, monitor string, limit int) (PastQuestions, error) {
	q := PastQuestions{Monitor: monitor, Questions: []PastQuestion{}}
	m, err := b.store.Monitor(ctx, monitor)
	if err != nil {
		return q, err
	}
	v, err := watch.Load(ctx, b.store, m)
	if err != nil {
		return q, err
	}
	q.Zone = v.Metric.Zone
	if m.Settings.Method != "seasonal" {
		q.Sentence = "Only learned bands have limits that follow from the past in this way."
		return q, nil
	}
	now := b.now()
	var jobs []replay.Job
	var of []record.Series
	stride := max(1, (len(v.Series)+askedOf-1)/askedOf)
	for i := 0; i < len(v.Series); i += stride {
		series := v.Series[i]
		history, err := v.History(ctx, b.store, series.ID, time.Time{}, v.SettledTo(now))
		if err != nil {
			return q, err
		}
		if len(history) > 0 {
			jobs = append(jobs, replay.Job{Config: v.Config, Rule: v.Rule(series), History: history,
				Exclusions: v.Exclusions[series.ID], From: now.Unix()})
			of = append(of, series)
		}
	}
	doubts, err := replay.Doubts(jobs, min(limit, MostAsked))
	if err != nil {
		return q, err
	}
	for _, d := range doubts {
		q.Questions = append(q.Questions, pastQuestion(d, of, v.Metric))
	}
	q.Sentence = "Nothing in its past moves its limits much: there is nothing to ask."
	if n := len(q.Questions); n > 0 {
		q.Sentence = fmt.Sprintf("%s of its past: was it a fault, or what it does? Each answer moves its limits; all can be left open.", words.Plural(n, "stretch"))
	}
	return q, nil
}

func pastQuestion(d replay.Doubt, of []record.Series, metric record.Metric) PastQuestion {
	q := PastQuestion{From: time.Unix(d.From, 0).UTC(), To: time.Unix(d.To, 0).UTC(), Rule: string(d.Cause),
		Direction: d.Direction.String(),
		Strength:  d.Strength, Others: d.Others, Gain: replay.Falls(d.Fall), LossNow: d.LossNow, LossIf: d.LossIf}
	for _, k := range d.Series {
		q.Series, q.Segments = append(q.Series, of[k].ID), append(q.Segments, of[k].Segment)
	}
	q.SeriesID, q.Segment = q.Series[0], q.Segments[0]
	who := metric.Dataset
	if q.Segment != "" {
		who = q.Segment
	}
	was := "was"
	if n := len(q.Series); n > 1 {
		who, was = who+fmt.Sprintf(" and %d more", n-1), "were"
	}
	what := map[detect.Cause]string{detect.Silence: "sent nothing", detect.Missing: "did not come"}[d.Cause]
	if what == "" {
		what = was + map[detect.Direction]string{detect.Low: " low", detect.High: " high"}[d.Direction]
	}
	q.Sentence = fmt.Sprintf("%s %s for %s.", who, what, words.Seconds(float64(d.To-d.From)))
	fault := "that was a fault"
	if q.Others > 0 {
		fault = fmt.Sprintf("that and %s like it were faults", words.Plural(q.Others, "stretch"))
	}
	switch now, then := words.Percent(q.LossNow), words.Percent(q.LossIf); {
	case d.Direction != detect.High && q.LossNow > q.LossIf && now != then:
		q.Sentence += fmt.Sprintf(" If %s, losses from %s on show within a day instead of %s; if it is ordinary, nothing changes.", fault, then, now)
	default:
		q.Sentence += fmt.Sprintf(" If %s, the limit falls by %s; if it is ordinary, nothing changes.", fault, words.Percent(q.Gain))
	}
	return q
}
