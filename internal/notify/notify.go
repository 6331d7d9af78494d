// Package tell puts alerts into groups and says what is wrong to those who want
// to hear of it: one message for one fault, by e-mail and webhooks, until it has
// arrived.
//
// What changed about alerts is kept in the transaction that changes them. From
// there gather makes groups and messages, and deliver sends what is due; each
// step is one transaction, so that a process can end at any point: nothing is
// lost, and what may have been sent twice carries the same key. Any process may
// send; one at a time gathers.
package tell

import (
	"context"
	"crypto/x509"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/google/uuid"

	"tinbell/internal/contain"
	"tinbell/internal/inspect"
	"tinbell/internal/people"
	"tinbell/internal/store"
)

// Options of telling.
type Options struct {
	Address string         // where people reach this service, for the links in messages
	Allowed []netip.Prefix // private addresses that webhooks may go to
	Reach   []netip.Prefix // where mail servers may be; empty: anywhere but where nothing may
	Trust   *x509.CertPool // authorities of mail and web servers; nil: the system's
	Now     func() time.Time
	Log     *slog.Logger
	Why     func(ctx context.Context, alert int64) string // in one line; empty where it is not clear
}

// Teller gathers and delivers.
type Teller struct {
	store     *store.Store
	inspector *inspect.Inspector
	safe      *people.Safe
	key       []byte // signs the links that answer alerts
	options   Options
	http      *http.Client

	learned learned
	wake    chan struct{}
	running sync.WaitGroup
}

func New(s *store.Store, i *inspect.Inspector, safe *people.Safe, o Options) *Teller {
	t := &Teller{store: s, inspector: i, safe: safe, key: safe.Key("links"), options: o, wake: make(chan struct{}, 1)}
	t.http = t.client()
	return t
}

func (t *Teller) now() time.Time { return t.options.Now().UTC() }

// Wake has the teller look at once whether there is something to do.
func (t *Teller) Wake() {
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

const (
	glance   = 2 * time.Second       // between looks where nothing woke it
	lease    = 90 * time.Second      // in which a message must be sent
	atOnce   = 8                     // messages sent side by side
	batch    = 2000                  // changed alerts gathered in one transaction
	sumAfter = 5 * time.Minute       // between a channel's summaries
	patience = 24 * time.Hour        // after which a message that cannot be delivered fails
	newsFor  = 24 * time.Hour        // alerts older than this when they become known are not told
	linkLife = 14 * 24 * time.Hour   // of the links that answer alerts
	settle   = 50 * time.Millisecond // for the other alerts of the same burst
)

// Start begins gathering and delivering until ctx ends; Stop waits for what is
// being done.
func (t *Teller) Start(ctx context.Context) {
	for _, duty := range []func(context.Context){t.gathering, t.delivering} {
		t.running.Go(func() { duty(ctx) })
	}
}

func (t *Teller) Stop() { t.running.Wait() }

func (t *Teller) gathering(ctx context.Context) {
	for {
		if err := contain.Run(func() error { return t.Gather(ctx) }); err != nil && ctx.Err() == nil && !store.Unavailable(err) {
			t.options.Log.Error("alerts could not be grouped; tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.wake:
			pause(ctx, settle)
		case <-time.After(glance):
		}
	}
}

func (t *Teller) delivering(ctx context.Context) {
	for {
		sent, err := contain.Get(func() (int, error) { return t.Deliver(ctx) })
		if err != nil && ctx.Err() == nil && !store.Unavailable(err) {
			t.options.Log.Error("messages could not be sent; tried again", "error", err)
		}
		if sent > 0 && err == nil {
			continue
		}
		wait := glance
		if next, err := t.store.NextDue(ctx); err == nil && !next.IsZero() {
			wait = min(glance, max(next.Sub(t.now()), 20*time.Millisecond))
		}
		pause(ctx, wait)
		if ctx.Err() != nil {
			return
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Quiet tells whether nothing waits to be gathered or is due to be sent.
func (t *Teller) Quiet(ctx context.Context) (bool, error) { return t.store.NothingToTell(ctx, t.now()) }

// newID makes the id of a message: ascending in time, and never the same.
func newID() string { return uuid.Must(uuid.NewV7()).String() }
