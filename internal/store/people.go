package store

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// AddAccount stores an account, or gives the one with that name as it is.
func (s *Store) AddAccount(ctx context.Context, name, role string) (record.Account, error) {
	return one[record.Account](ctx, s, "account", name, `
		insert into account (name, role) values ($1, $2)
		on conflict (name) do update set role = account.role returning id, name, role`, name, role)
}

// SetRole changes an account's role. There must be an administrator left who can sign in.
func (s *Store) SetRole(ctx context.Context, name, role string) (a record.Account, err error) {
	return a, s.InTx(ctx, func(tx pgx.Tx) error {
		in := s.In(tx)
		if _, err := tx.Exec(ctx, `lock table token in share row exclusive mode`); err != nil {
			return fmt.Errorf("change role: %w", err)
		}
		if a, err = one[record.Account](ctx, in, "account", name, `update account set role = $2 where name = $1 returning id, name, role`, name, role); err != nil {
			return err
		}
		left, err := in.CountAdmins(ctx)
		if err == nil && left == 0 {
			err = record.Conflict{What: name + " is the last administrator who can sign in: make another first"}
		}
		return err
	})
}

// AddToken stores a token's hash.
func (s *Store) AddToken(ctx context.Context, account int64, name, role string, ends *time.Time, hash []byte) error {
	return s.exec(ctx, "token", `insert into token (account_id, name, role, expires_at, hash) values ($1, $2, $3, $4, $5)`, account, name, role, ends, hash)
}

// AccountByToken gives whose token has the hash, and the role that the token says; of one
// that has ended, nobody's.
func (s *Store) AccountByToken(ctx context.Context, hash []byte, now time.Time) (record.Account, string, error) {
	type found struct {
		record.Account
		Token int64  `db:"token"`
		Says  string `db:"says"`
		Stale bool   `db:"stale"`
	}
	v, err := one[found](ctx, s, "token", "given", `
		select a.id, a.name, a.role, t.id as token, coalesce(t.role, '') as says, coalesce(t.used_at < $2::timestamptz - interval '5 minutes', true) as stale
		from account a join token t on t.account_id = a.id where t.hash = $1 and (t.expires_at is null or t.expires_at > $2)`, hash, now)
	if err == nil && v.Stale {
		err = s.exec(ctx, "token", `update token set used_at = $2 where id = $1`, v.Token, now)
	}
	return v.Account, v.Says, err
}

// Key gives the fingerprint of the key with which secrets are kept: the one given, if there
// is none yet.
func (s *Store) Key(ctx context.Context, fingerprint []byte) ([]byte, error) {
	return one[[]byte](ctx, s, "key", "", `
		with first as (insert into secret_key (fingerprint) values ($1) on conflict do nothing returning fingerprint)
		select fingerprint from first union all select fingerprint from secret_key limit 1`, fingerprint)
}

// CountAdmins tells whether anybody can sign in as administrator yet.
func (s *Store) CountAdmins(ctx context.Context) (int, error) {
	return one[int](ctx, s, "administrators", "", `
		select count(*) from account a join token t on t.account_id = a.id where a.role = 'admin' and coalesce(t.role, 'admin') = 'admin' and (t.expires_at is null or t.expires_at > now())`)
}

// Tokens gives the tokens there are, newest first; what they say is not kept.
func (s *Store) Tokens(ctx context.Context) ([]record.Token, error) {
	return many[record.Token](ctx, s, "tokens", `
		select t.id, t.name as what, a.name as account, coalesce(t.role, a.role) as role, t.created_at, t.expires_at, t.used_at from token t join account a on a.id = t.account_id order by t.id desc`)
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

// secrets are the columns that hold what is encrypted.
var secrets = map[string][]string{"source": {"login"}, "channel": {"secret", "old_secret", "headers", "address"}, "calendar_feed": {"address"}}

// Rekey writes all secrets anew, as recode gives them, and keeps the fingerprint of the key
// that they have then; all or none.
func (s *Store) Rekey(ctx context.Context, before, after []byte, recode func([]byte) ([]byte, error)) (n int, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		n = 0
		var kept []byte
		if err := tx.QueryRow(ctx, `select fingerprint from secret_key for update`).Scan(&kept); err != nil {
			return fmt.Errorf("change the key: %w", err)
		}
		if !bytes.Equal(kept, before) {
			return record.Conflict{What: "another process has changed the key since: start this one again with the file it wrote"}
		}
		for _, table := range slices.Sorted(maps.Keys(secrets)) {
			if _, err := tx.Exec(ctx, `lock table `+table+` in share row exclusive mode`); err != nil {
				return fmt.Errorf("change the key: %w", err)
			}
			for _, column := range secrets[table] {
				m, err := recodeColumn(ctx, tx, table, column, recode)
				if err != nil {
					return fmt.Errorf("change the key: %s of %s: %w", column, table, err)
				}
				n += m
			}
		}
		if _, err := tx.Exec(ctx, `update secret_key set fingerprint = $1`, after); err != nil {
			return fmt.Errorf("change the key: %w", err)
		}
		return nil
	})
	return n, err
}

func recodeColumn(ctx context.Context, tx pgx.Tx, table, column string, recode func([]byte) ([]byte, error)) (int, error) {
	rows, err := tx.Query(ctx, `select ctid::text, `+column+` from `+table+` where `+column+` is not null and length(`+column+`) > 0`)
	if err != nil {
		return 0, err
	}
	type row struct {
		At     string
		Locked []byte
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[row])
	if err != nil {
		return 0, err
	}
	for _, v := range list {
		again, err := recode(v.Locked)
		if err != nil {
			return 0, err
		}
		if _, err := tx.Exec(ctx, `update `+table+` set `+column+` = $2 where ctid = $1::tid`, v.At, again); err != nil {
			return 0, err
		}
	}
	return len(list), nil
}
