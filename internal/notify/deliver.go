package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Deliver sends what is due, several side by side, and gives how many were tried.
func (n *Notifier) Deliver(ctx context.Context) (int, error) {
	if err := n.store.Fold(ctx, n.now(), sumAfter, newID); err != nil {
		return 0, err
	}
	due, err := n.store.Lease(ctx, n.options.Process, n.now(), n.now().Add(lease), 4*atOnce)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	channels, err := n.store.Channels(ctx)
	if err != nil {
		return 0, err
	}
	byID := map[int64]record.Channel{}
	for _, c := range channels {
		byID[c.ID] = c
	}
	var group sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	failed := make([]error, len(due))
	for i, m := range due {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			failed[i] = contain.Run(func() error { return n.deliver(ctx, byID[m.ChannelID], m) })
		})
	}
	group.Wait()
	return len(due), errors.Join(failed...)
}

// deliver tries a message once and keeps how it went; the error is of keeping
// it.
func (n *Notifier) deliver(ctx context.Context, c record.Channel, m record.Message) error {
	limited, cancel := context.WithTimeout(ctx, lease/2)
	defer cancel()
	err := contain.Run(func() error { return n.attempt(limited, c, &m) })
	if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
		n.options.Log.ErrorContext(ctx, "a message broke off", "message", m.ID, "channel", c.Name, "what", m.What, "error", err,
			"stack", broke.Stack)
	}
	if ctx.Err() != nil {
		return nil // stopping: the lease ends, and it is sent again under the same key
	}
	now := n.now()
	var moot moot
	m.Error = ""
	switch {
	case err == nil:
		m.State, m.SentAt = record.MessageSent, &now
	case errors.As(err, &moot):
		m.State, m.Error = record.MessageDropped, moot.why
	case now.Sub(m.CreatedAt) > patience && m.Attempts > 3:
		m.State, m.Error = record.MessageFailed, readable(err.Error())
	default:
		m.State, m.Error, m.DueAt = record.MessageWaiting, readable(err.Error()), now.Add(backoff(m.Attempts))
	}
	if moot.why == "" {
		why := ""
		if err != nil {
			why = readable(err.Error())
		}
		if err := n.store.Reached(ctx, c.ID, why, now); err != nil {
			return err
		}
	}
	return n.store.EndMessage(ctx, m)
}

// moot says why a message is not worth sending any more.
type moot struct{ why string }

func (m moot) Error() string { return m.why }

// backoff is how long to wait after so many attempts: from five seconds, twice as
// long each time, half an hour at most, and half more or less by chance, so that
// what failed together is not tried together.
func backoff(attempts int) time.Duration {
	wait := min(5*time.Second<<min(attempts-1, 10), 30*time.Minute)
	return time.Duration((0.5 + rand.Float64()) * float64(wait))
}

// Body is a message as it is sent, rendered once.
type Body struct {
	Text    string `json:"text,omitempty"`
	HTML    string `json:"html,omitempty"`
	Picture []byte `json:"picture,omitempty"` // PNG
	Thread  string `json:"thread,omitempty"`
	Payload string `json:"payload,omitempty"` // of a webhook
	Type    string `json:"type,omitempty"`
}

// attempt renders a message if that has not been done, and sends it.
func (n *Notifier) attempt(ctx context.Context, c record.Channel, m *record.Message) error {
	var b Body
	if m.Body == nil {
		facts, err := n.facts(ctx, c, *m)
		if err != nil {
			return err
		}
		if b, err = render(c, facts); err != nil {
			return err
		}
		m.Subject = facts.Title
		if m.Body, err = json.Marshal(b); err != nil {
			return err
		}
		if err := n.store.Rendered(ctx, *m); err != nil {
			return err
		}
	} else if err := json.Unmarshal(m.Body, &b); err != nil {
		return fmt.Errorf("message %s as it was rendered: %w", m.ID, err)
	}
	switch c.Kind {
	case record.ChannelEmail:
		return n.mail(ctx, c, *m, b)
	case record.ChannelWebhook:
		return n.post(ctx, c, *m, b)
	}
	return fmt.Errorf("channel %s is of the unknown kind %q", c.Name, c.Kind)
}

// Test sends a test message to a channel at once and gives what went wrong. The
// message is kept like any other, and not tried again.
func (n *Notifier) Test(ctx context.Context, c record.Channel) (record.Message, error) {
	now := n.now()
	m := record.Message{ID: newID(), ChannelID: c.ID, Channel: c.Name, What: record.ToldTest, CreatedAt: now, DueAt: now}
	if err := n.store.PutTest(ctx, m, now.Add(lease)); err != nil {
		return m, err
	}
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	err := n.attempt(limited, c, &m)
	m.State, m.Attempts, now = record.MessageSent, 1, n.now()
	m.SentAt = &now
	why := ""
	if err != nil {
		m.State, m.SentAt, m.Error, why = record.MessageFailed, nil, readable(err.Error()), readable(err.Error())
	}
	keep := context.WithoutCancel(ctx)
	return m, errors.Join(n.store.Reached(keep, c.ID, why, now), n.store.EndMessage(keep, m))
}

// TellNow has a group told to a channel at once, by hand: as new if the channel
// has not heard of it, else as asked for again.
func (n *Notifier) TellNow(ctx context.Context, group int64, channel string) (record.Message, error) {
	c, err := n.store.Channel(ctx, channel)
	if err != nil {
		return record.Message{}, err
	}
	if _, err := n.store.Group(ctx, group); err != nil {
		return record.Message{}, err
	}
	now := n.now()
	m := record.Message{ID: newID(), ChannelID: c.ID, Channel: c.Name, GroupID: &group, What: record.ToldOpened,
		State: record.MessageWaiting, CreatedAt: now, DueAt: now}
	return m, n.store.InTx(ctx, func(tx pgx.Tx) error {
		said, err := store.MessagesOf(ctx, tx, []int64{group})
		if err != nil {
			return err
		}
		for _, one := range said {
			switch {
			case one.ChannelID != c.ID:
			case one.What == record.ToldOpened:
				m.What = record.ToldAsked
			case one.What == record.ToldAsked:
				m.Turn = max(m.Turn, one.Turn+1)
			}
		}
		return store.PutMessage(ctx, tx, m)
	})
}
