package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"github.com/spf13/cobra"

	"tinbell/core/template"
	"tinbell/internal/words"
)

// Sentence is a template as it is listed.
type Sentence struct {
	ID       int     `json:"id"`
	Template string  `json:"template"`
	Lines    int64   `json:"lines"`
	Share    float64 `json:"share"`
}

func (a *app) logCommand() *cobra.Command {
	return group("log", "What log lines say, counted by their sentences",
		a.logAdd(), a.logPush(), a.logList(), a.logFiles(), a.logFind(), a.logTemplates(), a.logShow(), a.logGoesWith(),
		a.logLines(), a.logCompare(),
		a.logSet(), a.logUsual(), a.logFollow(), a.logJoin(), a.logHold(), a.logVary(), a.logRemove(), a.logMine())
}

func (a *app) logMine() *cobra.Command {
	var most, atLeast, limit int
	c := &cobra.Command{Use: "mine FILE|-", Short: "Find the sentences of the lines of a file, gzip or not; without a service",
		Args: exactly(1, "FILE|-"),
		Long: `Like lines become one template: its constant words stay, its variable parts are marked by
what they look like (number, time, identifier, address, path, quoted text, list). A word
varies once more than eight stand in its place. One pass; memory by templates.`,
		Example: "  tinbell log mine loader.log\n  zcat old.log.gz | tinbell log mine - --limit 50",
		RunE: func(c *cobra.Command, args []string) error {
			if most < 1 || most > 1_000_000 {
				return wrongUsage{fmt.Errorf("--most %d: allowed are 1 to 1,000,000 templates", most)}
			}
			m := template.NewMiner(most)
			lines, cut, err := eachLine(c, args[0], func(line []byte) { m.Take(line) })
			if errors.Is(err, fs.ErrNotExist) {
				return missingFile{err}
			}
			if err != nil {
				return err
			}
			list := slices.DeleteFunc(m.Templates(), func(t *template.Template) bool { return t.Lines < int64(atLeast) })
			slices.SortStableFunc(list, func(x, y *template.Template) int { return int(y.Lines - x.Lines) })
			found := []Sentence{}
			l := listing{head: []string{"lines", "share", "template"}, right: []int{1, 2}, raw: &found,
				none: "No line has anything to say."}
			for _, t := range list {
				s := Sentence{t.ID, t.String(), t.Lines, float64(t.Lines) / float64(max(lines, 1))}
				found = append(found, s)
				if limit == 0 || len(l.rows) < limit {
					l.rows = append(l.rows, []string{words.Number(float64(s.Lines)), words.Percent(s.Share), s.Template})
				}
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s of %s.", words.Plural(len(found), "template"), words.Plural(lines, "line"))
			if more := len(found) - len(l.rows); more > 0 {
				a.say("%d more: --limit 0 lists all.", more)
			}
			if n := m.Overflow(); n > 0 {
				a.say("%s came after there were %s templates, and are not told apart: --most keeps more.",
					words.Plural(int(n), "line"), words.Number(float64(most)))
			}
			if cut > 0 {
				a.say("%s over %s were cut.", words.Plural(cut, "line"), words.Bytes(longestLine))
			}
			return nil
		}}
	f := c.Flags()
	f.IntVar(&most, "most", 10_000, "templates kept; lines of further ones are counted together")
	f.IntVar(&atLeast, "at-least", 1, "templates with at least so many lines")
	f.IntVar(&limit, "limit", 40, "list so many; 0 for all")
	return c
}

// longestLine is how much of a line is read.
const longestLine = 64 << 10

// eachLine reads a file, standard input for -, line by line; what ends in .gz is unpacked.
// Lines that are too long are cut, and counted.
func eachLine(c *cobra.Command, name string, do func([]byte)) (lines, cut int, err error) {
	from, _, err := opened(c, name)
	if err != nil {
		return 0, 0, err
	}
	defer from.Close()
	in := bufio.NewReaderSize(from, longestLine)
	rest := false // of a line that was cut
	for {
		line, err := in.ReadSlice('\n')
		if len(line) > 0 && !rest {
			lines++
			do(line)
		}
		long := errors.Is(err, bufio.ErrBufferFull)
		if long && !rest {
			cut++
		}
		rest = long
		switch {
		case errors.Is(err, io.EOF):
			return lines, cut, nil
		case err != nil && !long:
			return lines, cut, fmt.Errorf("%s: %w", name, err)
		}
	}
}
