package words

import (
	"strings"
	"unicode"
)

// Plain gives a text without what would act on a terminal or turn the reading direction:
// control characters but line ends and tabs, and the marks of Unicode that change the
// direction of what follows. A sign stands in place of each.
func Plain(text string) string {
	if !strings.ContainsFunc(text, acting) {
		return text
	}
	return strings.Map(func(r rune) rune {
		if acting(r) {
			return unicode.ReplacementChar
		}
		return r
	}, text)
}

func acting(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}
