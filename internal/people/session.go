package people

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"time"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	turnedAfter = 15 * time.Minute // a session's secret is made anew
	lateAfter   = time.Minute      // the one before is no longer good, once the new one has come
)

// Browser is what signs in.
type Browser struct{ Origin, Agent string }

// Who makes a request: an account, and the session it does so in (0: by a token).
type Who struct {
	record.Account
	Session int64
	Less    bool   // whether what it signed in with says less than the account may
	Fresh   string // the session's new secret, to be kept from now on; empty: it stays
}

// limited is who a token or session stands for.
func limited(a record.Account, says string, within record.Strings) Who {
	own := rank[capped(record.Account{Grants: slices.Clone(a.Grants)}, "", nil).Role]
	who := Who{Account: capped(a, says, within)}
	who.Less = rank[who.Role] < own || len(within) > 0
	return who
}

// ErrLess is what somebody gets who would look after an account with a token that says less.
var ErrLess = Forbidden{Why: "the token you signed in with says less than your account may: sign in with a password, through the provider, or with a token that says all of it"}

// ByToken signs a browser in with a token: the session ends with it.
func (d *Desk) ByToken(ctx context.Context, token string, from Browser) (record.Account, string, error) {
	found, err := d.store.TokenBy(ctx, hash(token), d.now())
	if errors.As(err, new(record.NotFound)) {
		return record.Account{}, "", ErrSignIn
	}
	if err != nil {
		return record.Account{}, "", err
	}
	secret, err := d.enter(ctx, found.Account, found.Token, "token", from)
	return capped(found.Account, found.Says, found.Within), secret, err
}

// enter begins a session and gives its secret.
func (d *Desk) enter(ctx context.Context, a record.Account, token int64, by string, from Browser) (string, error) {
	if agent := []rune(from.Agent); len(agent) > 200 {
		from.Agent = string(agent[:200])
	}
	secret := rand.Text()
	return secret, d.store.AddSession(ctx, store.NewSession{Account: a.ID, Token: token, Hash: hash(secret), By: by,
		Origin: from.Origin, Agent: from.Agent}, d.stays, d.now().UTC())
}

// In gives who a session's secret stands for. A secret that has been replaced, and comes
// again later, has been taken by somebody: the session ends.
func (d *Desk) In(ctx context.Context, secret string) (Who, error) {
	if secret == "" {
		return Who{}, ErrSignIn
	}
	now, given := d.now().UTC(), hash(secret)
	found, err := d.store.SessionBy(ctx, given, d.stays, now)
	if errors.As(err, new(record.NotFound)) {
		return Who{}, ErrSignIn
	}
	if err != nil {
		return Who{}, err
	}
	who := limited(found.Account, found.Says, found.Within)
	who.Session = found.Session
	age := now.Sub(found.TurnedAt)
	switch {
	case !found.Newest && found.Seen && age > lateAfter:
		_, err := d.store.EndSessions(ctx, found.Session, 0)
		return Who{}, errors.Join(ErrSignIn, err)
	case found.Newest && age > turnedAfter, !found.Newest && !found.Seen && age > lateAfter:
		fresh := rand.Text()
		turned, err := d.store.TurnSession(ctx, found.Session, found.Newest, given, hash(fresh), now)
		if err != nil {
			return Who{}, err
		}
		if turned {
			who.Fresh = fresh
		}
	case found.Newest && (!found.Seen || now.Sub(found.UsedAt) > time.Minute):
		err = d.store.SeeSession(ctx, found.Session, now)
	}
	return who, err
}

// Stays is how long sessions are good.
func (d *Desk) Stays() store.Stays { return d.stays }

// Forget drops what signing in needs no more.
func (d *Desk) Forget(ctx context.Context) error {
	return d.store.ForgetTries(ctx, d.stays, d.now().UTC())
}

// Sessions gives the browsers that are signed in: an account's own, or all.
func (d *Desk) Sessions(ctx context.Context, who Who, all bool) ([]record.Session, error) {
	account := who.ID
	if all {
		account = 0
	}
	return d.store.Sessions(ctx, account, who.Session, d.stays, d.now().UTC())
}

// SignOut ends one session (0: all) of an account (0: of anybody).
func (d *Desk) SignOut(ctx context.Context, session, account int64) error {
	n, err := d.store.EndSessions(ctx, session, account)
	if err == nil && n == 0 && session != 0 {
		err = record.NotFound{Kind: "session", Name: "that is yours"}
	}
	return err
}
