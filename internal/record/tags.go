package record

import (
	"fmt"
	"regexp"
	"slices"
)

// MostTags is how many tags a thing may have.
const MostTags = 20

var tagForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,39}$`)

// CheckTags puts tags in order, each once, and refuses what is none: they stand in
// addresses, files and commands.
func CheckTags(tags Strings) (Strings, error) {
	tags = slices.Compact(slices.Sorted(slices.Values(tags)))
	for _, tag := range tags {
		if !tagForm.MatchString(tag) {
			return nil, Invalid{Field: "tags", Given: tag,
				Allowed: "small letters, digits, '.', '_' and '-', 40 at most, a letter or digit first"}
		}
	}
	if len(tags) > MostTags {
		return nil, Invalid{Field: "tags", Given: fmt.Sprint(len(tags)), Allowed: fmt.Sprintf("%d at most", MostTags)}
	}
	if tags == nil {
		tags = Strings{}
	}
	return tags, nil
}

// Tag is a name for things that one audience cares about, with what has it.
type Tag struct {
	Name     string  `db:"name" json:"name"`
	Datasets Strings `db:"datasets" json:"datasets" doc:"that have it; their metrics and monitors have it with them"`
	Metrics  Strings `db:"metrics" json:"metrics" doc:"that have it themselves or by their dataset"`
	Monitors Strings `db:"monitors" json:"monitors" doc:"that have it themselves or by their metric or dataset"`
	Routes   Strings `db:"routes" json:"routes" doc:"that tell of it"`
	Channels Strings `db:"channels" json:"channels" doc:"that hear of it"`
	Open     int     `db:"open" json:"open_alerts"`
}
