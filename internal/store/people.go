package store

import (
	"context"

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
