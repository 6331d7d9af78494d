package template

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Masked stands where a secret was.
const Masked = "‹masked›"

// Masker takes out what nobody should keep: mailboxes, what follows words like password
// and token, long random strings, numbers that pass as cards (13 to 19 digits by Luhn),
// and what a person adds. The zero value masks without additions.
type Masker struct {
	words    [][]byte // in small letters: what follows them is masked
	patterns []*regexp.Regexp
}

// mostMasks bounds what a person may add.
const mostMasks = 50

// NewMasker reads what a person adds: a word, whose value or next word is masked, or an
// expression between slashes (RE2) of which all that fits is.
func NewMasker(list []string) (*Masker, error) {
	m := &Masker{}
	if len(list) > mostMasks {
		return m, fmt.Errorf("%d words and expressions: %d are allowed", len(list), mostMasks)
	}
	for _, v := range list {
		if len(v) > 2 && strings.HasPrefix(v, "/") && strings.HasSuffix(v, "/") {
			re, err := regexp.Compile(v[1 : len(v)-1])
			if err != nil {
				return m, fmt.Errorf("%s is no expression: %w", v, err)
			}
			m.patterns = append(m.patterns, re)
			continue
		}
		if v == "" || len(v) > longestWord || strings.ContainsAny(v, " \t\n") {
			return m, fmt.Errorf("%q is neither one word nor an expression between slashes", v)
		}
		m.words = append(m.words, bytes.ToLower([]byte(v)))
	}
	return m, nil
}

// Mask masks by no additions.
func Mask(line []byte) []byte { return (*Masker)(nil).Mask(line) }

// span is a stretch [from, to) of a line, in bytes.
type span struct{ from, to int }

// Mask gives a line without its secrets: the line itself where it has none.
func (m *Masker) Mask(line []byte) []byte {
	hidden := m.hidden(line, Scan(line, nil))
	if len(hidden) == 0 {
		return line
	}
	var out []byte
	last := 0
	for _, s := range hidden {
		if s.from < last {
			if s.to > last {
				last = s.to
			}
			continue
		}
		out = append(append(out, line[last:s.from]...), Masked...)
		last = s.to
	}
	return append(out, line[last:]...)
}

// hidden are the stretches of a line that are masked, by where they begin.
func (m *Masker) hidden(line []byte, parts []Part) (list []span) {
	last := 0
	hide := func(from, to int) {
		list = append(list, span{from, to})
		last = max(last, to)
	}
	for i, p := range parts {
		if p.From < last {
			continue
		}
		word := line[p.From:p.To]
		end := m.valueEnd(line, parts, i)
		switch {
		case end > 0:
			hide(p.From, end)
		case p.Kind == Address && (bytes.IndexByte(word, '@') > 0 || secretIn(word)), random(word), card(word):
			hide(p.From, p.To)
		case cardFrom(line, parts[i:]) > 0:
			hide(p.From, cardFrom(line, parts[i:]))
		case p.Kind == Quoted || p.Kind == List:
			for _, inner := range m.hidden(word[1:len(word)-1], Scan(word[1:len(word)-1], nil)) {
				hide(p.From+1+inner.from, p.From+1+inner.to)
			}
		}
	}
	if m != nil && len(m.patterns) > 0 {
		for _, re := range m.patterns {
			for _, at := range re.FindAllIndex(line, -1) {
				if at[0] < at[1] {
					list = append(list, span{at[0], at[1]})
				}
			}
		}
		slices.SortFunc(list, func(a, b span) int { return a.from - b.from })
	}
	return list
}

// valueEnd tells where the secret ends that begins with a part, by the words before it;
// 0: none does. A value may go on over several parts without a blank, or after Bearer.
func (m *Masker) valueEnd(line []byte, parts []Part, i int) int {
	if i == 0 || parts[i].Kind == Mark {
		return 0
	}
	before := parts[i-1]
	switch c := line[before.From]; {
	case before.Kind == Mark && (c == '=' || c == ':'):
		if i < 2 {
			return 0
		}
		// What follows a colon may be said of a token, as in "token: expired".
		key := line[parts[i-2].From:parts[i-2].To]
		if !m.adds(key) && (!secretKey(key) || c == ':' && !passwordKey(key) && plain(line[parts[i].From:parts[i].To])) {
			return 0
		}
	case schemeWord(line[before.From:before.To]):
		if parts[i].To-parts[i].From < 12 {
			return 0
		}
	default:
		if m == nil || len(m.words) == 0 || !m.adds(line[before.From:before.To]) {
			return 0
		}
	}
	end := parts[i].To
	for k := i + 1; k < len(parts) && (parts[k].Glued || schemeWord(line[parts[k-1].From:parts[k-1].To])); k++ {
		if parts[k].Kind == Mark && bytes.IndexByte([]byte(",;)]}&"), line[parts[k].From]) >= 0 {
			break
		}
		end = parts[k].To
	}
	return end
}

// adds tells whether a person says that what follows a word is masked.
func (m *Masker) adds(word []byte) bool {
	if m == nil {
		return false
	}
	for _, w := range m.words {
		if bytes.EqualFold(bytes.Trim(word, `"'`), w) {
			return true
		}
	}
	return false
}

// secrets marks the parts of a line that hold a secret: they vary, and no value of them is
// kept.
func (m *Masker) secrets(line []byte, parts []Part) {
	for i := 1; i < len(parts); i++ {
		end := m.valueEnd(line, parts, i)
		for k := i; k < len(parts) && parts[k].To <= end; k++ {
			if parts[k].Kind != Mark {
				parts[k].Hidden = true
				if parts[k].Kind == Word {
					parts[k].Kind = Any
				}
			}
		}
	}
	if m == nil {
		return
	}
	for _, re := range m.patterns {
		for _, at := range re.FindAllIndex(line, -1) {
			for k := range parts {
				if p := &parts[k]; p.From < at[1] && at[0] < p.To && p.Kind != Mark {
					p.Hidden = true
					if p.Kind == Word {
						p.Kind = Any
					}
				}
			}
		}
	}
}

// secretKeys are words that stand in the names of secrets.
var secretKeys = [][]byte{
	[]byte("password"), []byte("passwd"), []byte("pwd"), []byte("secret"), []byte("token"), []byte("apikey"), []byte("api_key"),
	[]byte("api-key"),
	[]byte("authorization"), []byte("credential"), []byte("private_key"), []byte("session"),
}

// passwordKey tells names of what is a secret whatever it looks like.
func passwordKey(word []byte) bool { return holds(word, secretKeys[:4]) }

// plain tells words of small letters alone.
func plain(word []byte) bool {
	for _, c := range word {
		if c < 'a' || c > 'z' {
			return false
		}
	}
	return len(word) < 24
}

func secretKey(word []byte) bool { return holds(word, secretKeys) }

// holds tells whether a word, in whatever letters, has one of some within it.
func holds(word []byte, keys [][]byte) bool {
	var small [longestWord]byte
	n := 0
	for _, c := range word[:min(len(word), longestWord)] {
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		small[n] = c
		n++
	}
	for _, s := range keys {
		if bytes.Contains(small[:n], s) {
			return true
		}
	}
	return false
}

func schemeWord(word []byte) bool {
	return bytes.EqualFold(word, []byte("bearer")) || bytes.EqualFold(word, []byte("basic"))
}

// secretIn tells whether an address carries a login or a secret.
func secretIn(address []byte) bool {
	if at := bytes.Index(address, []byte("://")); at > 0 {
		rest := address[at+3:]
		if end := bytes.IndexAny(rest, "/?"); end >= 0 {
			if bytes.IndexByte(rest[:end], '@') >= 0 {
				return true
			}
			return secretKey(rest[end:]) && bytes.IndexByte(rest, '=') > 0
		}
		return bytes.IndexByte(rest, '@') >= 0
	}
	return false
}

// random tells long strings of letters in both cases and digits, as keys and tokens are.
// Identifiers in hexadecimal and paths are none.
func random(word []byte) bool {
	if len(word) < 24 {
		return false
	}
	var upper, lower, digits, hexes int
	for _, c := range word {
		switch {
		case c >= 'A' && c <= 'Z':
			upper++
		case c >= 'a' && c <= 'z':
			lower++
		case isDigit(c):
			digits++
		case c != '-' && c != '_' && c != '.' && c != '+' && c != '=':
			return false
		}
		if isHex(c) || c == '-' {
			hexes++
		}
	}
	return hexes < len(word) && upper >= 2 && lower >= 2 && digits >= 2
}

// cardFrom gives where a card's number ends whose groups of four digits stand apart by
// blanks, beginning with the first part; 0 for none.
func cardFrom(line []byte, parts []Part) int {
	n := 0
	for n < len(parts) && n < 5 && parts[n].To-parts[n].From <= 4 && isDigit(line[parts[n].From]) {
		if n > 0 && parts[n].From != parts[n-1].To+1 {
			break
		}
		n++
	}
	for ; n >= 4; n-- {
		if card(line[parts[0].From:parts[n-1].To]) {
			return parts[n-1].To
		}
	}
	return 0
}

// card tells numbers of 13 to 19 digits, blanks not counted, that pass Luhn's check.
func card(word []byte) bool {
	digits := 0
	for _, c := range word {
		if isDigit(c) {
			digits++
		} else if c != '-' && c != ' ' {
			return false
		}
	}
	if digits < 13 || digits > 19 {
		return false
	}
	sum, double := 0, false
	for i := len(word) - 1; i >= 0; i-- {
		if !isDigit(word[i]) {
			continue
		}
		d := int(word[i] - '0')
		if double {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum, double = sum+d, !double
	}
	return sum%10 == 0
}
