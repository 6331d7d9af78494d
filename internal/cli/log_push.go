package cli

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/logs"
	"tinbell/internal/words"
)

func (a *app) logPush() *cobra.Command {
	var o logFile
	c := &cobra.Command{Use: "push FILE|-…",
		Short: "Count the lines of files or standard input (plain or NDJSON, gzip too) by what they say",
		Long: `Counts lines by their sentences; the lines themselves are not kept, but a few of each
sentence with secrets masked. A file that is pushed again as it grows has its new lines
counted alone: it is known by its name and its first line. A log that is new needs the
dataset whose loaders write it.`,
		Example: "  tinbell log push loader.log --log gates-loader --dataset raw.gate_events\n  zcat old.log.gz | tinbell log push - --log gates-loader",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return wrongUsage{errors.New("give at least one FILE, or - for standard input")}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if o.log == "" {
				return wrongUsage{errors.New("--log: which log the lines are of")}
			}
			if o.format != "" && o.format != "text" && o.format != "ndjson" {
				return wrongUsage{fmt.Errorf("--format %s: text or ndjson", o.format)}
			}
			for _, name := range args {
				if err := a.pushLog(c, name, o); err != nil {
					return err
				}
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&o.log, "log", "", "name of the log")
	o.owner.bind(c)
	f.StringVar(&o.format, "format", "", "text or ndjson; by the file's name if left out")
	f.StringVar(&o.source, "source", "",
		"what the file is known by; its name and first line if left out. Of standard input all lines count if left out")
	return c
}

// logFile says what the lines of a file are.
type logFile struct {
	log, format, source string
	owner               logOwner
}

// logOwner says whose lines a log holds.
type logOwner struct{ dataset, job, service string }

func (o *logOwner) bind(c *cobra.Command) {
	c.Flags().StringVar(&o.dataset, "dataset", "", "whose loaders write it; it, a job or a service is needed once")
	c.Flags().StringVar(&o.job, "job", "", "that writes it; the dataset is the one that the job writes")
	c.Flags().StringVar(&o.service, "service", "", "that writes it; it is watched as the dataset service.NAME")
}

func (a *app) pushLog(c *cobra.Command, name string, o logFile) error {
	source, format := o.source, o.format
	file, plain, err := opened(c, name)
	if err != nil {
		return err
	}
	defer file.Close()
	var in io.Reader = file
	if source == "" && name != "-" {
		if in, source, err = knownBy(in, plain); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	media := "text/plain"
	if ext := filepath.Ext(plain); format == "ndjson" || format == "" && (ext == ".ndjson" || ext == ".json") {
		media = "application/x-ndjson"
	}
	q := url.Values{"log": {o.log}}
	for key, v := range map[string]string{"dataset": o.owner.dataset, "job": o.owner.job, "service": o.owner.service, "source": source} {
		if v != "" {
			q.Set(key, v)
		}
	}
	var r logs.LogReceipt
	if err := a.client().Stream(c.Context(), "POST", "/logs?"+q.Encode(), media, in, &r); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if done, err := a.data(r); done {
		return err
	}
	a.say("%s: %s counted, %s.", name, words.Plural(int(r.Lines), "line"), words.Plural(r.New, "new sentence"))
	for _, also := range []struct {
		n    int64
		what string
	}{
		{r.Again, "had been counted before"}, {r.Traces, "belong to the line before them, as of a trace"},
		{r.Cut, "are longer than 64 kB, and cut"},
		{r.Overflow, "came after there were as many sentences as are kept, and are counted together"},
	} {
		if also.n > 0 {
			a.say("  %s %s", words.Plural(int(also.n), "line"), also.what)
		}
	}
	for _, p := range r.Problems {
		fmt.Fprintf(a.errors, "  line %d: %s\n", p.Line, p.Reason)
	}
	if r.Refused > 0 {
		return fmt.Errorf("%s refused", words.Plural(int(r.Refused), "line"))
	}
	return nil
}

// knownBy gives what a file is known by as it grows: its place and its first line. One
// that was begun anew under the same name is another.
func knownBy(in io.Reader, name string) (io.Reader, string, error) {
	buffered := bufio.NewReaderSize(in, longestLine)
	head, err := buffered.Peek(longestLine)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, "", err
	}
	first, _, _ := strings.Cut(string(head), "\n")
	place, err := filepath.Abs(name)
	if err != nil {
		return nil, "", err
	}
	if len(place) > 400 {
		place = place[len(place)-400:]
	}
	sum := sha256.Sum256([]byte(first))
	return buffered, fmt.Sprintf("%s %x", place, sum[:6]), nil
}
