package template

import (
	"bytes"
	"unicode"
	"unicode/utf8"
)

// Kind is what a part of a line is.
type Kind uint8

// Kinds of parts. Words and marks are constant until lines show that they vary; the
// others vary by their looks.
const (
	Word   Kind = iota
	Mark        // punctuation
	Number      // with sign, unit or per cent
	Time        // a date, a time of day, or both
	Identifier
	Address // of a host, a page, a mailbox
	Path
	Quoted
	List
	Any // a word that varies
)

var kindNames = [...]string{"word", "mark", "number", "time", "identifier", "address", "path", "quoted text", "list", "word that varies"}

func (k Kind) String() string { return kindNames[k] }

// Varies tells whether parts of the kind vary by their looks.
func (k Kind) Varies() bool { return k >= Number }

// Part is a stretch of a line, [From, To) in bytes.
type Part struct {
	Kind     Kind
	From, To int
	Glued    bool // to the part before it, without a blank between
	Hidden   bool // it holds a secret
}

// longestWord is how many bytes a constant word may have.
const longestWord = 120

// longestQuote is how far a closing quote or bracket is looked for.
const longestQuote = 400

// Scan parts a line: blanks separate, quotes and brackets hold together, and what looks
// like a number, a time, an address, a path or an identifier is marked as such.
func Scan(line []byte, parts []Part) []Part {
	n, glued := len(line), false
	for i := 0; i < n; {
		c := line[i]
		if c == ' ' || c == '\t' || c == '\r' || c == '\n' {
			i, glued = i+1, false
			continue
		}
		from := i
		kind := Word
		switch {
		case c == '"' || c == '`' || c == '\'' && !inside(line, i):
			if end := closing(line, i); end > 0 {
				i, kind = end, Quoted
			} else {
				i, kind = i+1, Mark
			}
		case c == '[' || c == '{' || c == '(':
			if end := list(line, i); end > 0 {
				i, kind = end, List
			} else {
				i, kind = i+1, Mark
			}
		case c == '-' && (!glued || line[i-1] == '=') && (i+1 == n || bytes.IndexByte([]byte(" ,:;)]"), line[i+1]) >= 0):
			i, kind = i+1, Any // nothing, where a value may stand
		case starts(line, i):
			i, kind = chunk(line, i)
		default:
			_, size := utf8.DecodeRune(line[i:])
			i, kind = i+size, Mark
		}
		if kind == Time && len(parts) > 0 {
			// A date and the time of day after it are one.
			if last := &parts[len(parts)-1]; last.Kind == Time && !glued && from-last.To == 1 && i-from >= 5 &&
				line[from+2] == ':' && bytes.IndexByte(line[last.From:last.To], ':') < 0 {
				last.To = i
				glued = true
				continue
			}
		}
		parts = append(parts, Part{Kind: kind, From: from, To: i, Glued: glued})
		glued = true
	}
	return parts
}

// inside tells whether an apostrophe stands in a word, as in doesn't.
func inside(line []byte, i int) bool {
	return i > 0 && letterBefore(line, i)
}

func letterBefore(line []byte, i int) bool {
	r, _ := utf8.DecodeLastRune(line[:i])
	return unicode.IsLetter(r) || unicode.IsDigit(r)
}

// closing finds the end of a quoted text that begins at i; 0 if it is not closed.
func closing(line []byte, i int) int {
	quote := line[i]
	for k := i + 1; k < len(line) && k-i <= longestQuote; k++ {
		if line[k] == '\\' {
			k++
			continue
		}
		if line[k] == quote {
			if quote == '\'' && k+1 < len(line) && isLetter(line[k+1]) {
				continue // as in 'don't'
			}
			return k + 1
		}
	}
	return 0
}

// list finds the end of a list in brackets that begins at i: two things or more with
// commas between; 0 if it is none.
func list(line []byte, i int) int {
	shut := map[byte]byte{'[': ']', '{': '}', '(': ')'}[line[i]]
	commas, depth := 0, 0
	for k := i; k < len(line) && k-i <= 5*longestQuote; k++ {
		switch c := line[k]; {
		case c == line[i]:
			depth++
		case c == shut:
			if depth--; depth == 0 {
				if commas > 0 {
					return k + 1
				}
				return 0
			}
		case c == ',':
			commas++
		case c == '"':
			if end := closing(line, k); end > 0 {
				k = end - 1
			}
		}
	}
	return 0
}

func isDigit(c byte) bool  { return c >= '0' && c <= '9' }
func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= utf8.RuneSelf }
func isHex(c byte) bool    { return isDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' }

// starts tells whether a word, number, path or the like begins at i.
func starts(line []byte, i int) bool {
	c := line[i]
	if c >= utf8.RuneSelf {
		r, _ := utf8.DecodeRune(line[i:])
		return unicode.IsLetter(r) || unicode.IsDigit(r)
	}
	if isDigit(c) || isLetter(c) || c == '_' {
		return true
	}
	if i+1 >= len(line) {
		return false
	}
	next := line[i+1]
	switch c {
	case '/', '~':
		return isLetter(next) || isDigit(next) || next == '/' || next == '.' || next == '_'
	case '-', '+':
		return isDigit(next) && (i == 0 || !letterBefore(line, i)) || c == '-' && next == '-' && i+2 < len(line) && isLetter(line[i+2])
	case '.':
		return next == '/' || next == '.' && i+2 < len(line) && line[i+2] == '/' || isDigit(next)
	case '#', '$', '@':
		return false
	}
	return false
}

// traits are what a stretch is made of.
type traits struct {
	digits, letters, hex, other           int
	slashes, dots, colons, hyphens, ats   int
	underscores, percents, plus, backward int
}

// chunk finds the end of what begins at i, and what it is.
func chunk(line []byte, i int) (end int, kind Kind) {
	var t traits
	k := i
scan:
	for ; k < len(line); k++ {
		c := line[k]
		switch {
		case isDigit(c):
			if k > i && line[k-1] >= utf8.RuneSelf {
				break scan // scripts without blanks: 行を12件
			}
			t.digits++
			t.hex++
		case isLetter(c):
			if c >= utf8.RuneSelf && k > i && isDigit(line[k-1]) {
				break scan
			}
			if t.letters++; isHex(c) {
				t.hex++
			}
		case c == '/':
			t.slashes++
		case c == '.':
			t.dots++
		case c == ':' && t.colons > 0 && t.slashes >= 2 && k+1 < len(line) && line[k+1] != ' ':
			t.colons++ // in the address of a page
		case c == ':':
			// Key and value part at a colon, times and addresses do not.
			if t.digits == 0 && !(k+2 < len(line) && line[k+1] == '/' && line[k+2] == '/') &&
				!(k+1 < len(line) && isDigit(line[k+1]) && t.dots+t.hyphens > 0) && !windows(line, i, k) {
				break scan
			}
			if k+1 >= len(line) || !(isDigit(line[k+1]) || isHex(line[k+1]) || line[k+1] == '/' || line[k+1] == ':' || line[k+1] == '\\') {
				break scan
			}
			t.colons++
		case c == '-':
			t.hyphens++
		case c == '_':
			t.underscores++
		case c == '@':
			t.ats++
		case c == '%':
			t.percents++
		case c == '+':
			t.plus++
		case c == '\\':
			t.backward++
		case c == '\'' && k+1 < len(line) && isLetter(line[k+1]) && t.letters > 0:
			t.other++
		case c == '~' || c == '#' || c == '&' || c == '?' && t.slashes > 0 || c == '=' && t.slashes > 1:
			t.other++
		case c == ',' && t.letters == 0 && t.digits > 0 && k+3 < len(line) && isDigit(line[k+1]) && isDigit(line[k+2]) &&
			isDigit(line[k+3]):
			t.other++ // thousands, or milliseconds after a comma
		default:
			break scan
		}
	}
	// A stop, a colon or a hyphen at the end belongs to the sentence.
	for k > i+1 && (line[k-1] == '.' || line[k-1] == ':' || line[k-1] == '-' && t.digits == 0) {
		k--
	}
	return k, classify(line[i:k], t)
}

// windows tells whether a colon at k follows a drive's letter.
func windows(line []byte, i, k int) bool {
	return k == i+1 && k+1 < len(line) && line[k+1] == '\\'
}
