package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

const noticeChannel = "tinbell_changes"

// TopicTell says that there are alerts to group or messages to send.
const TopicTell = "tell"

// Notify tells all processes, when the transaction commits, that something of a
// topic changed: alerts, datasets, incidents, tasks, messages, slas.
func Notify(ctx context.Context, tx pgx.Tx, topic string) error {
	if _, err := tx.Exec(ctx, `select pg_notify($1, $2)`, noticeChannel, topic); err != nil {
		return fmt.Errorf("notify: %w", err)
	}
	return nil
}

// Listen calls told with each topic until ctx ends or the connection breaks;
// listening is called once nothing is missed any more.
func (s *Store) Listen(ctx context.Context, listening func(), told func(topic string)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen "+noticeChannel); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "unlisten "+noticeChannel)
	listening()
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		told(n.Payload)
	}
}
