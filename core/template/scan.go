package template

import (
	"bytes"
	"strings"
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
			if last := &parts[len(parts)-1]; last.Kind == Time && !glued && from-last.To == 1 && i-from >= 5 && line[from+2] == ':' && bytes.IndexByte(line[last.From:last.To], ':') < 0 {
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
			if t.digits == 0 && !(k+2 < len(line) && line[k+1] == '/' && line[k+2] == '/') && !(k+1 < len(line) && isDigit(line[k+1]) && t.dots+t.hyphens > 0) && !windows(line, i, k) {
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
		case c == ',' && t.letters == 0 && t.digits > 0 && k+3 < len(line) && isDigit(line[k+1]) && isDigit(line[k+2]) && isDigit(line[k+3]):
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

// values are words that stand for a value.
var values = map[string]bool{"true": true, "false": true, "True": true, "False": true, "TRUE": true, "FALSE": true, "none": true, "None": true, "null": true, "NULL": true, "nil": true, "NaN": true}

// terms are words of the trade that carry digits.
var terms = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(`utf8 utf-8 utf16 utf-16 latin1 http1 http2 http3 http/1.1 http/2 ipv4 ipv6 tls1.2 tls1.3 tls1 ssl3 s3 ec2 k8s x86 x64 x86_64 amd64 arm64
		sha1 sha256 sha512 md5 base64 crc32 int8 int16 int32 int64 uint8 uint16 uint32 uint64 float32 float64 v1 v2 v3 v4 oauth2 log4j i18n l10n p50 p90 p95 p99 k8 h2 n1 gb18030 win32 3d 2d 4xx 5xx`) {
		m[w] = true
	}
	return m
}()

func classify(word []byte, t traits) Kind {
	n := len(word)
	switch {
	case n > longestWord:
		return Any
	case t.digits == 0 && n <= 5 && values[string(word)]:
		return Any
	case t.hex == n && n >= 8:
		if isNumber(word, t) {
			return Number
		}
		return Identifier
	case t.digits == 0 && t.slashes == 0 && t.ats == 0 && t.backward == 0 && t.colons == 0:
		if t.dots > 1 && t.letters > 0 && word[0] != '.' {
			return Word // a name with its room, as loader.batch.Writer
		}
		return Word
	case t.digits > 0 && n <= 8 && terms[string(bytes.ToLower(word))]:
		return Word
	case t.colons > 0 && bytes.Contains(word, []byte("://")):
		return Address
	case t.ats == 1 && t.dots > 0 && word[0] != '@':
		return Address
	case isTime(word, t):
		return Time
	case isNumber(word, t):
		return Number
	case t.dots == 3 && t.letters == 0 && t.digits >= 4 && t.slashes == 0, t.colons >= 2 && t.hex == n-t.colons && t.dots == 0 && n >= 6, t.dots == 3 && t.letters == 0 && t.slashes == 1 && t.digits >= 5:
		return Address // of the internet protocol, with a port or a mask
	case t.colons == 1 && t.digits > 0 && endsInPort(word):
		return Address
	case t.backward > 0 || word[0] == '/' || word[0] == '~' || word[0] == '.' && t.slashes > 0 || t.slashes >= 2 || t.slashes == 1 && (t.dots > 0 || t.digits > 0):
		return Path
	case t.digits > 0:
		return Identifier
	}
	return Word
}

// endsInPort tells whether a name ends in a colon and a number.
func endsInPort(word []byte) bool {
	at := bytes.LastIndexByte(word, ':')
	if at <= 0 || at == len(word)-1 || len(word)-at > 6 {
		return false
	}
	for _, c := range word[at+1:] {
		if !isDigit(c) {
			return false
		}
	}
	return isLetter(word[0]) || bytes.IndexByte(word[:at], '.') > 0
}

// isTime tells dates (2026-10-31, 31/10/2026), times of day (12:30, 12:30:15.250) and
// both joined by a T.
func isTime(word []byte, t traits) bool {
	n := len(word)
	if t.digits < 4 || !isDigit(word[0]) || t.letters > 4 {
		return false
	}
	day := n >= 10 && (word[4] == '-' && word[7] == '-' || word[4] == '/' && word[7] == '/' || word[2] == '/' && word[5] == '/' || word[2] == '.' && word[5] == '.') && fours(word)
	if day && (n == 10 || word[10] == 'T' || word[10] == 't') {
		return true
	}
	if n >= 5 && word[2] == ':' && isDigit(word[1]) && isDigit(word[3]) && isDigit(word[4]) && t.slashes == 0 && t.letters <= 1 {
		return n == 5 || n >= 8 && word[5] == ':' && isDigit(word[6]) && isDigit(word[7])
	}
	return false
}

// fours tells whether a date has a year of four digits.
func fours(word []byte) bool {
	digits := func(part []byte) bool {
		for _, c := range part {
			if !isDigit(c) {
				return false
			}
		}
		return true
	}
	return digits(word[:2]) && (digits(word[:4]) || digits(word[6:10]))
}

// isNumber tells numbers: digits with a sign, separators, an exponent, and a unit of up to
// three letters or a per cent after them.
func isNumber(word []byte, t traits) bool {
	i, n := 0, len(word)
	if word[0] == '-' || word[0] == '+' {
		i++
	}
	if n > 2 && word[i] == '0' && i+1 < n && word[i+1]|0x20 == 'x' {
		return false // an identifier
	}
	digits, dots := 0, 0
	for ; i < n; i++ {
		c := word[i]
		if isDigit(c) {
			digits++
		} else if c == '.' && dots == 0 {
			dots++
		} else if c != ',' && c != '_' {
			break
		}
	}
	if digits == 0 {
		return false
	}
	rest := word[i:]
	if len(rest) > 1 && rest[0]|0x20 == 'e' && (isDigit(rest[1]) || (rest[1] == '-' || rest[1] == '+') && len(rest) > 2) {
		for _, c := range rest[2:] {
			if !isDigit(c) {
				return false
			}
		}
		return true
	}
	if len(rest) == 1 && rest[0] == '%' {
		return true
	}
	if len(rest) > 3 {
		// Several units after each other, as 1m30s.
		return units(rest)
	}
	for _, c := range rest {
		if !isLetter(c) {
			return len(rest) > 1 && units(rest)
		}
	}
	// Letters of a hexadecimal number are no unit.
	return len(rest) == 0 || digits <= 6 || rest[len(rest)-1]|0x20 > 'f'
}

// units tells whether letters and numbers take turns as in 1h2m3.5s.
func units(rest []byte) bool {
	letters, turns := 0, 0
	for i, c := range rest {
		switch {
		case isDigit(c) || c == '.':
			letters = 0
			if i == 0 {
				return false
			}
		case c|0x20 >= 'a' && c|0x20 <= 'z' || c >= utf8.RuneSelf:
			if letters == 0 {
				turns++
			}
			if letters++; letters > 3 {
				return false
			}
		default:
			return false
		}
	}
	return letters > 0 && turns > 1
}
