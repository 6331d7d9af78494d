package template

import (
	"regexp"
	"strings"
)

// Alike tells whether two templates say nearly the same: of the words, numbers and other
// parts of the longer, in order, all but one in four are in the shorter too. Parts that
// vary are alike where they are of one kind.
func Alike(a, b []Place) bool {
	a, b = said(a), said(b)
	longer := max(len(a), len(b))
	if longer == 0 {
		return true
	}
	allowed := longer / 4
	if allowed == 0 || max(len(a), len(b))-min(len(a), len(b)) > allowed {
		return longer-common(a, b) == 0
	}
	return longer-common(a, b) <= allowed
}

// said are the parts of a template that say something: no marks, no times.
func said(places []Place) []Place {
	var list []Place
	for _, p := range places {
		if p.Kind != Mark && p.Kind != Time {
			list = append(list, p)
		}
	}
	return list
}

// common is the length of the longest common subsequence (Wagner and Fischer 1974).
func common(a, b []Place) int {
	row := make([]int, len(b)+1)
	for i := range a {
		diagonal := 0
		for k := range b {
			above := row[k+1]
			if same(a[i], b[k]) {
				row[k+1] = diagonal + 1
			} else {
				row[k+1] = max(above, row[k])
			}
			diagonal = above
		}
	}
	return row[len(b)]
}

func same(a, b Place) bool {
	if free(a) || free(b) {
		return word(a) && word(b)
	}
	return a.Kind == b.Kind && (a.Kind != Word || a.Text == b.Text)
}

func free(p Place) bool { return p.Kind == Any || p.Kind == Word && p.Varied }
func word(p Place) bool { return p.Kind == Any || p.Kind == Word }

// Gist is what a sentence says beyond when, how grave and who: its text after a severity
// among its first words and brackets that follow it.
func Gist(text string) string {
	rest := text
	for range 6 {
		first, after, more := strings.Cut(rest, " ")
		if !more {
			return text
		}
		rest = after
		if word := strings.Trim(first, "[]:<>|"); SeverityOf(word) == "" || strings.ToUpper(word) != word {
			continue
		}
		for {
			rest = strings.TrimLeft(rest, " :-|")
			if end := strings.Index(rest, "] "); strings.HasPrefix(rest, "[") && end > 0 {
				rest = rest[end+2:]
				continue
			}
			return rest
		}
	}
	return text
}

// Spoken is a sentence as it is read aloud: what varies left open.
func Spoken(text string) string { return varies.ReplaceAllString(text, "…") }

var varies = regexp.MustCompile(`<[a-z ]+>`)
