package cli

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/logs"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) logPush() *cobra.Command {
	var o struct{ log, dataset, format, source string }
	c := &cobra.Command{Use: "push FILE|-…", Short: "Count the lines of files or standard input (plain or NDJSON, gzip too) by what they say",
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
				if err := a.pushLog(c, name, o.log, o.dataset, o.format, o.source); err != nil {
					return err
				}
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&o.log, "log", "", "name of the log")
	f.StringVar(&o.dataset, "dataset", "", "whose loaders write it; needed once")
	f.StringVar(&o.format, "format", "", "text or ndjson; by the file's name if left out")
	f.StringVar(&o.source, "source", "", "what the file is known by; its name and first line if left out. Of standard input all lines count if left out")
	return c
}

func (a *app) pushLog(c *cobra.Command, name, log, dataset, format, source string) error {
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
	q := url.Values{"log": {log}}
	for key, v := range map[string]string{"dataset": dataset, "source": source} {
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
		{r.Again, "had been counted before"}, {r.Traces, "belong to the line before them, as of a trace"}, {r.Cut, "are longer than 64 kB, and cut"},
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

func (a *app) logSet() *cobra.Command {
	var keep, rare, normal string
	var watch []string
	var off bool
	c := &cobra.Command{Use: "set NAME", Short: "Say how many lines are kept of each sentence, and of which severities a new one is told", Args: exactly(1, "NAME"),
		Long: `A watched log tells when it says what it never said: a sentence of these severities that
came first now, unlike all that was said before, in a log where such are no more frequent
than --rare by its own past. A log is known for a week before that can be said of it at
once in 14 days. After --normal a new sentence is part of what is usual.`,
		Example: "  tinbell log set gates-loader --watch error,fatal --rare 14d\n  tinbell log set gates-loader --keep-samples none\n  tinbell log set gates-loader --no-watch",
		RunE: func(c *cobra.Command, args []string) error {
			change := map[string]any{}
			if c.Flags().Changed("keep-samples") {
				n, err := strconv.Atoi(keep)
				if keep == "none" {
					n, err = 0, nil
				}
				if err != nil || n < 0 || n > 20 {
					return wrongUsage{fmt.Errorf("--keep-samples %q: none, or 1 to 20", keep)}
				}
				change["keep_samples"] = n
			}
			if off {
				watch = []string{}
			}
			if off || len(watch) > 0 {
				change["watched"] = watch
			}
			for key, text := range map[string]string{"rare_seconds": rare, "normal_seconds": normal} {
				if text == "" {
					continue
				}
				n, err := seconds(text)
				if err != nil {
					return wrongUsage{err}
				}
				change[key] = n
			}
			if len(change) == 0 {
				return wrongUsage{errors.New("nothing to set: --keep-samples, --watch, --no-watch, --rare or --normal")}
			}
			var log record.Log
			if err := a.client().Send(c.Context(), "PATCH", "/logs/"+url.PathEscape(args[0]), change, &log); err != nil {
				return err
			}
			if done, err := a.data(log); done {
				return err
			}
			a.say("%s keeps %s of each sentence; %s.", log.Name, words.Plural(log.KeepSamples, "line"), watched(log))
			return nil
		}}
	f := c.Flags()
	f.StringVar(&keep, "keep-samples", "", "none, or how many lines (20 at most)")
	f.StringSliceVar(&watch, "watch", nil, "severities of which a new sentence is told, as error,fatal")
	f.BoolVar(&off, "no-watch", false, "tell of none")
	f.StringVar(&rare, "rare", "", "tell where such come no more often than once in so long")
	f.StringVar(&normal, "normal", "", "after so long a new sentence is part of what is usual")
	return c
}

func watched(log record.Log) string {
	if len(log.Watched) == 0 {
		return "what it never said is not told"
	}
	return fmt.Sprintf("a new sentence of %s is told where such come no more often than once in %s", words.List(log.Watched), words.Duration(time.Duration(log.RareSeconds)*time.Second))
}

func (a *app) logUsual() *cobra.Command {
	return a.logSay("usual", "Say that a sentence is no news", "it is news after all", "usual",
		func(name string, number int) string {
			return fmt.Sprintf("Sentence %d of %s is no news.", number, name)
		},
		func(name string, number int) string {
			return fmt.Sprintf("Sentence %d of %s is news, if it came lately.", number, name)
		})
}

func (a *app) logFollow() *cobra.Command {
	return a.logSay("follow", "Make the lines of a sentence a series of their own, which a monitor can watch", "follow it no longer", "followed",
		func(name string, number int) string {
			return fmt.Sprintf("Its lines are the series “sentence %d” of the metric %s within a minute: tinbell monitor add NAME %[2]s", number, logs.Sentences(name))
		},
		func(name string, number int) string {
			return fmt.Sprintf("Sentence %d of %s is followed no longer; its samples stay.", number, name)
		})
}

// logSay makes a command that says one thing of a sentence, or takes it back.
func (a *app) logSay(use, short, back, field string, said, taken func(name string, number int) string) *cobra.Command {
	var not bool
	c := &cobra.Command{Use: use + " NAME NUMBER", Short: short, Args: exactly(2, "NAME NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[1])
			if err != nil {
				return wrongUsage{fmt.Errorf("%s: the number of a sentence, as tinbell log templates lists it", args[1])}
			}
			if err := a.client().Send(c.Context(), "PATCH", fmt.Sprintf("/logs/%s/templates/%d", url.PathEscape(args[0]), number), map[string]bool{field: !not}, nil); err != nil {
				return err
			}
			if not {
				said = taken
			}
			a.say("%s", said(args[0], number))
			return nil
		}}
	c.Flags().BoolVar(&not, "not", false, back)
	return c
}

func (a *app) logAdd() *cobra.Command {
	var dataset string
	c := &cobra.Command{Use: "add NAME", Short: "Make a log before its first line comes, as for a service that sends OTLP logs", Args: exactly(1, "NAME"),
		Example: "  tinbell log add gates-api --dataset raw.gate_events",
		RunE: func(c *cobra.Command, args []string) error {
			if dataset == "" {
				return wrongUsage{errors.New("--dataset: whose loaders write it")}
			}
			var log record.Log
			if err := a.client().Send(c.Context(), "PUT", "/logs/"+url.PathEscape(args[0]), map[string]string{"dataset": dataset}, &log); err != nil {
				return err
			}
			if done, err := a.data(log); done {
				return err
			}
			a.say("Log %s of %s is there. OTLP logs of the service of that name are counted, and what tinbell log push sends.", log.Name, log.Dataset)
			return nil
		}}
	c.Flags().StringVar(&dataset, "dataset", "", "whose loaders write it")
	return c
}

func (a *app) logRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a log with all that was counted of it; its metric stays", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/logs/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Log %s is removed. Its metric log-%s stays with its samples.", args[0], args[0])
			return nil
		}}
}
