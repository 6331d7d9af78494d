package people

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tinbell/internal/record"
)

// Roles, each allowed what the ones before it are.
const (
	None      = "none"      // nothing by itself: what teams give
	Reader    = "reader"    // looks
	Responder = "responder" // labels, takes, snoozes, writes incidents and notes
	Editor    = "editor"    // sets up
	Admin     = "admin"     // people, secrets, sources
)

// Roles are those that allow something, the least first.
var Roles = []string{Reader, Responder, Editor, Admin}

var rank = map[string]int{None: 0, Reader: 1, Responder: 2, Editor: 3, Admin: 4}

// Allows tells whether the role includes the needed one.
func Allows(role, needed string) bool { return rank[role] > 0 && rank[role] >= rank[needed] }

// Local is who everybody is where there is no sign-in.
func Local() record.Account {
	return record.Account{Name: "local", Role: Admin, Grants: record.List[record.Grant]{{Role: Admin}}}
}

// capped is an account as a token or session of it may act: with a role of at most what that
// says, in at most the datasets that it is for. Its role is the most it may anywhere.
func capped(a record.Account, says string, within record.Strings) record.Account {
	a.Role, a.Within = None, within
	for i := range a.Grants {
		g := &a.Grants[i]
		if says != "" && rank[says] < rank[g.Role] {
			g.Role = says
		}
		if rank[g.Role] > rank[a.Role] {
			a.Role = g.Role
		}
	}
	return a
}

// Everywhere tells whether an account may do what needs a role, whatever it is about.
func Everywhere(a record.Account, needed string) bool {
	return len(a.Within) == 0 && slices.ContainsFunc(a.Grants, func(g record.Grant) bool { return len(g.Datasets) == 0 && Allows(g.Role, needed) })
}

// MayIn tells whether an account may do what needs a role in a dataset with some tags.
func MayIn(a record.Account, needed, dataset string, tags []string) bool {
	if len(a.Within) > 0 && !covers(a.Within, dataset, tags) {
		return false
	}
	return slices.ContainsFunc(a.Grants, func(g record.Grant) bool {
		return Allows(g.Role, needed) && (len(g.Datasets) == 0 || covers(g.Datasets, dataset, tags))
	})
}

// covers tells whether a dataset is among those that patterns are for.
func covers(patterns []string, dataset string, tags []string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		if tag, is := strings.CutPrefix(p, "tag:"); is {
			return slices.Contains(tags, tag)
		}
		fits, err := path.Match(p, dataset)
		return err == nil && fits
	})
}

// mostPatterns is how many patterns a limit may have.
const mostPatterns = 100

// CheckPatterns refuses what limits nothing that is there could have.
func CheckPatterns(list record.Strings) (record.Strings, error) {
	if len(list) > mostPatterns {
		return nil, record.Invalid{Field: "datasets", Given: fmt.Sprint(len(list)), Allowed: fmt.Sprintf("%d at most", mostPatterns)}
	}
	kept := record.Strings{}
	for _, p := range list {
		p = strings.TrimSpace(p)
		tag, tagged := strings.CutPrefix(p, "tag:")
		_, err := path.Match(p, "")
		if tagged {
			_, err = record.CheckTags(record.Strings{tag})
		}
		if p == "" || err != nil || strings.Contains(p, "/") {
			return nil, record.Invalid{Field: "datasets", Given: p, Allowed: "a dataset's name, with * for any part of it as in raw.*, or tag: and a tag"}
		}
		kept = append(kept, p)
	}
	return kept, nil
}

// Forbidden says that a role is not enough, or is not for this.
type Forbidden struct {
	Role, Needed string
	Dataset      string // that it is about; empty: it is about no dataset, or more than one
	Limited      bool   // to some datasets, of which this is none
	Why          string // if it is for something else
}

func (f Forbidden) Error() string {
	switch {
	case f.Why != "":
		return f.Why
	case f.Limited && f.Dataset != "":
		return fmt.Sprintf("you may not do this with %s: what needs the role %s you may in other datasets only; ask an administrator", f.Dataset, f.Needed)
	case f.Limited:
		return "what you may is limited to some datasets, and this is about others too: ask an administrator"
	}
	return fmt.Sprintf("your role is %s, this needs %s: ask an administrator", f.Role, f.Needed)
}
