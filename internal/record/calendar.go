package record

import "time"

// Calendar is a set of planned events as the iCalendar file they came in, or the
// holidays of a country.
type Calendar struct {
	Name    string `db:"name" json:"name"`
	ICal    string `db:"ical" json:"ical"`
	Country string `db:"country" json:"country" doc:"whose holidays it holds, as CA or DE-BY; empty: events of a file or by hand"`
	Dataset string `db:"dataset" json:"dataset" doc:"that it is for; empty: all"`
	Zone    string `db:"zone" json:"zone" doc:"by whose clocks holidays begin"`
	Effect  Effect `db:"effect" json:"effect" enum:"mute,widen,leave out" doc:"of events that say nothing themselves"`
}

// Feed is a calendar that is fetched by address.
type Feed struct {
	Calendar     string     `db:"calendar" json:"calendar"`
	Host         string     `db:"host" json:"host" doc:"of its address, which is a secret"`
	Address      []byte     `db:"address" json:"-"`
	Dataset      string     `db:"dataset" json:"dataset" doc:"that events are for which name none; empty: all"`
	Effect       Effect     `db:"effect" json:"effect" enum:"mute,widen,leave out"`
	EverySeconds int64      `db:"every_seconds" json:"every_seconds"`
	ETag         string     `db:"etag" json:"-"`
	FetchedAt    *time.Time `db:"fetched_at" json:"fetched_at" doc:"when it was last read whole, or found unchanged"`
	NextAt       time.Time  `db:"next_at" json:"next_at"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since" doc:"the last good copy stays in force"`
	Message      string     `db:"message" json:"message" doc:"why it cannot be fetched"`
}

// PlannedEvent is a known happening that explains unusual values.
type PlannedEvent struct {
	ID        int64     `db:"id" json:"id"`
	Calendar  string    `db:"calendar" json:"calendar"`
	UID       string    `db:"uid" json:"uid"`
	Summary   string    `db:"summary" json:"summary"`
	Dataset   string    `db:"dataset" json:"dataset" doc:"empty: all datasets"`
	Holiday   bool      `db:"holiday" json:"holiday"`
	Lasting   bool      `db:"lasting" json:"lasting" doc:"things do not go back afterwards: the level goes on from there"`
	Effect    Effect    `db:"effect" json:"effect" enum:"mute,widen,leave out" doc:"mute: neither judged nor learned from; widen: judged by a wider band; leave out: judged as ever, not learned from"`
	StartedAt time.Time `db:"started_at" json:"started_at"`
	EndedAt   time.Time `db:"ended_at" json:"ended_at"`
	KnownAt   time.Time `db:"known_at" json:"known_at"`
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
