package template

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// values are words that stand for a value.
var values = map[string]bool{"true": true, "false": true, "True": true, "False": true, "TRUE": true, "FALSE": true, "none": true,
	"None": true, "null": true, "NULL": true, "nil": true, "NaN": true}

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
	case t.dots == 3 && t.letters == 0 && t.digits >= 4 && t.slashes == 0, t.colons >= 2 && t.hex == n-t.colons && t.dots == 0 &&
		n >= 6, t.dots == 3 && t.letters == 0 && t.slashes == 1 && t.digits >= 5:
		return Address // of the internet protocol, with a port or a mask
	case t.colons == 1 && t.digits > 0 && endsInPort(word):
		return Address
	case t.backward > 0 || word[0] == '/' || word[0] == '~' || word[0] == '.' && t.slashes > 0 || t.slashes >= 2 ||
		t.slashes == 1 && (t.dots > 0 || t.digits > 0):
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
	day := n >= 10 && (word[4] == '-' && word[7] == '-' || word[4] == '/' && word[7] == '/' || word[2] == '/' && word[5] == '/' ||
		word[2] == '.' && word[5] == '.') && fours(word)
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
