package setup

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// UsualWait is how many seconds a route waits for other alerts of the same cause,
// where nobody says.
const UsualWait = 10

// SetRoute adds a route or replaces the one of that name.
func (d *Desk) SetRoute(ctx context.Context, v record.Route) (record.Route, error) {
	err := d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		if err := d.PutRoute(ctx, tx, v); err != nil {
			return err
		}
		var err error
		v, err = in.Route(ctx, v.Name)
		return err
	})
	return v, err
}

// PutRoute is SetRoute in the caller's transaction. The channels that it names must
// be there.
func (d *Desk) PutRoute(ctx context.Context, tx pgx.Tx, v record.Route) error {
	if err := CheckRoute(&v); err != nil {
		return err
	}
	if v.EscalateTo != "" {
		if _, err := d.store.In(tx).Channel(ctx, v.EscalateTo); err != nil {
			return err
		}
	}
	return store.SetRoute(ctx, tx, v)
}

// CheckRoute fills in what is usual and refuses what cannot be followed.
func CheckRoute(v *record.Route) error {
	if v.Severity == "" {
		v.Severity = "warning"
	}
	if v.Zone == "" {
		v.Zone = "UTC"
	}
	var err error
	if v.Tags, err = record.CheckTags(v.Tags); err != nil {
		return err
	}
	switch _, err := time.LoadLocation(v.Zone); {
	case strings.TrimSpace(v.Name) == "":
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "a name that people know the route by"}
	case err != nil:
		return record.Invalid{Field: "zone", Given: v.Zone, Allowed: "a name of the tz database, such as America/Halifax"}
	case v.Severity != detect.Warning && v.Severity != detect.Critical:
		return record.Invalid{Field: "severity", Given: string(v.Severity), Allowed: "warning or critical"}
	case min(v.WaitSeconds, v.RemindSeconds, v.EscalateSeconds) < 0 || v.WaitSeconds > 3600:
		return record.Invalid{Field: "wait", Given: fmt.Sprint(v.WaitSeconds), Allowed: "0 to 3600 seconds; times are not negative"}
	case v.RemindSeconds > 0 && v.RemindSeconds < 60:
		return record.Invalid{Field: "remind", Given: fmt.Sprint(v.RemindSeconds), Allowed: "a minute at least, or 0 for none"}
	case v.EscalateSeconds > 0 && v.EscalateTo == "":
		return record.Invalid{Field: "escalate_to", Given: "", Allowed: "the channel that is told when nobody looks after it"}
	case v.EscalateTo != "" && v.EscalateTo == v.Channel:
		return record.Invalid{Field: "escalate_to", Given: v.EscalateTo, Allowed: "another channel than the route's own"}
	}
	for _, hours := range v.Hours {
		if _, err := timeline.ParseHours(hours); err != nil {
			return record.Invalid{Field: "hours", Given: hours, Allowed: err.Error()}
		}
	}
	for _, pattern := range v.Datasets {
		if _, err := path.Match(pattern, ""); err != nil {
			return record.Invalid{Field: "datasets", Given: pattern, Allowed: "a name, or a pattern with * and ? such as ops.*"}
		}
	}
	return nil
}
