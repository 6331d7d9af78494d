package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/flat"
	"tinbell/internal/words"
)

// exporting is a command that writes records to a file.
type exporting struct {
	format, file string
	query        url.Values
	times        map[string]*string // parameters that are times
	texts        map[string]*string
}

// export makes a command that writes what an address of the service answers; of an
// argument, path holds its place as %s.
func (a *app) export(use, short, path, example string, args int, more func(c *cobra.Command, x *exporting)) *cobra.Command {
	x := &exporting{query: url.Values{}, times: map[string]*string{}, texts: map[string]*string{}}
	c := &cobra.Command{Use: use, Short: short, Example: example, Args: exactly(args, strings.TrimPrefix(use, "export")),
		Long: short + ".\n\nWritten are raw values, times as RFC 3339 in UTC, one column a figure. The format follows from\nthe file's ending, or --format says it; CSV if nothing does.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				path = fmt.Sprintf(path, url.PathEscape(args[0]))
			}
			return a.exported(c, path, x)
		}}
	c.Flags().StringVar(&x.format, "format", "", "csv, ndjson or parquet")
	c.Flags().StringVar(&x.file, "file", "", "write to FILE.csv, FILE.ndjson or FILE.parquet instead of the screen")
	if more != nil {
		more(c, x)
	}
	return c
}

// time lets a parameter be a time, or how long ago.
func (x *exporting) time(c *cobra.Command, name, help string) {
	x.times[name] = c.Flags().String(name, "", help+": a time, or how long ago")
}

func (x *exporting) text(c *cobra.Command, name, help string) {
	x.texts[name] = c.Flags().String(name, "", help)
}

// spanned is what has a beginning and an end.
func spanned(c *cobra.Command, x *exporting) {
	x.time(c, "from", "start")
	x.time(c, "to", "end")
}

func (a *app) exported(c *cobra.Command, path string, x *exporting) error {
	now := time.Now()
	for name, text := range x.times {
		at, err := ago(*text, now)
		if err != nil {
			return err
		}
		if !at.IsZero() {
			x.query.Set(name, at.UTC().Format(time.RFC3339))
		}
	}
	for name, text := range x.texts {
		if *text != "" {
			x.query.Set(name, *text)
		}
	}
	format := or(x.format, strings.TrimPrefix(filepath.Ext(x.file), "."))
	switch {
	case format == "" && a.output == "json" || format == "json" || format == "jsonl":
		format = string(flat.NDJSON)
	case format == "":
		format = string(flat.CSV)
	case format != string(flat.CSV) && format != string(flat.NDJSON) && format != string(flat.Parquet):
		return wrongUsage{fmt.Errorf("format %q: allowed are csv, ndjson and parquet", format)}
	}
	x.query.Set("format", format)
	between := "?"
	if strings.Contains(path, "?") {
		between = "&"
	}
	path += between + x.query.Encode()
	if x.file == "" {
		if format == string(flat.Parquet) && terminal(a.out) {
			return wrongUsage{errors.New("Parquet is nothing to read on a screen: give --file FILE.parquet")}
		}
		return a.client().Fetch(c.Context(), path, a.out)
	}
	part := x.file + ".part"
	file, err := os.Create(part)
	if err != nil {
		return err
	}
	err = errors.Join(a.client().Fetch(c.Context(), path, file), file.Close())
	if err != nil {
		os.Remove(part)
		return err
	}
	if err := os.Rename(part, x.file); err != nil {
		return err
	}
	info, err := os.Stat(x.file)
	if err == nil {
		a.say("Written to %s, %s.", x.file, words.Bytes(float64(info.Size())))
	}
	return err
}
