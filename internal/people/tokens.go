// Package people knows who may do what: accounts, tokens and roles.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Roles, each allowed what the ones before it are.
const (
	Reader = "reader"
	Editor = "editor"
	Admin  = "admin"
)

var rank = map[string]int{Reader: 1, Editor: 2, Admin: 3}

// Allows tells whether the role includes the needed one.
func Allows(role, needed string) bool { return rank[role] >= rank[needed] }

// Desk signs people in.
type Desk struct{ store *store.Store }

func New(s *store.Store) *Desk { return &Desk{s} }

// ErrSignIn is what a missing or unknown token gives.
var ErrSignIn = errors.New("sign in with a token: send it as 'Authorization: Bearer …', or open /sign-in in the console")

// Make gives an account, made if new, and a fresh token for it. The token is
// shown once; only its hash is stored.
func (d *Desk) Make(ctx context.Context, name, role, what string) (string, error) {
	if strings.TrimSpace(name) == "" {
		return "", record.Invalid{Field: "name", Given: name, Allowed: "a name that people know the account by"}
	}
	if rank[role] == 0 {
		return "", record.Invalid{Field: "role", Given: role, Allowed: "one of reader, editor, admin"}
	}
	id, err := d.store.AddAccount(ctx, name, role)
	if err != nil {
		return "", err
	}
	token := "tb_" + rand.Text()
	return token, d.store.AddToken(ctx, id, what, hash(token))
}

// First makes the first administrator's token, or gives "" if there is one.
func (d *Desk) First(ctx context.Context) (string, error) {
	n, err := d.store.CountAdmins(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	return d.Make(ctx, "administrator", Admin, "first token")
}

// Whose gives the account of a token.
func (d *Desk) Whose(ctx context.Context, token string) (record.Account, error) {
	if token == "" {
		return record.Account{}, ErrSignIn
	}
	account, err := d.store.AccountByToken(ctx, hash(token))
	var missing record.NotFound
	if errors.As(err, &missing) {
		return account, ErrSignIn
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
