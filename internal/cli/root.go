// Package cli translates commands into requests and answers into tables. It
// decides nothing.
package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"tinbell/internal/client"
	"tinbell/internal/flat"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Exit codes.
const (
	exitDone    = 0
	exitFailed  = 1
	exitUsage   = 2
	exitMissing = 3
	exitGate    = 4
)

// errGate says that a required figure was not reached.
var errGate = errors.New("a requirement was not met")

// wrongUsage marks errors in how a command was called.
type wrongUsage struct{ error }

// app is what all commands share.
type app struct {
	server  string
	token   string
	output  string
	quiet   bool
	dir     string
	zone    string // all times are written by its clocks; empty: each by its dataset's
	utc     bool
	wide    bool
	secrets string     // folder whose files ${NAME} stands for; empty: the environment alone
	only    url.Values // what a list is narrowed to, by what it is sorted, and how much of it
	out     io.Writer
	errors  io.Writer
}

// Main runs the command line and gives the exit code.
func Main(args []string, out, problems io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{out: out, errors: problems}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(problems)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	var usage wrongUsage
	switch {
	case errors.Is(err, errGate):
		return exitGate
	case errors.As(err, &usage):
		fmt.Fprintf(problems, "%v\nSee '--help' of the command.\n", err)
		return exitUsage
	case client.Wrong(err) || errors.As(err, new(record.Invalid)):
		fmt.Fprintln(problems, err)
		return exitUsage
	case client.Missing(err) || errors.As(err, new(record.NotFound)) || errors.As(err, new(missingFile)) || errors.Is(err, fs.ErrNotExist):
		fmt.Fprintln(problems, err)
		return exitMissing
	}
	fmt.Fprintln(problems, err)
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "tinbell",
		Short: "Watches tables and ingestion streams, and scores its own alerts",
		Long: `Tin Bell watches the tables and ingestion streams of a warehouse: row volume,
freshness, null share. It fits a band to each series, raises alerts at a false-
alarm budget that you state, takes your verdicts, and scores itself.`,
		SilenceUsage: true, SilenceErrors: true, Args: cobra.ArbitraryArgs, RunE: only,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.connect() },
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return wrongUsage{err} })
	flags := root.PersistentFlags()
	flags.StringVar(&a.server, "server", "", "address of the service (TINBELL_SERVER; default http://127.0.0.1:7411)")
	flags.StringVar(&a.token, "token", "", "token to sign in with (TINBELL_TOKEN)")
	flags.StringVarP(&a.output, "output", "o", "table", "table, json or csv")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "say nothing but the answer")
	flags.StringVar(&a.zone, "zone", "",
		"write all times by the clocks of this zone, as America/Halifax; each by its dataset's if left out")
	flags.BoolVar(&a.utc, "utc", false, "write all times in UTC")
	flags.BoolVar(&a.wide, "wide", false, "do not cut tables to the width of the terminal")
	flags.StringVar(&a.dir, "dir", "", "data directory of a private service (TINBELL_DIR; default .tinbell, of the demo .demo)")
	root.AddCommand(a.serveCommand(), a.demoCommand(), a.sourceCommand(), a.datasetCommand(), a.metricCommand(),
		a.sampleCommand(), a.taskCommand(), a.jobCommand(), a.configCommand(),
		a.monitorCommand(), a.seriesCommand(), a.groupCommand(), a.alertCommand(), a.incidentCommand(), a.calendarCommand(),
		a.slaCommand(), a.channelCommand(), a.routeCommand(), a.messageCommand(), a.mailboxCommand(), a.labelCommand(),
		a.proposalCommand(), a.filterCommand(), a.scoreCommand(), a.driftCommand(), a.tokenCommand(), a.accountCommand(),
		a.teamCommand(), a.sessionCommand(),
		a.reconcileCommand(), a.auditCommand(), a.benchCommand(), a.openAPICommand(), a.noteCommand(), a.tagCommand(),
		a.findCommand(), a.outlierCommand(), a.consistencyCommand(), a.forecastCommand(), a.figuresCommand(), a.logCommand(),
		a.doctorCommand(), a.secretCommand(), a.backupCommand(), a.restoreCommand(), a.partitionCommand(), a.versionCommand())
	a.narrow(root)
	a.complete(root, "")
	return root
}

// remembered is what a private service leaves in its directory for commands
// that run beside it.
type remembered struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func (a *app) connect() error {
	switch a.output {
	case "table", "json", "csv":
	default:
		return wrongUsage{fmt.Errorf("--output %s: allowed are table, json and csv", a.output)}
	}
	if a.utc {
		a.zone = "UTC"
	}
	if _, err := time.LoadLocation(a.zone); err != nil {
		return wrongUsage{fmt.Errorf("--zone %s: the tz database does not know it; write it as America/Halifax", a.zone)}
	}
	first := func(values ...string) string {
		for _, v := range values {
			if v != "" {
				return v
			}
		}
		return ""
	}
	a.dir = first(a.dir, os.Getenv("TINBELL_DIR"))
	var known remembered
	for _, dir := range []string{a.dir, ".demo", ".tinbell"} {
		if content, err := os.ReadFile(filepath.Join(dir, "client.json")); dir != "" && err == nil && known.Server == "" {
			json.Unmarshal(content, &known)
		}
	}
	a.server = first(a.server, os.Getenv("TINBELL_SERVER"), known.Server, "http://127.0.0.1:7411")
	a.token = first(a.token, os.Getenv("TINBELL_TOKEN"), known.Token)
	return nil
}

func (a *app) client() *client.Client {
	c := client.New(a.server, a.token)
	c.Only = a.only
	return c
}

// listing is an answer in rows. Raw is what --output json gives.
type listing struct {
	title string // said above it where several follow each other
	head  []string
	rows  [][]string
	right []int // columns with figures, 1-based
	raw   any
	data  any      // what CSV gives, where raw holds more than one list
	none  string   // said instead of an empty table
	keep  []string // columns that stay when there is little room, by what stands above them
}

func (a *app) show(l listing) error {
	switch a.output {
	case "json":
		return a.json(l.raw)
	case "csv":
		head, rows, ok := flat.Table(or(l.data, l.raw))
		if !ok { // the answer is no list
			head, rows = l.head, l.rows
			if names, row, is := flat.One(l.raw); is {
				head, rows = names, [][]string{row}
			}
		}
		return a.csv(head, rows...)
	}
	if len(l.rows) == 0 {
		a.say("%s", l.none)
		return nil
	}
	for _, row := range l.rows {
		for i := range row {
			row[i] = words.Plain(row[i])
		}
	}
	l, gone := l.fit(a.width())
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "  "
	t.SetStyle(style)
	head := make(table.Row, len(l.head))
	for i, h := range l.head {
		head[i] = h
	}
	t.AppendHeader(head)
	var columns []table.ColumnConfig
	for _, n := range l.right {
		columns = append(columns, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	coloured := a.coloured()
	for _, fields := range l.rows {
		row := make(table.Row, len(fields))
		for i, f := range fields {
			row[i] = f
			if colour, known := stateColours[f]; known && coloured {
				row[i] = colour.Sprint(f)
			}
		}
		t.AppendRow(row)
	}
	t.Render()
	if gone > 0 {
		a.say("%s left out to fit: --wide shows all.", words.Plural(gone, "column"))
	}
	return nil
}

// data writes one thing for programs, where that is what was asked for: as JSON, or as one
// line of CSV with a column a figure.
func (a *app) data(v any) (done bool, err error) {
	switch a.output {
	case "json":
		return true, a.json(v)
	case "csv":
		head, row, ok := flat.One(v)
		if !ok {
			return true, wrongUsage{fmt.Errorf("--output csv: this is no table; json has it")}
		}
		return true, a.csv(head, row)
	}
	return false, nil
}

func (a *app) csv(head []string, rows ...[]string) error {
	w := csv.NewWriter(a.out)
	w.Write(head)
	w.WriteAll(rows)
	return w.Error()
}

// stateColours are those of words that say how something stands, on a terminal.
var stateColours = map[string]text.Color{"critical": text.FgRed, "failed": text.FgRed, "overdue": text.FgRed,
	"missed": text.FgRed, "fault": text.Bold, "warning": text.FgYellow, "planned": text.FgMagenta, "noise": text.Faint, "–": text.Faint}

// coloured tells whether there is a terminal that wants colour (no-color.org).
func (a *app) coloured() bool { return terminal(a.out) && os.Getenv("NO_COLOR") == "" }

func (a *app) json(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// say tells a person what happened; scripts that read the answer never see it.
func (a *app) say(format string, args ...any) {
	if !a.quiet && a.output == "table" {
		a.printf(format+"\n", args...)
	}
}

// printf, println and print write text for people: what it quotes acts on no terminal.
func (a *app) printf(format string, args ...any) { a.print(fmt.Sprintf(format, args...)) }
func (a *app) println(args ...any)               { a.print(fmt.Sprintln(args...)) }
func (a *app) print(text string)                 { io.WriteString(a.out, words.Plain(text)) }

// bar draws progress on the error stream, if that is a terminal.
func (a *app) bar(what string) func(done, total int) {
	if a.quiet || !terminal(a.errors) {
		return func(int, int) {}
	}
	var bar *progressbar.ProgressBar
	return func(done, total int) {
		if total == 0 {
			return
		}
		if bar == nil {
			bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(a.errors), progressbar.OptionSetDescription(what),
				progressbar.OptionSetWidth(30), progressbar.OptionClearOnFinish(), progressbar.OptionSetPredictTime(false))
		}
		bar.ChangeMax(total)
		bar.Set(done)
		if done >= total {
			bar.Finish()
		}
	}
}

func terminal(w io.Writer) bool {
	f, isFile := w.(*os.File)
	if !isFile {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// group is a command that only holds others.
func group(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ArbitraryArgs, RunE: only}
	c.AddCommand(children...)
	return c
}

// only is what a command does that holds others: it lists them, and refuses what is none
// of them.
func only(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return c.Help()
	}
	c.SuggestionsMinimumDistance = 2
	text := fmt.Sprintf("there is no command %q", c.CommandPath()+" "+args[0])
	if like := c.SuggestionsFor(args[0]); len(like) > 0 {
		text += "; did you mean " + strings.Join(like, " or ") + "?"
	}
	return wrongUsage{errors.New(text)}
}

// exactly asks for n arguments.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != n {
			return wrongUsage{fmt.Errorf("%s given, wanted: %s", words.Plural(len(args), "argument"), what)}
		}
		return nil
	}
}
