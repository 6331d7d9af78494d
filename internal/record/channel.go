package record

import (
	"database/sql/driver"
	"encoding/json"
	"time"

	"tinbell/core/detect"
)

// ChannelKind is how a channel is reached.
type ChannelKind string

const (
	ChannelEmail   ChannelKind = "email"
	ChannelWebhook ChannelKind = "webhook"
)

// Channel is where messages go.
type Channel struct {
	ID           int64           `db:"id" json:"id"`
	Name         string          `db:"name" json:"name"`
	Kind         ChannelKind     `db:"kind" json:"kind" enum:"email,webhook"`
	Settings     ChannelSettings `db:"settings" json:"settings"`
	Secret       []byte          `db:"secret" json:"-"`
	OldSecret    []byte          `db:"old_secret" json:"-"`
	Headers      []byte          `db:"headers" json:"-"`
	Address      []byte          `db:"address" json:"-"`
	HeaderNames  Strings         `db:"header_names" json:"header_names" doc:"webhook: headers that are sent along; what they say is kept encrypted"`
	OldUntil     *time.Time      `db:"old_until" json:"old_until" doc:"until when webhooks are signed with the secret before as well"`
	HourlyLimit  int             `db:"hourly_limit" json:"hourly_limit" doc:"messages an hour; what is beyond it comes as one summary"`
	Paused       bool            `db:"paused" json:"paused"`
	Message      string          `db:"message" json:"message" doc:"why the last delivery failed; empty if it did not"`
	FailingSince *time.Time      `db:"failing_since" json:"failing_since"`
	CreatedAt    time.Time       `db:"created_at" json:"created_at"`
}

// ChannelSettings say how a channel is reached: by e-mail or by webhook.
type ChannelSettings struct {
	To       Strings `json:"to,omitempty" doc:"e-mail: addresses"`
	From     string  `json:"from,omitempty" doc:"e-mail: address of the sender"`
	Host     string  `json:"host,omitempty" doc:"e-mail: SMTP server"`
	Port     int     `json:"port,omitempty" doc:"e-mail: 587, or 465 with tls, if left out"`
	Security string  `json:"security,omitempty" enum:"starttls,tls,none," doc:"e-mail: starttls if left out"`
	User     string  `json:"user,omitempty" doc:"e-mail: login"`

	URL      string `json:"url,omitempty" doc:"webhook: address; where it holds a login, a query or a key that is kept encrypted, and … is shown in its place"`
	Form     string `json:"form,omitempty" enum:"cloudevent,chat,ticket,own," doc:"webhook: what is sent; cloudevent if left out"`
	Template string `json:"template,omitempty" doc:"webhook of the form own: the body, with {{.Sentence}} and the like in it"`
	Type     string `json:"type,omitempty" doc:"webhook of the form own: its content type, application/json if left out"`
}

func (s ChannelSettings) Value() (driver.Value, error) {
	b, err := json.Marshal(s)
	return string(b), err
}

func (s *ChannelSettings) Scan(v any) error { return scanJSON(v, s) }

// Route says which groups a channel hears of, and when.
type Route struct {
	ID              int64           `db:"id" json:"id"`
	Name            string          `db:"name" json:"name"`
	ChannelID       int64           `db:"channel_id" json:"-"`
	Channel         string          `db:"channel" json:"channel"`
	Datasets        Strings         `db:"datasets" json:"datasets" doc:"patterns such as ops.*; none: all"`
	Owners          Strings         `db:"owners" json:"owners" doc:"none: all"`
	Tags            Strings         `db:"tags" json:"tags" doc:"one of them is enough; none: all"`
	Severity        detect.Severity `db:"severity" json:"severity" enum:"warning,critical" doc:"the least that is told"`
	Hours           Strings         `db:"hours" json:"hours" doc:"when it tells, as 'mon-fri 08:00-18:00'; none: always. What comes up outside is told when they begin, if it still lasts"`
	Zone            string          `db:"zone" json:"zone" doc:"of the hours"`
	WaitSeconds     int64           `db:"wait_seconds" json:"wait_seconds" doc:"how long other alerts of the same cause are waited for"`
	RemindSeconds   int64           `db:"remind_seconds" json:"remind_seconds" doc:"reminders, while nobody looks after it; 0: none"`
	EscalateSeconds int64           `db:"escalate_seconds" json:"escalate_seconds" doc:"when escalate_to is told, if nobody looks after it; 0: never"`
	EscalateToID    *int64          `db:"escalate_to_id" json:"-"`
	EscalateTo      string          `db:"escalate_to" json:"escalate_to" doc:"another channel"`
	Recovery        bool            `db:"recovery" json:"recovery" doc:"tell when it is over"`
	CreatedAt       time.Time       `db:"created_at" json:"created_at"`
}
