package flat

import "strings"

// begins are the signs with which a spreadsheet takes a text for a formula (OWASP, CSV
// injection).
const begins = "=+-@\t\r"

// Guarded gives a text of a CSV file such that no spreadsheet takes it for a formula: an
// apostrophe before what would begin one, or before apostrophes that stand before such.
func Guarded(text string) string {
	if formula(text) {
		return "'" + text
	}
	return text
}

// Unguarded takes back what Guarded did.
func Unguarded(text string) string {
	if rest, there := strings.CutPrefix(text, "'"); there && formula(rest) {
		return rest
	}
	return text
}

func formula(text string) bool {
	text = strings.TrimLeft(text, "'")
	return text != "" && strings.IndexByte(begins, text[0]) >= 0
}
