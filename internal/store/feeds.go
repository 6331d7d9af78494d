package store

import (
	"context"
	"time"

	"tinbell/internal/record"
)

// SetFeed adds a calendar's feed or replaces it.
func (s *Store) SetFeed(ctx context.Context, v record.Feed) error {
	return s.exec(ctx, "calendar feed", `
		insert into calendar_feed (calendar, host, address, dataset, effect, every_seconds, etag, fetched_at, next_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (calendar) do update set host = excluded.host, address = excluded.address, dataset = excluded.dataset, effect = excluded.effect,
			every_seconds = excluded.every_seconds, etag = excluded.etag, fetched_at = excluded.fetched_at,
			next_at = excluded.next_at, failing_since = null, message = ''`,
		v.Calendar, v.Host, v.Address, v.Dataset, v.Effect, v.EverySeconds, v.ETag, v.FetchedAt, v.NextAt)
}

// Feeds gives all feeds, by calendar.
func (s *Store) Feeds(ctx context.Context) ([]record.Feed, error) {
	return many[record.Feed](ctx, s, "calendar feeds", `select * from calendar_feed order by calendar`)
}

// Feed gives a calendar's feed.
func (s *Store) Feed(ctx context.Context, calendar string) (record.Feed, error) {
	return one[record.Feed](ctx, s, "feed of calendar", calendar, `select * from calendar_feed where calendar = $1`, calendar)
}

// Fetched keeps what became of fetching a feed: why not, or empty.
func (s *Store) Fetched(ctx context.Context, v record.Feed, why string, now, next time.Time) error {
	return s.exec(ctx, "calendar feed", `
		update calendar_feed set etag = $2, message = $3, next_at = $5, fetched_at = case when $3 = '' then $4 else fetched_at end,
			failing_since = case when $3 = '' then null else coalesce(failing_since, $4::timestamptz) end where calendar = $1`,
		v.Calendar, v.ETag, why, now, next)
}

// DropFeed ends a feed; its calendar stays as it was fetched last.
func (s *Store) DropFeed(ctx context.Context, calendar string) error {
	n, err := s.affect(ctx, "calendar feed", `delete from calendar_feed where calendar = $1`, calendar)
	if err == nil && n == 0 {
		err = record.NotFound{Kind: "feed of calendar", Name: calendar}
	}
	return err
}
