package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// AddAccount stores an account, or gives the id of the one with that name.
func (s *Store) AddAccount(ctx context.Context, name, role string) (int64, error) {
	return one[int64](ctx, s, "account", name, `
		insert into account (name, role) values ($1, $2)
		on conflict (name) do update set role = account.role returning id`, name, role)
}

// AddToken stores a token's hash.
func (s *Store) AddToken(ctx context.Context, account int64, name string, hash []byte) error {
	return s.exec(ctx, "token", `insert into token (account_id, name, hash) values ($1, $2, $3)`, account, name, hash)
}

// AccountByToken gives whose token has the hash.
func (s *Store) AccountByToken(ctx context.Context, hash []byte) (record.Account, error) {
	return one[record.Account](ctx, s, "token", "given", `
		select a.id, a.name, a.role from account a join token t on t.account_id = a.id where t.hash = $1`, hash)
}

// CountAdmins tells whether anybody can sign in as administrator yet.
func (s *Store) CountAdmins(ctx context.Context) (int, error) {
	return one[int](ctx, s, "administrators", "", `
		select count(*) from account a join token t on t.account_id = a.id where a.role = 'admin'`)
}

// Tokens gives the tokens there are, newest first; what they say is not kept.
func (s *Store) Tokens(ctx context.Context) ([]record.Token, error) {
	return many[record.Token](ctx, s, "tokens", `
		select t.id, t.name as what, a.name as account, a.role, t.created_at from token t join account a on a.id = t.account_id order by t.id desc`)
}

// RevokeToken takes a token back. The last one of an administrator stays: nobody could
// make another.
func (s *Store) RevokeToken(ctx context.Context, id int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table token in share row exclusive mode`); err != nil {
			return fmt.Errorf("revoke token: %w", err)
		}
		result, err := tx.Exec(ctx, `delete from token where id = $1`, id)
		if err != nil {
			return fmt.Errorf("revoke token: %w", err)
		}
		if result.RowsAffected() == 0 {
			return record.NotFound{Kind: "token", Name: fmt.Sprint(id)}
		}
		left, err := s.In(tx).CountAdmins(ctx)
		if err == nil && left == 0 {
			err = record.Conflict{What: fmt.Sprintf("token %d is the last of an administrator: make another first", id)}
		}
		return err
	})
}
