// Package diagnose says why an alert rang: which segments are behind it, what else
// broke at the same time, what upstream and downstream look like, which rows to look
// at, and what was like it before. Everything is asked anew; nothing is kept.
package diagnose

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tinbell/internal/collect/warehouse"
	"tinbell/internal/contain"
	"tinbell/internal/lineage"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Diagnoser answers why.
type Diagnoser struct {
	store   *store.Store
	pools   *warehouse.Pools
	lineage *lineage.Reader
	now     func() time.Time
}

func New(s *store.Store, p *warehouse.Pools, l *lineage.Reader, now func() time.Time) *Diagnoser {
	return &Diagnoser{store: s, pools: p, lineage: l, now: now}
}

// Why is what is known of an alert's cause. What could not be found out says why
// not; the rest stands.
type Why struct {
	Alert        int64               `json:"alert"`
	Line         string              `json:"line" doc:"the answer in one line, where it is clear; else empty"`
	From         time.Time           `json:"from" doc:"the stretch that is looked at"`
	To           time.Time           `json:"to"`
	Zone         string              `json:"zone"`
	Contribution *Contribution       `json:"contribution,omitempty"`
	Together     *Together           `json:"together,omitempty"`
	Lineage      *Stages             `json:"lineage,omitempty"`
	Before       []Precedent         `json:"before" doc:"past incidents most like it, the most alike first"`
	Listings     []warehouse.Listing `json:"listings" doc:"SQL that finds the rows"`
	Missing      map[string]string   `json:"missing" doc:"by part, why it is not there"`
}

// asked is an alert with what its diagnosis needs.
type asked struct {
	record.Alert
	metric   record.Metric
	dataset  record.Dataset
	source   record.Source
	from, to time.Time
}

const (
	longest = 7 * 24 * time.Hour
	whole   = 20 * time.Second // that a diagnosis may take
	brief   = 8 * time.Second  // … for a message
)

// ask reads what an alert is about. Alerts about sources and jobs have no metric.
func (d *Diagnoser) ask(ctx context.Context, id int64) (asked, error) {
	a, err := d.store.Alert(ctx, id)
	if err != nil {
		return asked{}, err
	}
	q := asked{Alert: a, from: a.Since, to: a.RaisedAt}
	if a.RangTo != nil && a.RangTo.After(a.Since) {
		q.to = *a.RangTo
	}
	if a.Cause == "overdue" || a.Cause == "missing" || a.Cause == "silence" {
		// Nothing comes: as long as it has lasted.
		q.to = d.now()
		if a.EndedAt != nil {
			q.to = *a.EndedAt
		}
	}
	if q.to.Sub(q.from) > longest {
		q.to = q.from.Add(longest)
	}
	if !q.to.After(q.from) {
		q.to = q.from.Add(time.Hour)
	}
	// Weeks before are by the dataset's clocks, over a change of them too.
	if zone, err := time.LoadLocation(a.Zone); err == nil {
		q.from, q.to = q.from.In(zone), q.to.In(zone)
	}
	if a.Dataset != "" {
		if q.dataset, err = d.store.Dataset(ctx, a.Dataset); err != nil {
			return q, err
		}
		if q.source, err = d.store.Source(ctx, q.dataset.Source); err != nil {
			return q, err
		}
	}
	if a.Judged() {
		q.metric, err = d.store.Metric(ctx, a.Metric)
	}
	return q, err
}

// Why finds out what it can, all parts side by side. A part that fails or takes too
// long says so.
func (d *Diagnoser) Why(ctx context.Context, id int64) (Why, error) {
	q, err := d.ask(ctx, id)
	if err != nil {
		return Why{}, err
	}
	w := Why{Alert: id, From: q.from, To: q.to, Zone: q.Zone, Before: []Precedent{}, Listings: []warehouse.Listing{},
		Missing: map[string]string{}}
	ctx, cancel := context.WithTimeout(ctx, whole)
	defer cancel()
	said := map[string]*string{}
	var group errgroup.Group
	part := func(name string, find func(context.Context) error) {
		why := new(string)
		said[name] = why
		group.Go(func() error {
			if err := contain.Run(func() error { return find(ctx) }); err != nil {
				*why = reason(err)
			}
			return nil
		})
	}
	part("contribution", func(ctx context.Context) (err error) { w.Contribution, err = d.contribution(ctx, q); return err })
	part("together", func(ctx context.Context) (err error) { w.Together, err = d.together(ctx, q); return err })
	part("lineage", func(ctx context.Context) (err error) { w.Lineage, err = d.stages(ctx, q); return err })
	part("before", func(ctx context.Context) (err error) { w.Before, err = d.precedents(ctx, q); return err })
	part("listings", func(ctx context.Context) (err error) { w.Listings, err = d.listings(ctx, q); return err })
	if err := group.Wait(); err != nil {
		return w, err
	}
	for name, why := range said {
		if *why != "" {
			w.Missing[name] = *why
		}
	}
	w.Line = w.line()
	return w, nil
}

// none says why a part has nothing to say.
type none string

func (n none) Error() string { return string(n) }

// reason says why a part is missing, in words for people; what a row holds is not
// repeated.
func reason(err error) string {
	var n none
	var missing record.NotFound
	switch {
	case errors.As(err, &n):
		return string(n)
	case errors.As(err, &missing):
		return missing.Error()
	case warehouse.TooSlow(err) || errors.Is(err, context.DeadlineExceeded):
		return "the warehouse takes too long to answer"
	case errors.Is(err, warehouse.ErrNotAdditive):
		return err.Error()
	case warehouse.Reached(err):
		return "the warehouse refused: " + warehouse.Words(err)
	}
	return "it could not be found out: " + warehouse.Words(err)
}

// Line is the answer in one line, where it is clear within a few seconds; else empty.
func (d *Diagnoser) Line(ctx context.Context, alert int64) string {
	ctx, cancel := context.WithTimeout(ctx, brief)
	defer cancel()
	w, err := d.Why(ctx, alert)
	if err != nil {
		return "" // a message does as well without
	}
	return w.Line
}

// line is the answer in one line: the segments behind it, else what the broken share.
func (w *Why) line() string {
	const clear = 0.6
	if c := w.Contribution; c != nil && len(c.Parts) > 0 && len(c.Parts) <= 2 && c.Explained >= clear && len(c.Parts[0].Tags) > 0 {
		var parts []string
		for _, p := range c.Parts {
			parts = append(parts, p.Says)
		}
		return strings.Join(parts, "; ") + fmt.Sprintf(": %.0f %% of all that %s", 100*c.Explained, c.Way)
	}
	if t := w.Together; t != nil && len(t.Shared) > 0 {
		s := t.Shared[0]
		if s.OtherBroken == 0 {
			return fmt.Sprintf("Everything with %s = %s, nothing elsewhere (%d of %d series broke)", s.Column, s.Value, s.Broken,
				s.Broken+s.Sound)
		}
	}
	return ""
}
