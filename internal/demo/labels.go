package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"time"

	"tinbell/core/score"
	"tinbell/internal/client"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// label answers part of the past's alerts as the three people would have: four
// fifths of those older than twelve days, one in twenty of them wrongly.
func (w *World) label(ctx context.Context, c *client.Client) error {
	rng := rand.New(rand.NewPCG(w.Seed, 99))
	cursor := int64(0)
	for {
		var page httpapi.AlertPage
		if err := c.Get(ctx, "/alerts", url.Values{"limit": {"500"}, "cursor": {fmt.Sprint(cursor)}}, &page); err != nil {
			return err
		}
		for _, a := range page.Alerts {
			if a.Comparison != "" {
				if err := w.labelDrift(ctx, c, a); err != nil {
					return err
				}
				continue
			}
			if a.Dataset == freightInvoices.Dataset || a.RaisedAt.After(w.AsOf.AddDate(0, 0, -12)) || rng.Float64() > 0.8 {
				continue
			}
			verdict, cause := w.truth(a)
			if rng.Float64() < 0.05 {
				verdict, cause = map[score.Verdict]score.Verdict{record.Fault: record.Noise, record.Noise: record.Fault,
					record.Planned: record.Noise}[verdict], ""
			}
			l := httpapi.NewLabel{Alerts: []int64{a.ID}, Verdict: verdict, Cause: cause, Author: labellers[rng.IntN(3)],
				At: a.RaisedAt.Add(time.Duration(20+rng.IntN(1200)) * time.Minute)}
			if err := c.Send(ctx, "POST", "/labels", l, nil); err != nil {
				return err
			}
		}
		if cursor = page.NextCursor; cursor == 0 {
			return nil
		}
	}
}

// labelDrift answers a comparison's alert by what was broken in the rows of its days;
// where nothing was, the rows did change, and that question is left to the reader.
func (w *World) labelDrift(ctx context.Context, c *client.Client, a record.Alert) error {
	if a.RaisedAt.After(w.AsOf.AddDate(0, 0, -12)) {
		return nil
	}
	for _, f := range w.Faults {
		if f.Dataset == a.Dataset && f.From.Before(a.RaisedAt) && f.To.After(a.Since) {
			return c.Send(ctx, "POST", "/labels", httpapi.NewLabel{Alerts: []int64{a.ID}, Verdict: record.Fault, Cause: f.Cause,
				Author: labellers[0], At: a.RaisedAt.Add(9 * time.Hour)}, nil)
		}
	}
	return nil
}

// truth is what really happened around an alert.
func (w *World) truth(a record.Alert) (verdict score.Verdict, cause string) {
	end := a.RaisedAt
	if a.EndedAt != nil && a.EndedAt.After(end) {
		end = *a.EndedAt
	}
	for _, f := range w.Faults {
		if f.Dataset == a.Dataset && (f.Segment == "" || a.Segment == "" || f.Segment == a.Segment) && f.Measure == a.Measure &&
			a.RaisedAt.Before(f.To.Add(4*time.Hour)) && end.After(f.From) {
			return record.Fault, f.Cause
		}
	}
	for _, e := range w.Events {
		if !e.Holiday && a.RaisedAt.Before(e.To.Add(4*time.Hour)) && end.After(e.From) {
			return record.Planned, e.Summary
		}
	}
	return record.Noise, ""
}
