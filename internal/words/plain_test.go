package words

import "testing"

// What somebody named a segment or wrote into a note acts on no terminal and turns no line
// around; all scripts of the world stay as they are.
func TestTextsActOnNoTerminal(t *testing.T) {
	for given, want := range map[string]string{
		"Gullstone":                  "Gullstone",
		"λιμάνι 港 ميناء":             "λιμάνι 港 ميناء",
		"a\tb\nc":                    "a\tb\nc",
		"\x1b[2J\x1b]0;owned\x07":    "\ufffd[2J\ufffd]0;owned\ufffd",
		"\u009b31mred":               "\ufffd31mred",
		"gate\u202egnp.exe":          "gate\ufffdgnp.exe",
		"a\u2066b\u2069\u200f\r\x00": "a\ufffdb\ufffd\ufffd\ufffd\ufffd",
	} {
		if got := Plain(given); got != want {
			t.Errorf("%q: %q, want %q", given, got, want)
		}
	}
}
