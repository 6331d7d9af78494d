package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/logs"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// logSettings are the options of log set.
type logSettings struct {
	keep, rare, normal, files string
	watch, tell, by, mask     []string
	off                       bool
}

// change gives what is to be set, of the options that were given.
func (o *logSettings) change(c *cobra.Command) (map[string]any, error) {
	given := c.Flags().Changed
	change := map[string]any{}
	if given("keep-samples") {
		n, err := strconv.Atoi(o.keep)
		if o.keep == "none" {
			n, err = 0, nil
		}
		if err != nil || n < 0 || n > 20 {
			return nil, fmt.Errorf("--keep-samples %q: none, or 1 to 20", o.keep)
		}
		change["keep_samples"] = n
	}
	if given("watch") {
		change["watched"] = o.watch
	}
	if o.off {
		change["watched"] = []string{}
	}
	for name, list := range map[string][]string{"tell": o.tell, "by": o.by, "mask": o.mask} {
		if !given(name) {
			continue
		}
		if len(list) == 1 && list[0] == "none" {
			list = []string{}
		}
		change[map[string]string{"tell": "kinds", "by": "by", "mask": "masked"}[name]] = list
	}
	if given("files") {
		source, pattern, ok := strings.Cut(o.files, ":")
		if o.files == "none" {
			source, pattern, ok = "", "", true
		}
		if !ok {
			return nil, fmt.Errorf("--files %q: SOURCE:PATTERN, as landing:gates/*.log*, or none", o.files)
		}
		change["source"], change["pattern"] = source, pattern
	}
	for key, text := range map[string]string{"rare_seconds": o.rare, "normal_seconds": o.normal} {
		if text == "" {
			continue
		}
		n, err := seconds(text)
		if err != nil {
			return nil, err
		}
		change[key] = n
	}
	if len(change) == 0 {
		return nil, errors.New("nothing to set: --keep-samples, --watch, --no-watch, --tell, --rare, --normal, --files, --by or --mask")
	}
	return change, nil
}

func (a *app) logSet() *cobra.Command {
	var o logSettings
	c := &cobra.Command{Use: "set NAME",
		Short: "Say what is told of a log, which files of it are followed, what is kept, masked and counted apart",
		Args:  exactly(1, "NAME"),
		Long: `A watched log tells when it says what it never said (a sentence of these severities,
unlike all that was said before), when a sentence comes far more often than it does, and
when one that always came has stopped. All that is told together comes no more often than
once in --rare, by the log's own past: half of that is for news, a quarter for bursts and
a quarter for sentences that vanish. After --normal a new sentence is part of what is usual.`,
		Example: "  tinbell log set gates-loader --watch error,fatal --rare 14d\n  tinbell log set gates-loader --keep-samples none --mask passenger,/berth-\\d+/\n  tinbell log set gates-loader --by host --files landing:gates/*.log*",
		RunE: func(c *cobra.Command, args []string) error {
			change, err := o.change(c)
			if err != nil {
				return wrongUsage{err}
			}
			var log record.Log
			if err := a.client().Send(c.Context(), "PATCH", "/logs/"+url.PathEscape(args[0]), change, &log); err != nil {
				return err
			}
			if done, err := a.data(log); done {
				return err
			}
			a.say("%s keeps %s of each sentence; %s.", log.Name, words.Plural(log.KeepSamples, "line"), watched(log))
			if log.Source != "" {
				a.say("Followed are the files %s of %s: tinbell log files %s.", log.Pattern, log.Source, log.Name)
			}
			for _, name := range log.By {
				a.say("Lines are counted by %s: the metric %s.", name, logs.By(log.Name, name))
			}
			if len(log.Masked) > 0 {
				a.say("Masked is also what follows or fits %s.", words.List(log.Masked))
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&o.keep, "keep-samples", "", "none, or how many lines (20 at most)")
	f.StringSliceVar(&o.watch, "watch", nil, "severities of which a new sentence is told, as error,fatal")
	f.BoolVar(&o.off, "no-watch", false, "tell nothing")
	f.StringSliceVar(&o.tell, "tell", nil, "what is told: new, burst, vanished")
	f.StringVar(&o.rare, "rare", "", "all that is told comes no more often than once in so long")
	f.StringVar(&o.normal, "normal", "", "after so long a new sentence is part of what is usual")
	f.StringVar(&o.files, "files", "", "follow the files of a folder, as SOURCE:PATTERN; or none")
	f.StringSliceVar(&o.by, "by", nil, "attributes by which lines are counted apart, or none")
	f.StringSliceVar(&o.mask, "mask", nil, "words whose values are masked, expressions between slashes; or none")
	return c
}

func watched(log record.Log) string {
	if len(log.Watched) == 0 {
		return "nothing is told of it"
	}
	said := map[string]string{"new": "new sentences of " + words.List(log.Watched), "burst": "bursts",
		"vanished": "sentences that have stopped"}
	var kinds []string
	for _, k := range log.Kinds {
		kinds = append(kinds, said[k])
	}
	return fmt.Sprintf("%s are told, together no more often than once in %s", words.List(kinds),
		words.Duration(time.Duration(log.RareSeconds)*time.Second))
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
	return a.logSay("follow", "Make the lines of a sentence a series of their own, which a monitor can watch",
		"follow it no longer", "followed",
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
			if err := a.client().Send(c.Context(), "PATCH", fmt.Sprintf("/logs/%s/templates/%d", url.PathEscape(args[0]), number),
				map[string]bool{field: !not}, nil); err != nil {
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
	var o logOwner
	c := &cobra.Command{Use: "add NAME", Short: "Make a log before its first line comes, as for a service that sends OTLP logs",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell log add gates-api --dataset raw.gate_events\n  tinbell log add refunds-loader --job load_refunds\n  tinbell log add fares-api --service fares-api",
		RunE: func(c *cobra.Command, args []string) error {
			if (o == logOwner{}) {
				return wrongUsage{errors.New("--dataset, --job or --service: whose lines it holds")}
			}
			var log record.Log
			body := map[string]string{"dataset": o.dataset, "job": o.job, "service": o.service}
			if err := a.client().Send(c.Context(), "PUT", "/logs/"+url.PathEscape(args[0]), body, &log); err != nil {
				return err
			}
			if done, err := a.data(log); done {
				return err
			}
			a.say("Log %s of %s is there. OTLP logs of the service of that name are counted, and what tinbell log push sends.",
				log.Name, log.Dataset)
			return nil
		}}
	o.bind(c)
	return c
}

func (a *app) logRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a log with all that was counted of it; its metric stays",
		Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/logs/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Log %s is removed. Its metric log-%s stays with its samples.", args[0], args[0])
			return nil
		}}
}
