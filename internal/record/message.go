package record

import "time"

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
