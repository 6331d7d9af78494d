package record

import (
	"database/sql/driver"
	"encoding/json"
	"strings"
	"time"

	"tinbell/core/detect"
)

// Group is alerts told as one, because they share time and origin.
type Group struct {
	ID           int64           `db:"id" json:"id"`
	BeganAt      time.Time       `db:"began_at" json:"began_at" doc:"start of the first deviating period"`
	OpenedAt     time.Time       `db:"opened_at" json:"opened_at" doc:"when its first alert was raised"`
	ClosedAt     *time.Time      `db:"closed_at" json:"closed_at"`
	Severity     detect.Severity `db:"severity" json:"severity" enum:"warning,critical" doc:"the worst of its alerts"`
	Origin       string          `db:"origin" json:"origin" doc:"where it likely began: the name of a dataset, a job or a source"`
	OriginKind   OriginKind      `db:"origin_kind" json:"origin_kind" enum:"dataset,job,source"`
	OriginIn     SegmentValues   `db:"origin_segment" json:"origin_segment" doc:"the segment of it; none: the whole"`
	OriginAlert  *int64          `db:"origin_alert" json:"origin_alert" doc:"none where the origin itself has no alert, but what is made from it"`
	FromHistory  bool            `db:"from_history" json:"from_history"`
	MergedInto   *int64          `db:"merged_into" json:"merged_into" doc:"the group that it turned out to be part of"`
	TakenBy      string          `db:"taken_by" json:"taken_by" doc:"who said that they look after it"`
	TakenAt      *time.Time      `db:"taken_at" json:"taken_at"`
	SnoozedUntil *time.Time      `db:"snoozed_until" json:"snoozed_until" doc:"nothing is told of it until then"`
}

// SegmentValue is a column and its value.
type SegmentValue struct {
	Column string `json:"column" doc:"empty where it has no name"`
	Value  string `json:"value"`
}

// SegmentValues say a segment: a value for each of some columns.
type SegmentValues = List[SegmentValue]

// OriginKind is what a group began at.
type OriginKind string

const (
	OriginDataset OriginKind = "dataset"
	OriginJob     OriginKind = "job"
	OriginSource  OriginKind = "source"
)

// Whence says where a group likely began, as people know it.
func (g Group) Whence() string {
	switch {
	case g.Origin == "":
		return ""
	case g.OriginKind != OriginDataset && g.OriginKind != "":
		return "the " + string(g.OriginKind) + " " + g.Origin
	case len(g.OriginIn) > 0:
		values := make([]string, len(g.OriginIn))
		for i, one := range g.OriginIn {
			values[i] = one.Value
		}
		return strings.Join(values, " / ") + " in " + g.Origin
	}
	return g.Origin
}

// GroupAnswer is what a person said of two groups: whether they are one fault.
type GroupAnswer struct {
	ID      int64     `db:"id" json:"id"`
	At      time.Time `db:"at" json:"at"`
	Author  string    `db:"author" json:"author"`
	Says    string    `db:"says" json:"says" enum:"same,not the same"`
	GroupID int64     `db:"group_id" json:"group_id" doc:"the group that it was said of"`
	OtherID int64     `db:"other_id" json:"other_id" doc:"the other: that became part of it, or that was made of a part of it"`
	Alerts  Numbers   `db:"alerts" json:"alerts" doc:"those that changed their group by it"`
}

// Numbers is a list kept as JSON.
type Numbers = List[int64]

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

// Told is what a message says.
type Told string

const (
	ToldOpened    Told = "opened"
	ToldChanged   Told = "changed" // another origin, graver, or part of another group
	ToldAgain     Told = "again"
	ToldReminder  Told = "reminder"
	ToldEscalated Told = "escalated"
	ToldAsked     Told = "asked" // a person had it told once more
	ToldRecovered Told = "recovered"
	ToldSummary   Told = "summary"
	ToldTest      Told = "test"
)

// MessageState is what became of a message.
type MessageState string

const (
	MessageWaiting MessageState = "waiting"
	MessageSent    MessageState = "sent"
	MessageFailed  MessageState = "failed"
	MessageDropped MessageState = "dropped"
	MessageSummed  MessageState = "summed"
)

// Message is what is to be said to a channel.
type Message struct {
	ID        string       `db:"id" json:"id" doc:"the idempotency key: the same in every attempt"`
	ChannelID int64        `db:"channel_id" json:"-"`
	Channel   string       `db:"channel" json:"channel"`
	RouteID   *int64       `db:"route_id" json:"-"`
	GroupID   *int64       `db:"group_id" json:"group_id"`
	What      Told         `db:"what" json:"what" enum:"opened,changed,again,reminder,asked,escalated,recovered,summary,test"`
	Turn      int          `db:"turn" json:"turn"`
	Why       string       `db:"why" json:"why" doc:"what changed, where that is why it is sent"`
	State     MessageState `db:"state" json:"state" enum:"waiting,sent,failed,dropped,summed"`
	CreatedAt time.Time    `db:"created_at" json:"created_at"`
	DueAt     time.Time    `db:"due_at" json:"due_at"`
	Attempts  int          `db:"attempts" json:"attempts"`
	SentAt    *time.Time   `db:"sent_at" json:"sent_at"`
	Error     string       `db:"error" json:"error" doc:"why the last attempt failed, or why it was not sent"`
	Subject   string       `db:"subject" json:"subject"`
	Body      []byte       `db:"body" json:"-"`
}

// SLA is a promise of at least so much within a window.
type SLA struct {
	ID          int64     `db:"id" json:"id"`
	DatasetID   int64     `db:"dataset_id" json:"-"`
	Dataset     string    `db:"dataset" json:"dataset"`
	Name        string    `db:"name" json:"name"`
	Owner       string    `db:"owner" json:"owner"`
	Counts      string    `db:"counts" json:"counts" enum:"rows,loads,files"`
	AtLeast     float64   `db:"at_least" json:"at_least"`
	Days        string    `db:"days" json:"days" doc:"as mon-fri or sat,sun"`
	FromMinute  int       `db:"from_minute" json:"from_minute" doc:"of the local day"`
	ToMinute    int       `db:"to_minute" json:"to_minute" doc:"after from_minute; beyond 1440 it ends on the next day"`
	Zone        string    `db:"zone" json:"zone"`
	Segment     string    `db:"segment" json:"segment" doc:"of files: the value in their path; empty: all"`
	LeadSeconds int64     `db:"lead_seconds" json:"lead_seconds" doc:"how long before the window's end it may be told to be behind"`
	Calendars   Strings   `db:"calendars" json:"calendars" doc:"whose holidays and events are exceptions; none: all"`
	Paused      bool      `db:"paused" json:"paused"`
	CreatedAt   time.Time `db:"created_at" json:"created_at"`
}

// SLADay is how a window ended.
type SLADay struct {
	SLAID    int64      `db:"sla_id" json:"-"`
	Day      time.Time  `db:"day" json:"day"`
	Standing string     `db:"standing" json:"standing" enum:"met,missed"`
	Have     float64    `db:"have" json:"have"`
	AtLeast  float64    `db:"at_least" json:"at_least"`
	MetAt    *time.Time `db:"met_at" json:"met_at"`
	DueAt    time.Time  `db:"due_at" json:"due_at"`
}

// Effect is what a planned event does.
type Effect string

const (
	EffectMute     Effect = "mute"      // not judged, not learned from
	EffectWiden    Effect = "widen"     // judged by a wider band, not learned from
	EffectLeaveOut Effect = "leave out" // judged as ever, not learned from
)

// Effects names them for people.
const Effects = "mute, widen, leave out"

// Valid tells whether there is such an effect.
func (e Effect) Valid() bool { return e == EffectMute || e == EffectWiden || e == EffectLeaveOut }
