package cli

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/collect"
)

func (a *app) sampleCommand() *cobra.Command {
	var strict bool
	var format string
	push := &cobra.Command{Use: "push [FILE…]", Short: "Push samples from files or standard input (NDJSON or CSV, gzip too)",
		Example: "  tinbell sample push dock-queue.ndjson\n  zcat old.csv.gz | tinbell sample push --format csv",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				args = []string{"-"}
			}
			for _, name := range args {
				if err := a.push(c, name, format, strict); err != nil {
					return err
				}
			}
			return nil
		}}
	push.Flags().BoolVar(&strict, "strict", false, "store nothing if any line is bad")
	push.Flags().StringVar(&format, "format", "", "ndjson or csv; by the file's name if left out")
	return group("sample", "Pushed samples", push)
}

func (a *app) push(c *cobra.Command, name, format string, strict bool) error {
	var in io.Reader = c.InOrStdin()
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	plain := strings.TrimSuffix(name, ".gz")
	if plain != name {
		unzipped, err := gzip.NewReader(in)
		if err != nil {
			return fmt.Errorf("%s is not gzip: %w", name, err)
		}
		in = unzipped
	}
	if format == "" && filepath.Ext(plain) == ".csv" {
		format = "csv"
	}
	media := "application/x-ndjson"
	if format == "csv" {
		media = "text/csv"
	}
	var r collect.Receipt
	path := "/samples"
	if strict {
		path += "?strict=true"
	}
	if err := a.client().Stream(c.Context(), "POST", path, media, in, &r); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if done, err := a.data(r); done {
		return err
	}
	a.say("%s: %d samples stored, %d of them new or corrected, %d lines refused", name, r.Accepted, r.Changed, r.Refused)
	for _, p := range r.Problems {
		fmt.Fprintf(a.errors, "  line %d: %s\n", p.Line, p.Reason)
	}
	if r.Refused > 0 {
		return fmt.Errorf("%d lines were refused", r.Refused)
	}
	return nil
}
