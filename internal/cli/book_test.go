package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

var (
	inline = regexp.MustCompile("`((?:bin/)?tinbell [^`]+)`")
	linked = regexp.MustCompile(`\]\(([^)#:]+)\)`)
)

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
				line, _, _ = strings.Cut(line, "    #")
				line, _, _ = strings.Cut(line, " > ")
				line, _, _ = strings.Cut(line, " | ")
				list = append(list, line)
			}
			continue
		}
		for _, m := range inline.FindAllStringSubmatch(line, -1) {
			list = append(list, strings.TrimPrefix(m[1], "bin/"))
		}
	}
	return list
}

// typed splits a command as a shell would, and spells out what stands for several words
// of one place (pause|resume).
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

func TestEveryCommandOfTheBookIsOne(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(files) < 12 {
		t.Fatalf("%d chapters: %v", len(files), err)
	}
	checked := 0
	for _, file := range append(files, "../../README.md") {
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range spoken(string(content)) {
			for _, words := range typed(line) {
				checked++
				root := (&app{}).root()
				root.InitDefaultCompletionCmd(words[1:]...)
				c, rest, err := root.Find(words[1:])
				if err != nil || c.Name() == "tinbell" {
					t.Errorf("%s: %q is no command: %v", filepath.Base(file), line, err)
					continue
				}
				c.InitDefaultHelpFlag()
				rest = slices.DeleteFunc(rest, func(w string) bool { return w == "…" || w == "[NAME…]" })
				if err := c.ParseFlags(rest); err != nil && !strings.Contains(line, "…") {
					t.Errorf("%s: %q: %v", filepath.Base(file), line, err)
					continue
				}
				if c.HasSubCommands() && c.Name() != "score" && len(c.Flags().Args()) > 0 {
					t.Errorf("%s: %q: %s has no command %q", filepath.Base(file), line, c.Name(), c.Flags().Args()[0])
				}
			}
		}
		for _, m := range linked.FindAllStringSubmatch(string(content), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), m[1])); err != nil && !strings.HasPrefix(m[1], "/") {
				t.Errorf("%s: the link to %s leads nowhere", filepath.Base(file), m[1])
			}
		}
	}
	if checked < 100 {
		t.Errorf("only %d commands were found", checked)
	}
}
