package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"tinbell/internal/book"
)

var linked = regexp.MustCompile(`\]\(([^)#:]+)\)`)

func TestEveryCommandOfTheBookIsOne(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(files) < 12 {
		t.Fatalf("%d chapters: %v", len(files), err)
	}
	files = append(files, "../../README.md")
	commands, err := book.Read(files...)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range commands {
		root := (&app{}).root()
		root.InitDefaultCompletionCmd(one.Words[1:]...)
		c, rest, err := root.Find(one.Words[1:])
		if err != nil || c.Name() == "tinbell" {
			t.Errorf("%s: %q is no command: %v", one.Chapter, one.Line, err)
			continue
		}
		c.InitDefaultHelpFlag()
		rest = slices.DeleteFunc(rest, func(w string) bool { return w == "…" || w == "[NAME…]" })
		if err := c.ParseFlags(rest); err != nil && !strings.Contains(one.Line, "…") {
			t.Errorf("%s: %q: %v", one.Chapter, one.Line, err)
			continue
		}
		if c.HasSubCommands() && c.Name() != "score" && len(c.Flags().Args()) > 0 {
			t.Errorf("%s: %q: %s has no command %q", one.Chapter, one.Line, c.Name(), c.Flags().Args()[0])
		}
	}
	for _, file := range files {
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range linked.FindAllStringSubmatch(string(content), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), m[1])); err != nil && !strings.HasPrefix(m[1], "/") {
				t.Errorf("%s: the link to %s leads nowhere", filepath.Base(file), m[1])
			}
		}
	}
	if len(commands) < 100 {
		t.Errorf("only %d commands were found", len(commands))
	}
}
