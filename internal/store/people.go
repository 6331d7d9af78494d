package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// grantsOf is what an account a may: its own role, and what its teams give.
const grantsOf = `(select jsonb_build_array(jsonb_build_object('role', a.role, 'datasets', a.datasets)) || coalesce(jsonb_agg(jsonb_build_object('role', t.role, 'datasets', t.datasets, 'team', t.name) order by t.name), '[]')
	from team_member m join team t on t.id = m.team_id where m.account_id = a.id)`

// AddAccount stores an account, or gives the one with that name as it is.
func (s *Store) AddAccount(ctx context.Context, name, role string) (record.Account, error) {
	return one[record.Account](ctx, s, "account", name, `
		insert into account as a (name, role) values ($1, $2)
		on conflict (name) do update set role = a.role returning id, name, role, `+grantsOf+` as grants`, name, role)
}

// anAdminLeft does something to people of which an administrator must be left who can sign
// in; what is the refusal if none is.
func (s *Store) anAdminLeft(ctx context.Context, what string, do func(tx pgx.Tx) error) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table token, account in share row exclusive mode`); err != nil {
			return fmt.Errorf("change people: %w", err)
		}
		in := s.In(tx)
		before, err := in.CountAdmins(ctx)
		if err != nil {
			return err
		}
		if err := do(tx); err != nil {
			return err
		}
		left, err := in.CountAdmins(ctx)
		if err == nil && left == 0 && before > 0 {
			err = record.Conflict{What: what}
		}
		return err
	})
}

// SetAccount changes what an account may do itself; of datasets nil leaves what they are.
// There must be an administrator left who can sign in.
func (s *Store) SetAccount(ctx context.Context, name, role string, datasets record.Strings) error {
	return s.anAdminLeft(ctx, name+" is the last administrator who can sign in: make another first", func(tx pgx.Tx) error {
		n, err := s.In(tx).affect(ctx, "account",
			`update account set role = $2, datasets = coalesce($3, datasets) where name = $1`, name, role, datasetsOrNull(datasets))
		if err == nil && n == 0 {
			err = record.NotFound{Kind: "account", Name: name}
		}
		return err
	})
}

func datasetsOrNull(datasets record.Strings) any {
	if datasets == nil {
		return nil
	}
	return datasets
}

// RemoveAccount removes an account with its tokens and sessions. There must be an
// administrator left who can sign in.
func (s *Store) RemoveAccount(ctx context.Context, name string) error {
	return s.anAdminLeft(ctx, name+" is the last administrator who can sign in: make another first", func(tx pgx.Tx) error {
		n, err := s.In(tx).affect(ctx, "account", `delete from account where name = $1`, name)
		if err == nil && n == 0 {
			err = record.NotFound{Kind: "account", Name: name}
		}
		return err
	})
}

// People gives the accounts there are, by name.
func (s *Store) People(ctx context.Context, stays Stays, now time.Time) ([]record.Person, error) {
	return many[record.Person](ctx, s, "accounts", `
		select a.id, a.name, a.role, a.datasets, a.password <> '' as password, a.subject is not null as provider, a.created_at,
			(select coalesce(jsonb_agg(t.name order by t.name), '[]') from team_member m join team t on t.id = m.team_id
			where m.account_id = a.id) as teams,
			(select count(*) from token where account_id = a.id) as tokens,
			(select count(*) from session where account_id = a.id and used_at > $1 and created_at > $2) as sessions,
			greatest((select max(used_at) from token where account_id = a.id), (select max(used_at) from session where account_id = a.id)) as used_at
		from account a order by a.name`, now.Add(-stays.Idle), now.Add(-stays.Longest))
}

// Account gives an account by its name.
func (s *Store) Account(ctx context.Context, name string) (record.Account, error) {
	return one[record.Account](ctx, s, "account", name, `select a.id, a.name, a.role, `+grantsOf+
		` as grants from account a where name = $1`, name)
}

// Provided gives the account that somebody is for a provider, made if it is new, in the
// teams that the provider's groups give. An account of that name which is not of the
// provider is left alone.
func (s *Store) Provided(ctx context.Context, subject, name, role string, teams []string) (a record.Account, err error) {
	return a, s.InTx(ctx, func(tx pgx.Tx) error {
		in := s.In(tx)
		found, err := many[record.Account](ctx, in, "account", `
			insert into account (name, role, subject) values ($1, $2, $3)
			on conflict (subject) do update set role = $2 returning id, name, role`, name, role, subject)
		if err != nil && errors.As(clash("account", err), new(record.Conflict)) {
			return record.Conflict{What: "an account called " + name +
				" is here already and is not the provider's: an administrator can remove it or have it sign in otherwise"}
		}
		if err != nil {
			return err
		}
		id := found[0].ID
		if _, err := tx.Exec(ctx, `delete from team_member where account_id = $1 and given`, id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into team_member (team_id, account_id, given) select id, $1, true from team
			where name = any($2) on conflict do nothing`, id, teams); err != nil {
			return err
		}
		a, err = in.Account(ctx, found[0].Name)
		return err
	})
}

// Teams gives the teams there are, by name.
func (s *Store) Teams(ctx context.Context) ([]record.Team, error) {
	return many[record.Team](ctx, s, "teams", `
		select t.id, t.name, t.role, t.datasets,
			(select coalesce(jsonb_agg(a.name order by a.name), '[]') from team_member m
			join account a on a.id = m.account_id where m.team_id = t.id) as members
		from team t order by t.name`)
}

// PutTeam keeps a team as it is given, with its members.
func (s *Store) PutTeam(ctx context.Context, t record.Team) error {
	return s.anAdminLeft(ctx, "nobody would be an administrator who can sign in: make another first", func(tx pgx.Tx) error {
		in := s.In(tx)
		id, err := one[int64](ctx, in, "team", t.Name,
			`insert into team (name, role, datasets) values ($1, $2, $3)
				on conflict (name) do update set role = $2, datasets = $3 returning id`, t.Name, t.Role, t.Datasets)
		if err != nil {
			return err
		}
		known, err := many[string](ctx, in, "accounts", `select name from account where name = any($1)`, []string(t.Members))
		if err != nil {
			return err
		}
		for _, name := range t.Members {
			if !slices.Contains(known, name) {
				return record.NotFound{Kind: "account", Name: name}
			}
		}
		if _, err := tx.Exec(ctx, `delete from team_member m using account a
			where m.team_id = $1 and a.id = m.account_id and a.name <> all($2)`, id, []string(t.Members)); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into team_member (team_id, account_id) select $1, id from account where name = any($2)
			on conflict do nothing`, id, []string(t.Members))
		return err
	})
}

// RemoveTeam removes a team; its members keep what they have otherwise.
func (s *Store) RemoveTeam(ctx context.Context, name string) error {
	return s.anAdminLeft(ctx, "nobody would be an administrator who can sign in: make another first", func(tx pgx.Tx) error {
		n, err := s.In(tx).affect(ctx, "team", `delete from team where name = $1`, name)
		if err == nil && n == 0 {
			err = record.NotFound{Kind: "team", Name: name}
		}
		return err
	})
}

// AddToken stores a token's hash.
func (s *Store) AddToken(ctx context.Context, account int64, name, role string, datasets record.Strings, ends *time.Time,
	hash []byte) error {
	return s.exec(ctx, "token", `insert into token (account_id, name, role, datasets, expires_at, hash)
		values ($1, $2, $3, $4, $5, $6)`, account, name, role, datasets, ends, hash)
}

// TokenState is a token as it is found by its hash: whose it is, and what it says.
type TokenState struct {
	record.Account
	Token  int64          `db:"token"`
	Says   string         `db:"says"`
	Stale  bool           `db:"stale"`
	Within record.Strings `db:"within"`
}

// TokenBy gives the token that has the hash, if it has not ended.
func (s *Store) TokenBy(ctx context.Context, hash []byte, now time.Time) (TokenState, error) {
	v, err := one[TokenState](ctx, s, "token", "given", `
		select a.id, a.name, a.role, `+grantsOf+
		` as grants, t.id as token, coalesce(t.role, '') as says, t.datasets as within, coalesce(t.used_at < $2::timestamptz - interval '5 minutes', true) as stale
		from account a join token t on t.account_id = a.id where t.hash = $1 and (t.expires_at is null or t.expires_at > $2)`, hash, now)
	if err == nil && v.Stale {
		err = s.exec(ctx, "token", `update token set used_at = $2 where id = $1`, v.Token, now)
	}
	return v, err
}

// HasKey tells whether a key for secrets was ever used, and is needed.
func (s *Store) HasKey(ctx context.Context) (bool, error) {
	return one[bool](ctx, s, "key", "", `select exists (select from secret_key)`)
}

// Key gives the fingerprint of the key with which secrets are kept: the one given, if there
// is none yet.
func (s *Store) Key(ctx context.Context, fingerprint []byte) ([]byte, error) {
	return one[[]byte](ctx, s, "key", "", `
		with first as (insert into secret_key (fingerprint) values ($1) on conflict do nothing returning fingerprint)
		select fingerprint from first union all select fingerprint from secret_key limit 1`, fingerprint)
}

// CountAdmins tells how many administrators of everything can sign in by a token or a
// password; who needs a provider does not count.
func (s *Store) CountAdmins(ctx context.Context) (int, error) {
	return one[int](ctx, s, "administrators", "", `
		select count(*) from account a
		where (a.role = 'admin' and a.datasets = '[]'
			or exists (select from team_member m join team t on t.id = m.team_id
			where m.account_id = a.id and t.role = 'admin' and t.datasets = '[]'))
			and (a.password <> '' or exists (select from token t
			where t.account_id = a.id and coalesce(t.role, 'admin') = 'admin' and t.datasets = '[]'
			and (t.expires_at is null or t.expires_at > now())))`)
}

// Tokens gives the tokens there are, newest first; what they say is not kept.
func (s *Store) Tokens(ctx context.Context) ([]record.Token, error) {
	return many[record.Token](ctx, s, "tokens", `
		select t.id, t.name as what, a.name as account, coalesce(t.role, a.role) as role, t.datasets, t.created_at,
			t.expires_at, t.used_at from token t join account a on a.id = t.account_id order by t.id desc`)
}

// TokensOf gives the tokens of an account, newest first.
func (s *Store) TokensOf(ctx context.Context, account int64) ([]record.Token, error) {
	return many[record.Token](ctx, s, "tokens", `
		select t.id, t.name as what, a.name as account, coalesce(t.role, a.role) as role, t.datasets, t.created_at, t.expires_at, t.used_at
		from token t join account a on a.id = t.account_id where a.id = $1 order by t.id desc`, account)
}

// RevokeToken takes a token back, of an account or (0) of any. The last way in of an administrator stays: nobody could
// make another.
func (s *Store) RevokeToken(ctx context.Context, id, account int64) error {
	return s.anAdminLeft(ctx, fmt.Sprintf("token %d is the last of an administrator: make another first", id), func(tx pgx.Tx) error {
		n, err := s.In(tx).affect(ctx, "token", `delete from token where id = $1 and ($2 = 0 or account_id = $2)`, id, account)
		if err == nil && n == 0 {
			err = record.NotFound{Kind: "token", Name: fmt.Sprint(id)}
		}
		return err
	})
}

// secrets are the columns that hold what is encrypted.
var secrets = map[string][]string{"source": {"login"}, "channel": {"secret", "old_secret", "headers", "address"},
	"calendar_feed": {"address"}}

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
