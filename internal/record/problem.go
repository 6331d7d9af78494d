package record

import (
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// NotFound says that a named thing is not there.
type NotFound struct{ Kind, Name string }

func (e NotFound) Error() string { return fmt.Sprintf("no %s named %q", e.Kind, e.Name) }

// Invalid says that something given is not allowed: which field, what was
// given, and what would be allowed.
type Invalid struct{ Field, Given, Allowed string }

func (e Invalid) Error() string {
	return fmt.Sprintf("%s %q is not allowed: %s", e.Field, e.Given, e.Allowed)
}

// Refused says that what was given does not go together, and why.
type Refused struct{ Field, Why string }

func (e Refused) Error() string { return e.Why }

// Conflict says that what was asked for clashes with what is there.
type Conflict struct{ What string }

func (e Conflict) Error() string { return e.What }

// LongestName is how many bytes a name may have: of a segment, a metric, a column.
const LongestName = 1000

// CheckName refuses what cannot be kept or shown as a name: broken UTF-8, control
// characters, and more bytes than an index holds.
func CheckName(field, name string) error {
	switch {
	case len(name) > LongestName:
		return Invalid{Field: field, Given: strings.ToValidUTF8(name[:40], "\ufffd") + "…",
			Allowed: fmt.Sprintf("names of at most %d bytes; this one has %d", LongestName, len(name))}
	case !utf8.ValidString(name):
		return Invalid{Field: field, Given: strings.ToValidUTF8(name, "\ufffd"), Allowed: "text in UTF-8"}
	case strings.ContainsFunc(name, unicode.IsControl):
		return Invalid{Field: field, Given: strings.Map(visible, name), Allowed: "text without control characters"}
	}
	return nil
}

// visible shows a control character as a mark.
func visible(r rune) rune {
	if unicode.IsControl(r) {
		return '\ufffd'
	}
	return r
}

// furthestYears is how far back samples may lie: a date before is a slip of a
// clock or a parser far more often than it is a history.
const furthestYears = 25

// Furthest is the earliest time a sample may have.
func Furthest(now time.Time) time.Time { return now.AddDate(-furthestYears, 0, 0) }
