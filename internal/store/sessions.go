package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// NewSession is a browser that signs in.
type NewSession struct {
	Account       int64
	Token         int64 // signed in with; 0: none
	Hash          []byte
	By            string
	Origin, Agent string
}

// Stays is how long a session is good: unused, and at all.
type Stays struct{ Idle, Longest time.Duration }

// AddSession stores a session, and drops the account's that have ended.
func (s *Store) AddSession(ctx context.Context, n NewSession, stays Stays, now time.Time) error {
	err := s.exec(ctx, "sessions", `delete from session where account_id = $1 and (used_at < $2 or created_at < $3)`, n.Account,
		now.Add(-stays.Idle), now.Add(-stays.Longest))
	if err != nil {
		return err
	}
	return s.exec(ctx, "session", `insert into session (account_id, token_id, hash, by, origin, agent, turned_at,
		created_at, used_at) values ($1, nullif($2, 0), $3, $4, $5, $6, $7, $7, $7)`,
		n.Account, n.Token, n.Hash, n.By, n.Origin, n.Agent, now)
}

// SessionState is a session as it is found by one of its secrets.
type SessionState struct {
	record.Account
	Session  int64          `db:"session"`
	Says     string         `db:"says"`
	Newest   bool           `db:"newest"` // found by its newest secret
	Seen     bool           `db:"seen"`   // whether that has come before
	TurnedAt time.Time      `db:"turned_at"`
	UsedAt   time.Time      `db:"used_at"`
	Within   record.Strings `db:"within"`
}

// SessionBy gives the session that has a secret with the hash, if it has not ended.
func (s *Store) SessionBy(ctx context.Context, hash []byte, stays Stays, now time.Time) (SessionState, error) {
	return one[SessionState](ctx, s, "session", "given", `
		select a.id, a.name, a.role, `+grantsOf+
		` as grants, n.id as session, coalesce(t.role, '') as says, coalesce(t.datasets, '[]') as within,
			n.hash = $1 as newest, n.seen, n.turned_at, n.used_at
		from session n join account a on a.id = n.account_id left join token t on t.id = n.token_id
		where (n.hash = $1 or n.before = $1) and n.used_at > $2 and n.created_at > $3 and (t.expires_at is null or t.expires_at > $4)`,
		hash, now.Add(-stays.Idle), now.Add(-stays.Longest), now)
}

// TurnSession gives a session another secret, if it has still the one that is meant; of
// several that would, one does.
func (s *Store) TurnSession(ctx context.Context, id int64, newest bool, from, to []byte, now time.Time) (bool, error) {
	query := `update session set before = hash, hash = $3, seen = false, turned_at = $4, used_at = $4 where id = $1 and hash = $2`
	if !newest { // the newest never came: it takes its place
		query = `update session set hash = $3, turned_at = $4, used_at = $4 where id = $1 and before = $2 and not seen`
	}
	n, err := s.affect(ctx, "session", query, id, from, to, now)
	return n == 1, err
}

// SeeSession notes that a session is in use, by its newest secret.
func (s *Store) SeeSession(ctx context.Context, id int64, now time.Time) error {
	return s.exec(ctx, "session", `update session set seen = true, used_at = $2 where id = $1`, id, now)
}

// Sessions gives the browsers that are signed in, of an account or (0) of all.
func (s *Store) Sessions(ctx context.Context, account, here int64, stays Stays, now time.Time) ([]record.Session, error) {
	return many[record.Session](ctx, s, "sessions", `
		select n.id, a.name as account, n.by, n.origin, n.agent, n.created_at, n.used_at, n.id = $2 as here from session n
		join account a on a.id = n.account_id
		where ($1 = 0 or n.account_id = $1) and n.used_at > $3 and n.created_at > $4 order by n.used_at desc, n.id desc`, account,
		here, now.Add(-stays.Idle), now.Add(-stays.Longest))
}

// EndSessions signs browsers out: one, or (0) all, of an account or (0) of any.
func (s *Store) EndSessions(ctx context.Context, id, account int64) (int64, error) {
	return s.affect(ctx, "sessions", `delete from session where ($1 = 0 or id = $1) and ($2 = 0 or account_id = $2)
		and ($1 <> 0 or $2 <> 0)`, id, account)
}

// Tries is what is known of tries to sign in under a name from an address.
type Tries struct {
	Failed   int        `db:"failed"` // under this name from here, since the last that went well
	FailedAt *time.Time `db:"failed_at"`
	WentAt   *time.Time `db:"went_at"`
	Here     int        `db:"here"`  // from here in the last hour, under any name
	Named    int        `db:"named"` // under this name in the last hour, from anywhere
}

// TriesOf gives what is known of a name and an address.
func (s *Store) TriesOf(ctx context.Context, name, origin string, now time.Time) (Tries, error) {
	return one[Tries](ctx, s, "tries", name, `
		select coalesce(max(failed) filter (where name = $1 and origin = $2), 0) as failed,
			max(failed_at) filter (where name = $1 and origin = $2) as failed_at,
			max(went_at) filter (where name = $1 and origin = $2) as went_at,
			coalesce(sum(failed) filter (where origin = $2 and failed_at > $3), 0) as here,
			coalesce(sum(failed) filter (where name = $1 and failed_at > $3), 0) as named
		from attempt where name = $1 or origin = $2`, name, origin, now.Add(-time.Hour))
}

// Tried keeps how a try ended, and forgets what is of no use any more.
func (s *Store) Tried(ctx context.Context, name, origin string, well bool, now time.Time) error {
	query := `insert into attempt (name, origin, failed, failed_at) values ($1, $2, 1, $3)
		on conflict (name, origin) do update set failed = attempt.failed + 1, failed_at = $3`
	if well {
		query = `insert into attempt (name, origin, went_at) values ($1, $2, $3)
			on conflict (name, origin) do update set failed = 0, failed_at = null, went_at = $3`
	}
	return s.exec(ctx, "attempt", query, name, origin, now)
}

// ForgetTries drops tries to sign in that no limit counts any more, and sessions that ended.
func (s *Store) ForgetTries(ctx context.Context, stays Stays, now time.Time) error {
	err := s.exec(ctx, "attempts", `delete from attempt where coalesce(failed_at, '-infinity') < $1
		and coalesce(went_at, '-infinity') < $2`, now.AddDate(0, 0, -1), now.AddDate(0, 0, -90))
	return errors.Join(err, s.exec(ctx, "sessions", `delete from session where used_at < $1 or created_at < $2`,
		now.Add(-stays.Idle), now.Add(-stays.Longest)))
}

// Password gives an account by its name, and its password as it is kept; empty where it has
// none.
func (s *Store) Password(ctx context.Context, name string) (record.Account, string, error) {
	type found struct {
		record.Account
		Password string `db:"password"`
	}
	v, err := one[found](ctx, s, "account", name, `select a.id, a.name, a.role, `+grantsOf+
		` as grants, a.password from account a where name = $1`, name)
	return v.Account, v.Password, err
}

// SetPassword keeps an account's password, and signs out all its browsers but one (0: all).
func (s *Store) SetPassword(ctx context.Context, account int64, kept string, but int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update account set password = $2 where id = $1`, account, kept); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from session where account_id = $1 and id <> $2`, account, but)
		return err
	})
}
