package demo

import (
	"context"
	"errors"
	"net/http"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/vitals"
)

// own are the service's own figures that the demo watches, with what is allowed at most.
var own = []struct {
	figure, unit string
	most         float64
}{
	{"oldest_job_seconds", "s", 600}, {"oldest_message_seconds", "s", 600}, {"judged_after_seconds", "s", 600},
	{"jobs_given_up", "jobs", 0},
}

// SetOwn has the service watch itself: its own figures are a dataset like any other.
func SetOwn(ctx context.Context, c *client.Client) error {
	for _, o := range own {
		name := "tinbell-" + o.figure
		d := collect.Declaration{Metric: name, Dataset: vitals.Dataset, Measure: "own_figure", Kind: timeline.Value, Unit: o.unit,
			Period: "5m"}
		var there *client.Refused // the service has declared it itself already
		if err := c.Send(ctx, "POST", "/metrics/declare", d, nil); err != nil &&
			!(errors.As(err, &there) && there.Status == http.StatusConflict) {
			return err
		}
		settings := record.DefaultSettings()
		settings.Method, settings.Direction, settings.High = "fixed", "high", &o.most
		if err := c.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: name, Settings: &settings,
			Owner: "Data reliability"}, nil); err != nil {
			return err
		}
	}
	return nil
}
