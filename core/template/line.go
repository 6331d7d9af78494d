package template

import "bytes"

// Severities, as OpenTelemetry names them, lowest first.
var Severities = []string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

// severityWords are what lines write for them.
var severityWords = map[string]string{
	"TRACE": "TRACE", "DEBUG": "DEBUG", "DBG": "DEBUG", "INFO": "INFO", "INFORMATION": "INFO", "NOTICE": "INFO", "WARN": "WARN", "WARNING": "WARN",
	"ERROR": "ERROR", "ERR": "ERROR", "SEVERE": "ERROR", "FATAL": "FATAL", "CRITICAL": "FATAL", "CRIT": "FATAL", "PANIC": "FATAL", "EMERG": "FATAL", "ALERT": "FATAL",
}

// SeverityOf gives the severity that a word names; "" if it names none.
func SeverityOf(word string) string {
	return severityWords[string(bytes.ToUpper([]byte(word)))]
}

// Severity is what a line says of itself within its first parts, in capitals or as the
// value of level or severity; "" if it does not.
func Severity(line []byte, parts []Part) string {
	for i, p := range parts[:min(len(parts), 16)] {
		if p.Kind != Word && p.Kind != Any {
			continue
		}
		word := line[p.From:p.To]
		keyed := i >= 2 && parts[i-1].Kind == Mark && (line[parts[i-1].From] == '=' || line[parts[i-1].From] == ':') && levelKey(line[parts[i-2].From:parts[i-2].To])
		if keyed || i < 8 && bytes.Equal(word, bytes.ToUpper(word)) {
			if s := SeverityOf(string(word)); s != "" {
				return s
			}
		}
	}
	return ""
}

func levelKey(word []byte) bool {
	switch string(bytes.ToLower(bytes.Trim(word, `"`))) {
	case "level", "lvl", "severity", "severity_text":
		return true
	}
	return false
}

// Masked stands where a secret was.
const Masked = "‹masked›"

// Mask takes out what nobody should keep: mailboxes, what follows words like password and
// token, long random strings, and numbers that pass as cards (13 to 19 digits by Luhn).
func Mask(line []byte) []byte {
	var out []byte
	last := 0
	hide := func(from, to int) {
		out = append(append(out, line[last:from]...), Masked...)
		last = to
	}
	parts := Scan(line, nil)
	for i, p := range parts {
		if p.From < last {
			continue
		}
		word := line[p.From:p.To]
		switch {
		case p.Kind == Address && bytes.IndexByte(word, '@') > 0:
			hide(p.From, p.To)
		case p.Kind == Address && secretIn(word):
			hide(p.From, p.To)
		case i >= 2 && parts[i-1].Kind == Mark && (line[parts[i-1].From] == '=' || line[parts[i-1].From] == ':') && secretKey(line[parts[i-2].From:parts[i-2].To]):
			// A value may go on over several parts without a blank, or after Bearer.
			end := p.To
			for k := i + 1; k < len(parts) && (parts[k].Glued || schemeWord(line[parts[k-1].From:parts[k-1].To])); k++ {
				if parts[k].Kind == Mark && bytes.IndexByte([]byte(",;)]}&"), line[parts[k].From]) >= 0 {
					break
				}
				end = parts[k].To
			}
			hide(p.From, end)
		case i >= 1 && schemeWord(line[parts[i-1].From:parts[i-1].To]) && len(word) >= 12:
			hide(p.From, p.To)
		case random(word) || card(word):
			hide(p.From, p.To)
		case cardFrom(line, parts[i:]) > 0:
			hide(p.From, cardFrom(line, parts[i:]))
		case p.Kind == Quoted || p.Kind == List:
			if inner := Mask(word[1 : len(word)-1]); len(inner) != len(word)-2 {
				out = append(append(append(append(out, line[last:p.From]...), word[0]), inner...), word[len(word)-1])
				last = p.To
			}
		}
	}
	if last == 0 && out == nil {
		return line
	}
	return append(out, line[last:]...)
}

func secretKey(word []byte) bool {
	word = bytes.ToLower(bytes.Trim(word, `"'`))
	for _, s := range []string{"password", "passwd", "pwd", "secret", "token", "apikey", "api_key", "api-key", "authorization", "credential", "private_key", "session"} {
		if bytes.Contains(word, []byte(s)) {
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
