package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

const (
	// intakeAtOnce is how many pushed bodies are taken in at the same time. Each
	// holds a connection of the database and a batch in memory, no more.
	intakeAtOnce = 6
	// intakeWaits is how long a further one waits for its turn before its sender
	// is asked to come again.
	intakeWaits = 2 * time.Second
)

// intake lets in as many pushes as can be worked on, and turns the others away
// before anything of them is read.
type intake chan struct{}

func newIntake() intake { return make(intake, intakeAtOnce) }

func (i intake) enter(ctx context.Context) (done func(), err error) {
	turn := time.NewTimer(intakeWaits)
	defer turn.Stop()
	select {
	case i <- struct{}{}:
		return func() { <-i }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-turn.C:
		wrong := huma.Error429TooManyRequests("as many pushes as can be worked on are under way: send this one again after the time that Retry-After says; nothing of it was read")
		return nil, huma.ErrorWithHeaders(wrong, http.Header{"Retry-After": {"5"}})
	}
}
