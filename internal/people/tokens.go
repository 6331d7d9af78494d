// Package people knows who may do what: accounts, tokens and roles.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Desk signs people in.
type Desk struct {
	store    *store.Store
	safe     *Safe
	stays    store.Stays
	provider *Provider // nil: there is none
	now      func() time.Time
	hashing  chan struct{} // passwords looked at, at once
}

// New makes a desk. What stays says nothing of is a week unused, and 30 days at all.
func New(s *store.Store, safe *Safe, stays store.Stays, provider *Provider, now func() time.Time) *Desk {
	if stays.Idle <= 0 {
		stays.Idle = 7 * 24 * time.Hour
	}
	if stays.Longest <= 0 {
		stays.Longest = 30 * 24 * time.Hour
	}
	return &Desk{s, safe, stays, provider, now, make(chan struct{}, hashedAtOnce)}
}

// Rekey has all secrets kept with a new key, and gives how many they are. Whoever is killed
// on the way finds the old key with the old secrets, or the new with the new.
func (d *Desk) Rekey(ctx context.Context) (int, error) {
	draft, err := d.safe.Draft()
	if err != nil {
		return 0, err
	}
	n, err := d.store.Rekey(ctx, d.safe.Fingerprint(), draft.Fingerprint(), func(locked []byte) ([]byte, error) {
		secret, err := d.safe.Unlock(locked)
		if err != nil {
			return nil, err
		}
		return draft.Lock(secret), nil
	})
	if err != nil {
		return 0, err
	}
	return n, d.safe.Become(draft)
}

// ErrSignIn is what a missing, unknown or expired token gives.
var ErrSignIn = errors.New("sign in with a token: send it as 'Authorization: Bearer …', or open /sign-in in the console")

// Wanted is a token that is asked for.
type Wanted struct {
	Name string        // of the account, made if new
	Role string        // that the token gives; at most its account's
	For  string        // what it is for
	Ends time.Duration // after which it no longer signs in; 0: never

	Datasets record.Strings // that it is for; none: all of its account's
}

// longestToken is how long a token may sign in.
const longestToken = 5 * 366 * 24 * time.Hour

// Make gives a fresh token of an account, which is made with the role if it is new. One
// that is there keeps its role: the token may say less, and not more. It is shown once;
// only its hash is stored.
func (d *Desk) Make(ctx context.Context, w Wanted) (string, error) {
	switch {
	case strings.TrimSpace(w.Name) == "":
		return "", record.Invalid{Field: "name", Given: w.Name, Allowed: "a name that people know the account by"}
	case rank[w.Role] == 0:
		return "", record.Invalid{Field: "role", Given: w.Role, Allowed: "one of " + strings.Join(Roles, ", ")}
	case w.Ends < 0 || w.Ends > longestToken:
		return "", record.Invalid{Field: "expires", Given: w.Ends.String(), Allowed: "up to five years, or never"}
	}
	if err := record.CheckName("name", w.Name); err != nil {
		return "", err
	}
	datasets, err := CheckPatterns(w.Datasets)
	if err != nil {
		return "", err
	}
	account, err := d.store.AddAccount(ctx, w.Name, w.Role)
	if err != nil {
		return "", err
	}
	account = capped(account, "", nil)
	if rank[w.Role] > rank[account.Role] {
		return "", record.Conflict{What: fmt.Sprintf("%s is there as %s: a token of it cannot be %s; change the account first (tinbell token role), or make another", w.Name, account.Role, w.Role)}
	}
	token := "tb_" + rand.Text()
	var ends *time.Time
	if w.Ends > 0 {
		at := d.now().Add(w.Ends).UTC()
		ends = &at
	}
	return token, d.store.AddToken(ctx, account.ID, w.For, w.Role, datasets, ends, hash(token))
}

// MakeOwn gives somebody a token of the own account, which says no more than who asks may:
// in role, and in place.
func (d *Desk) MakeOwn(ctx context.Context, who record.Account, w Wanted) (string, error) {
	w.Name = who.Name
	if w.Role == "" {
		w.Role = who.Role
	}
	if rank[w.Role] > rank[who.Role] {
		return "", Forbidden{Role: who.Role, Needed: w.Role}
	}
	if len(w.Datasets) == 0 {
		w.Datasets = who.Within
	}
	for _, p := range w.Datasets {
		if len(who.Within) > 0 && !slices.Contains(who.Within, p) {
			return "", record.Invalid{Field: "datasets", Given: p, Allowed: "of " + strings.Join(who.Within, ", ") +
				", which the token that asks is for"}
		}
	}
	return d.Make(ctx, w)
}

// First makes the first administrator's token, or gives "" if there is one.
func (d *Desk) First(ctx context.Context) (string, error) {
	n, err := d.store.CountAdmins(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	return d.Make(ctx, Wanted{Name: "administrator", Role: Admin, For: "first token"})
}

// Whose gives the account of a token.
func (d *Desk) Whose(ctx context.Context, token string) (Who, error) {
	if token == "" {
		return Who{}, ErrSignIn
	}
	found, err := d.store.TokenBy(ctx, hash(token), d.now())
	if errors.As(err, new(record.NotFound)) {
		return Who{}, ErrSignIn
	}
	return limited(found.Account, found.Says, found.Within), err
}

func hash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}
