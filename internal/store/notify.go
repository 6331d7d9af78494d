package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

const noticeChannel = "tinbell_changes"

// Topic is what of the records has changed.
type Topic string

const (
	TopicAlerts    Topic = "alerts"
	TopicDrift     Topic = "drift"
	TopicIncidents Topic = "incidents"
	TopicMessages  Topic = "messages"
	TopicRuns      Topic = "runs"
	TopicSLAs      Topic = "slas"
	TopicTell      Topic = "tell" // there are alerts to group or messages to send; not for people
)

// Topics are those that people can listen to.
var Topics = []Topic{TopicAlerts, TopicDrift, TopicIncidents, TopicMessages, TopicRuns, TopicSLAs}

// Notify tells all processes, when the transaction commits, that something of a
// topic changed.
func Notify(ctx context.Context, tx pgx.Tx, topic Topic) error {
	if _, err := tx.Exec(ctx, `select pg_notify($1, $2)`, noticeChannel, string(topic)); err != nil {
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
