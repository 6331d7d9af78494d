package record

import (
	"fmt"
	"regexp"
	"slices"
	"time"

	"tinbell/core/template"
)

// LogPeriod is the length of the periods in which lines are counted.
const LogPeriod = 5 * time.Minute

// Log is a stream of lines of a dataset's loaders.
type Log struct {
	ID          int64      `db:"id" json:"id"`
	Name        string     `db:"name" json:"name"`
	DatasetID   int64      `db:"dataset_id" json:"-"`
	Dataset     string     `db:"dataset" json:"dataset"`
	Zone        string     `db:"zone" json:"zone" doc:"of its dataset"`
	Metric      string     `db:"metric" json:"metric" doc:"of its lines by severity"`
	KeepSamples int        `db:"keep_samples" json:"keep_samples" doc:"lines kept of each template, masked"`
	Watched     Strings    `db:"watched" json:"watched" doc:"severities of which a new sentence is told"`
	RareSeconds int64      `db:"rare_seconds" json:"rare_seconds" doc:"a new sentence is told where one comes no more often than once in so long"`
	Normal      int64      `db:"normal_seconds" json:"normal_seconds" doc:"after so long a new sentence is part of what is usual"`
	Lines       int64      `db:"lines" json:"lines"`
	Overflow    int64      `db:"overflow" json:"overflow" doc:"lines after there were as many templates as are kept: counted together"`
	Templates   int        `db:"templates" json:"templates"`
	Version     int64      `db:"version" json:"-"`
	Next        int        `db:"next" json:"-"`
	FirstAt     *time.Time `db:"first_at" json:"first_at"`
	LastAt      *time.Time `db:"last_at" json:"last_at"`
	CountedTo   *time.Time `db:"counted_to" json:"counted_to" doc:"up to here its counts are samples of its metric"`
	TouchedFrom *time.Time `db:"touched_from" json:"-"`
	CreatedAt   time.Time  `db:"created_at" json:"created_at"`
}

var logNames = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,79}$`)

// Check tells whether a log may be called so and set so; it writes severities as they are
// stored, and puts what is left out.
func (v *Log) Check() error {
	if !logNames.MatchString(v.Name) {
		return Invalid{Field: "log", Given: v.Name, Allowed: "a name of small letters, digits, dots, hyphens and underscores, 80 at most"}
	}
	if v.KeepSamples < 0 || v.KeepSamples > 20 {
		return Invalid{Field: "keep_samples", Given: fmt.Sprint(v.KeepSamples), Allowed: "0 to 20"}
	}
	if v.RareSeconds == 0 {
		v.RareSeconds = 14 * 86400
	}
	if v.Normal == 0 {
		v.Normal = 7 * 86400
	}
	for _, seconds := range []int64{v.RareSeconds, v.Normal} {
		if seconds < 3600 || seconds > 366*86400 {
			return Invalid{Field: "rare and normal", Given: (time.Duration(seconds) * time.Second).String(), Allowed: "an hour to a year"}
		}
	}
	severities := Strings{}
	for _, word := range v.Watched {
		severity := template.SeverityOf(word)
		if severity == "" {
			return Invalid{Field: "watched", Given: word, Allowed: "trace, debug, info, warn, error and fatal"}
		}
		if !slices.Contains(severities, severity) {
			severities = append(severities, severity)
		}
	}
	v.Watched = severities
	return nil
}

// LogPlaces are the parts of a template.
type LogPlaces = List[template.Place]

// LogTemplate is a sentence of a log.
type LogTemplate struct {
	LogID      int64     `db:"log_id" json:"-"`
	Number     int       `db:"number" json:"number" doc:"kept when it becomes more general"`
	Places     LogPlaces `db:"places" json:"places"`
	Text       string    `db:"text" json:"text" doc:"variable parts in angle brackets"`
	Severity   string    `db:"severity" json:"severity" doc:"that most of its lines have; empty where they say none"`
	Lines      int64     `db:"lines" json:"lines"`
	FirstAt    time.Time `db:"first_at" json:"first_at"`
	LastAt     time.Time `db:"last_at" json:"last_at"`
	MergedInto int       `db:"merged_into" json:"merged_into" doc:"the template that it became part of; 0 for none"`
	Kept       bool      `db:"kept" json:"-"`
	Usual      bool      `db:"usual" json:"usual" doc:"somebody says that it is no news"`
	Followed   bool      `db:"followed" json:"followed" doc:"its lines are a series of their own"`
}

// LogCount is how often a template came in a period.
type LogCount struct {
	Number   int       `db:"number" json:"number"`
	At       time.Time `db:"at" json:"at"`
	Severity string    `db:"severity" json:"severity"`
	N        int64     `db:"n" json:"lines"`
}

// LogSample is a line that was kept.
type LogSample struct {
	Number int       `db:"number" json:"number"`
	At     time.Time `db:"at" json:"at"`
	Line   string    `db:"line" json:"line" doc:"secrets masked"`
}
