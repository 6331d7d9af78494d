package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

const (
	// intakeAtOnce is how many pushed bodies are read at the same time. Most of
	// that time they wait for their senders: each holds a batch in memory and, while
	// it writes one, a connection of the database.
	intakeAtOnce = 48
	// unpackedAtOnce is how many bodies that are read whole are unpacked at the same
	// time, each in up to a hundred megabytes.
	unpackedAtOnce = 2
	// intakeWaits is how long a further one waits for its turn before its sender
	// is asked to come again.
	intakeWaits = 2 * time.Second
)

// turns lets in as many as can be worked on, and turns the others away.
type turns chan struct{}

func (t turns) enter(ctx context.Context) (done func(), err error) {
	wait := time.NewTimer(intakeWaits)
	defer wait.Stop()
	select {
	case t <- struct{}{}:
		return func() { <-t }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-wait.C:
		wrong := huma.Error429TooManyRequests("as many pushes as can be worked on are under way: send this one again after the time that Retry-After says; nothing of it was stored")
		return nil, huma.ErrorWithHeaders(wrong, http.Header{"Retry-After": {"5"}, "Connection": {"close"}})
	}
}
