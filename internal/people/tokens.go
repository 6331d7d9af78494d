// Package people knows who may do what: accounts, tokens and roles.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Roles, each allowed what the ones before it are.
const (
	Reader    = "reader"    // looks
	Responder = "responder" // labels, takes, snoozes, writes incidents and notes
	Editor    = "editor"    // sets up
	Admin     = "admin"     // people, secrets, sources
)

// Roles are all of them, the least first.
var Roles = []string{Reader, Responder, Editor, Admin}

var rank = map[string]int{Reader: 1, Responder: 2, Editor: 3, Admin: 4}

// Allows tells whether the role includes the needed one.
func Allows(role, needed string) bool { return rank[role] >= rank[needed] }

// Desk signs people in.
type Desk struct {
	store *store.Store
	safe  *Safe
	now   func() time.Time
}

func New(s *store.Store, safe *Safe, now func() time.Time) *Desk { return &Desk{s, safe, now} }

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
	account, err := d.store.AddAccount(ctx, w.Name, w.Role)
	if err != nil {
		return "", err
	}
	if rank[w.Role] > rank[account.Role] {
		return "", record.Conflict{What: fmt.Sprintf("%s is there as %s: a token of it cannot be %s; change the account first (tinbell token role), or make another", w.Name, account.Role, w.Role)}
	}
	token := "tb_" + rand.Text()
	var ends *time.Time
	if w.Ends > 0 {
		at := d.now().Add(w.Ends).UTC()
		ends = &at
	}
	return token, d.store.AddToken(ctx, account.ID, w.For, w.Role, ends, hash(token))
}

// SetRole changes what an account may do, and with it all tokens of it that say more. The
// last administrator stays one.
func (d *Desk) SetRole(ctx context.Context, name, role string) (record.Account, error) {
	if rank[role] == 0 {
		return record.Account{}, record.Invalid{Field: "role", Given: role, Allowed: "one of " + strings.Join(Roles, ", ")}
	}
	return d.store.SetRole(ctx, name, role)
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
func (d *Desk) Whose(ctx context.Context, token string) (record.Account, error) {
	if token == "" {
		return record.Account{}, ErrSignIn
	}
	account, says, err := d.store.AccountByToken(ctx, hash(token), d.now())
	var missing record.NotFound
	if errors.As(err, &missing) {
		return account, ErrSignIn
	}
	if says != "" && rank[says] < rank[account.Role] {
		account.Role = says
	}
	return account, err
}

func hash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// Forbidden says that a role is not enough.
type Forbidden struct{ Role, Needed string }

func (f Forbidden) Error() string {
	return fmt.Sprintf("your role is %s, this needs %s: ask an administrator", f.Role, f.Needed)
}
