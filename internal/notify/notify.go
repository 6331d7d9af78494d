// Package notify says what is wrong to those who want to hear of it: one message for one
// fault, by e-mail and webhooks, until it has arrived.
//
// What is to be said of groups that changed is put into the outbox in the transaction that
// changes them. Deliver sends what is due; what may have been sent twice carries the same
// key. Any process may send.
package notify

import (
	"context"
	"crypto/x509"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/google/uuid"

	"tinbell/internal/chart"
	"tinbell/internal/contain"
	"tinbell/internal/people"
	"tinbell/internal/store"
)

// Options of telling.
type Options struct {
	Address string         // where people reach this service, for the links in messages
	Allowed []netip.Prefix // private addresses that webhooks may go to
	Reach   []netip.Prefix // where mail servers may be; empty: anywhere but where nothing may
	Trust   *x509.CertPool // authorities of mail and web servers; nil: the system's
	Process int32          // which one this is, among those that share a database
	Now     func() time.Time
	Log     *slog.Logger
	Why     func(ctx context.Context, alert int64) string // in one line; empty where it is not clear
}

// Notifier keeps the outbox and delivers from it.
type Notifier struct {
	store   *store.Store
	charts  *chart.Reader
	safe    *people.Safe
	key     []byte // signs the links that answer alerts
	options Options
	http    *http.Client

	running sync.WaitGroup
}

func New(s *store.Store, c *chart.Reader, safe *people.Safe, o Options) *Notifier {
	n := &Notifier{store: s, charts: c, safe: safe, key: safe.Key("links"), options: o}
	n.http = n.client()
	return n
}

func (n *Notifier) now() time.Time { return n.options.Now().UTC() }

const (
	glance   = 2 * time.Second     // between looks at what is due
	lease    = 90 * time.Second    // in which a message must be sent
	atOnce   = 8                   // messages sent side by side
	sumAfter = 5 * time.Minute     // between a channel's summaries
	patience = 24 * time.Hour      // after which a message that cannot be delivered fails
	newsFor  = 24 * time.Hour      // alerts older than this when they become known are not told
	linkLife = 14 * 24 * time.Hour // of the links that answer alerts
)

// Start begins reminding and delivering until ctx ends; Stop waits for what is
// being done.
func (n *Notifier) Start(ctx context.Context) {
	for _, duty := range []func(context.Context){n.reminding, n.delivering} {
		n.running.Go(func() { duty(ctx) })
	}
}

func (n *Notifier) Stop() { n.running.Wait() }

func (n *Notifier) reminding(ctx context.Context) {
	for ctx.Err() == nil {
		if err := contain.Run(func() error { return n.Remind(ctx) }); err != nil && ctx.Err() == nil && !store.Unavailable(err) {
			n.options.Log.Error("nobody could be reminded; tried again", "error", err)
		}
		pause(ctx, glance)
	}
}

func (n *Notifier) delivering(ctx context.Context) {
	for ctx.Err() == nil {
		sent, err := contain.Get(func() (int, error) { return n.Deliver(ctx) })
		if err != nil && ctx.Err() == nil && !store.Unavailable(err) {
			n.options.Log.Error("messages could not be sent; tried again", "error", err)
		}
		if sent > 0 && err == nil {
			continue
		}
		wait := glance
		if next, err := n.store.NextDue(ctx); err == nil && !next.IsZero() {
			wait = min(glance, max(next.Sub(n.now()), 20*time.Millisecond))
		}
		pause(ctx, wait)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Quiet tells whether nothing waits to be gathered or is due to be sent.
func (n *Notifier) Quiet(ctx context.Context) (bool, error) {
	return n.store.NothingToTell(ctx, n.now())
}

// newID makes the id of a message: ascending in time, and never the same.
func newID() string { return uuid.Must(uuid.NewV7()).String() }
