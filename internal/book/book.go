// Package book reads the commands that the book tells people to type, so that tests can
// type them.
package book

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// Command is one command of the book.
type Command struct {
	Chapter string
	Line    string   // as it stands there
	Words   []string // as a shell would split it; the first is the program
}

// Read gives the commands of some files, in their order. Where one place of a command
// names several words (pause|resume), there is a command for each.
func Read(files ...string) (list []Command, err error) {
	for _, file := range files {
		content, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("read the book: %w", err)
		}
		for _, line := range spoken(string(content)) {
			for _, words := range typed(line) {
				list = append(list, Command{filepath.Base(file), line, words})
			}
		}
	}
	return list, nil
}

var inline = regexp.MustCompile("`((?:bin/)?tinbell [^`]+)`")

// spoken gives the commands that a text tells people to type, in blocks and in lines.
func spoken(text string) (list []string) {
	block := false
	for line := range strings.Lines(strings.ReplaceAll(text, "\\\n", " ")) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "```") {
			block = !block
			continue
		}
		if block {
			if line = strings.TrimPrefix(line, "bin/"); strings.HasPrefix(line, "tinbell ") {
				for _, end := range []string{"  #", " > ", " | "} { // said beside it, or handed on
					line, _, _ = strings.Cut(line, end)
				}
				list = append(list, strings.TrimSpace(line))
			}
			continue
		}
		for _, m := range inline.FindAllStringSubmatch(line, -1) {
			list = append(list, strings.TrimPrefix(m[1], "bin/"))
		}
	}
	return list
}

// typed splits a command as a shell would.
func typed(line string) (all [][]string) {
	var words []string
	word, quote, open := "", rune(0), false
	for _, c := range line + " " {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '\'' || c == '"'):
			quote, open = c, true
		case quote == 0 && c == ' ':
			if word != "" || open {
				words = append(words, word)
			}
			word, open = "", false
		default:
			word += string(c)
		}
	}
	all = [][]string{{}}
	for _, w := range words {
		choices := []string{w}
		if !strings.HasPrefix(w, "-") && !strings.ContainsAny(w, " ;") {
			choices = strings.Split(w, "|")
		}
		var next [][]string
		for _, before := range all {
			for _, c := range choices {
				next = append(next, append(slices.Clone(before), c))
			}
		}
		all = next
	}
	return all
}
