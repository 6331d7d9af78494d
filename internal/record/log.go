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
	Kinds       Strings    `db:"kinds" json:"kinds" doc:"what is told: new, burst, vanished"`
	Job         string     `db:"job" json:"job" doc:"that writes it"`
	Service     string     `db:"service" json:"service" doc:"that writes it"`
	SourceID    *int64     `db:"source_id" json:"-"`
	Source      string     `db:"source" json:"source" doc:"the folder where files of it land"`
	Pattern     string     `db:"pattern" json:"pattern" doc:"which of them are followed"`
	By          Strings    `db:"by_attributes" json:"by" doc:"attributes by which lines are counted apart"`
	Masked      Strings    `db:"masked" json:"masked" doc:"words whose values are masked, and expressions between slashes, beside what always is"`
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
	if len(v.Kinds) == 0 {
		v.Kinds = LogKinds
	}
	for _, kind := range v.Kinds {
		if !slices.Contains(LogKinds, kind) {
			return Invalid{Field: "kinds", Given: kind, Allowed: "new, burst and vanished"}
		}
	}
	if v.Job != "" && v.Service != "" {
		return Invalid{Field: "job and service", Given: v.Job + " and " + v.Service, Allowed: "one of both"}
	}
	if len(v.By) > 3 {
		return Invalid{Field: "by", Given: fmt.Sprint(len(v.By), " attributes"), Allowed: "three at most"}
	}
	for _, name := range v.By {
		if !attributeNames.MatchString(name) {
			return Invalid{Field: "by", Given: name,
				Allowed: "names of attributes: letters, digits, dots, hyphens and underscores, 60 at most"}
		}
	}
	if _, err := template.NewMasker(v.Masked); err != nil {
		return Invalid{Field: "masked", Given: err.Error(), Allowed: "words, and expressions between slashes (RE2)"}
	}
	return nil
}

// LogKinds are what a log may tell: sentences that are new, that come much more often than
// they do, and that have stopped to come.
var LogKinds = Strings{"new", "burst", "vanished"}

var attributeNames = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9._-]{0,59}$`)

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
	Shape      int64     `db:"shape" json:"-"`
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

// LogFile is a file of a log that is followed.
type LogFile struct {
	ID      int64     `db:"id" json:"-"`
	LogID   int64     `db:"log_id" json:"-"`
	Path    string    `db:"path" json:"path"`
	Head    []byte    `db:"head" json:"-"`
	Tail    []byte    `db:"tail" json:"-"`
	Counted int64     `db:"counted" json:"counted_bytes" doc:"unpacked"`
	Lines   int64     `db:"lines" json:"lines"`
	Size    int64     `db:"size" json:"-"`
	Changed time.Time `db:"changed" json:"changed_at"`
	Message string    `db:"message" json:"message" doc:"why it cannot be read"`
	At      time.Time `db:"at" json:"-"`
}

// LogPart is how often a template came with a value of an attribute.
type LogPart struct {
	Number    int       `db:"number" json:"number"`
	At        time.Time `db:"at" json:"at"`
	Attribute string    `db:"attribute" json:"attribute"`
	Value     string    `db:"value" json:"value"`
	N         int64     `db:"n" json:"lines"`
}

// LogValue sums up what stood in a variable part of a template on a day.
type LogValue struct {
	Number  int             `db:"number"`
	Place   int             `db:"place"`
	Day     time.Time       `db:"day"`
	Summary template.Values `db:"-"`
	Stored  []byte          `db:"summary"`
}

// LogChange is a correction, or that a template became part of another.
type LogChange struct {
	At     time.Time `db:"at" json:"at"`
	What   string    `db:"what" json:"what" enum:"merged,joined,held,varied"`
	Number int       `db:"number" json:"number"`
	Other  int       `db:"other" json:"other" doc:"that it became part of, or the one that holds the word"`
	Place  int       `db:"place" json:"part"`
	Word   string    `db:"word" json:"word"`
	Author string    `db:"author" json:"author" doc:"empty: found by itself"`
}
