package health

import (
	"context"
	"time"

	"tinbell/core/arrival"
	"tinbell/internal/record"
	"tinbell/internal/watch"
)

// Promise is an SLA with how it stands and how it was kept.
type Promise struct {
	record.SLA
	Standing    string          `json:"standing" enum:"not due,on pace,behind,met,missed" doc:"of the window that is open, or was last"`
	Sentence    string          `json:"sentence"`
	Have        float64         `json:"have"`
	WindowFrom  time.Time       `json:"window_from"`
	WindowTo    time.Time       `json:"window_to"`
	MetAt       *time.Time      `json:"met_at"`
	Probability float64         `json:"probability" doc:"of meeting it, from how such days went on"`
	Learned     int             `json:"learned_from" doc:"comparable days; with 0 nothing is known"`
	NextFrom    *time.Time      `json:"next_from" doc:"the window that is open or comes next"`
	NextTo      *time.Time      `json:"next_to"`
	Months      []Compliance    `json:"months" doc:"oldest first"`
	Windows     []record.SLADay `json:"windows" doc:"how the last thirty ended, oldest first"`
}

// Compliance is how a promise was kept in a month.
type Compliance struct {
	Month string  `json:"month" doc:"as 2026-06"`
	Met   int     `json:"met"`
	Due   int     `json:"due"`
	Share float64 `json:"share"`
}

const shownDays = 30

// Promises gives all SLAs as they stand.
func (r *Reader) Promises(ctx context.Context) ([]Promise, error) {
	list, err := r.store.SLAs(ctx)
	if err != nil {
		return nil, err
	}
	now := r.now()
	days, err := r.store.SLADays(ctx, now.AddDate(-1, -1, 0))
	if err != nil {
		return nil, err
	}
	byID := map[int64][]record.SLADay{}
	for _, d := range days {
		byID[d.SLAID] = append(byID[d.SLAID], d)
	}
	promises := make([]Promise, len(list))
	for i, s := range list {
		p, err := r.watcher.Promise(ctx, s, 60*24*time.Hour)
		if err != nil {
			return nil, err
		}
		promises[i] = standing(p, byID[s.ID], now)
	}
	return promises, nil
}

func standing(p watch.Promise, days []record.SLADay, now time.Time) Promise {
	pace := p.Pace(now)
	one := Promise{SLA: p.SLA, Standing: string(pace.Standing), Sentence: p.Sentence(pace), Have: pace.Have,
		Probability: pace.Probability, Learned: pace.Days,
		WindowFrom: time.Unix(pace.From, 0).UTC(), WindowTo: time.Unix(pace.To, 0).UTC(), Months: []Compliance{},
		Windows: []record.SLADay{}}
	if pace.Standing == arrival.Met {
		at := time.Unix(pace.MetAt, 0).UTC()
		one.MetAt = &at
	}
	if from, to, ok := p.Next(now); ok {
		one.NextFrom, one.NextTo = &from, &to
	}
	for _, d := range days {
		month := d.Day.Format("2006-01")
		if n := len(one.Months); n == 0 || one.Months[n-1].Month != month {
			one.Months = append(one.Months, Compliance{Month: month})
		}
		m := &one.Months[len(one.Months)-1]
		m.Due++
		if d.Standing == "met" {
			m.Met++
		}
		m.Share = float64(m.Met) / float64(m.Due)
	}
	one.Windows = append(one.Windows, days[max(0, len(days)-shownDays):]...)
	return one
}
