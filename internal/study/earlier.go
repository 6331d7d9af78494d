package study

import (
	"context"
	"fmt"
	"math"
	"time"

	"tinbell/core/consistency"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Earlier is a span beside an earlier one, day by day.
type Earlier struct {
	Of       string   `json:"of" doc:"what it is held against"`
	From     string   `json:"from" format:"date"`
	To       string   `json:"to" format:"date" doc:"last day"`
	Pairs    int      `json:"pairs" doc:"days that both have"`
	Left     int      `json:"left_out" doc:"days without a counterpart"`
	Holidays int      `json:"moved_holidays" doc:"pairs of a holiday on other dates"`
	Now      *float64 `json:"now" doc:"mean of the paired days"`
	Then     *float64 `json:"then"`
	Change   *float64 `json:"change" doc:"a share of then for counts and durations, else a difference"`
	Low      *float64 `json:"low" doc:"95 %; what a day owes to the one before is allowed for"`
	High     *float64 `json:"high"`
}

// EarlierStudy holds a span of a series against the same of earlier years and weeks.
type EarlierStudy struct {
	Subject
	By       string    `json:"by" enum:"week,month,year"`
	From     string    `json:"from" format:"date"`
	To       string    `json:"to" format:"date"`
	Name     string    `json:"name"`
	Against  []Earlier `json:"against"`
	Sentence string    `json:"sentence"`
}

// weeksBack and yearsBack are how far back a span is held against.
const (
	weeksBack = 4
	yearsBack = 5
)

// Earlier holds a span of a series against the same span of earlier years, and a week
// against the weeks before too.
func (r *Reader) Earlier(ctx context.Context, id int64, by string, day time.Time) (EarlierStudy, error) {
	_, named, err := Load(ctx, r.store, id)
	if err != nil {
		return EarlierStudy{}, err
	}
	metric, err := r.store.Metric(ctx, named.Metric)
	if err != nil {
		return EarlierStudy{}, err
	}
	b, err := r.behind(ctx, metric, by, day)
	if err != nil {
		return EarlierStudy{}, err
	}
	b.subject.Series = []record.Series{named.Series}
	histories, err := b.read(ctx, r, b.span.From-366*yearsBack-10, b.span.To, b.span.From)
	if err != nil {
		return EarlierStudy{}, err
	}
	h, there := histories[id]
	if !there {
		return EarlierStudy{}, record.Invalid{Field: "day", Given: consistency.Date(b.span.From).Format(time.DateOnly),
			Allowed: "a day of a span with samples"}
	}
	s := EarlierStudy{Subject: named, By: by, Name: spanName(by, b.span),
		From: consistency.Date(b.span.From).Format(time.DateOnly), To: consistency.Date(b.span.To - 1).Format(time.DateOnly),
		Against: []Earlier{}}
	add := func(of string, c consistency.Change) {
		if c.Pairs == 0 {
			return
		}
		s.Against = append(s.Against, Earlier{of, consistency.Date(c.Against.From).Format(time.DateOnly),
			consistency.Date(c.Against.To - 1).Format(time.DateOnly), c.Pairs, c.Left, c.MovedHolidays,
			wire.Finite(c.Now), wire.Finite(c.Then), wire.Finite(c.Change), wire.Finite(c.Low), wire.Finite(c.High)})
	}
	for n := 1; n <= weeksBack && by == consistency.Week; n++ {
		add(words.Plural(n, "week")+" before", h.WeeksBack(b.span, n))
	}
	for n := 1; n <= yearsBack; n++ {
		add(words.Plural(n, "year")+" before", h.YearsBack(b.span, n))
	}
	s.say()
	return s, nil
}

func (s *EarlierStudy) say() {
	if len(s.Against) == 0 {
		s.Sentence = fmt.Sprintf("%s has nothing earlier to be held against: no year before it is known.", capital(s.Name))
		return
	}
	c := s.Against[0]
	for _, x := range s.Against { // the year before tells more than a week
		if x.Of == "1 year before" {
			c = x
		}
	}
	relative := s.Kind == timeline.Count || s.Kind == timeline.Duration
	said := func(x *float64) string {
		switch {
		case x == nil:
			return "unknown"
		case relative:
			return signed(*x)
		}
		return minus(*x) + value(math.Abs(*x), s.Kind)
	}
	s.Sentence = fmt.Sprintf("%s beside %s: %s", capital(s.Name), c.Of, said(c.Change))
	if c.Low != nil && c.High != nil {
		s.Sentence += fmt.Sprintf(" (%s to %s)", said(c.Low), said(c.High))
		if *c.Low <= 0 && *c.High >= 0 {
			s.Sentence += ", no more than its days wander"
		}
	}
	s.Sentence += fmt.Sprintf(", over %s held against their own weekday.", words.Plural(c.Pairs, "day"))
}
