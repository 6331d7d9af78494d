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
	in, plain, err := opened(c, name)
	if err != nil {
		return err
	}
	defer in.Close()
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

// opened gives what a file holds, unpacked where its name ends in .gz, and its name
// without that; - is standard input.
func opened(c *cobra.Command, name string) (in io.ReadCloser, plain string, err error) {
	in = io.NopCloser(c.InOrStdin())
	if name != "-" {
		if in, err = os.Open(name); err != nil {
			return nil, "", err
		}
	}
	plain = strings.TrimSuffix(name, ".gz")
	if plain == name {
		return in, plain, nil
	}
	unzipped, err := gzip.NewReader(in)
	if err != nil {
		in.Close()
		return nil, "", wrongUsage{fmt.Errorf("%s is not gzip: %w", name, err)}
	}
	return struct {
		io.Reader
		io.Closer
	}{unzipped, in}, plain, nil
}
