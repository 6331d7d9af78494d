package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// build is what a program was made from.
type build struct {
	Revision string `json:"revision"`
	Time     string `json:"time"`
	Changed  bool   `json:"changed" doc:"from files that differ from the revision"`
	Go       string `json:"go"`
	System   string `json:"system"`
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Say which build this is", Args: exactly(0, "nothing"),
		RunE: func(*cobra.Command, []string) error {
			b := build{Revision: "unknown", Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, s := range info.Settings {
					switch s.Key {
					case "vcs.revision":
						b.Revision = s.Value[:min(12, len(s.Value))]
					case "vcs.time":
						b.Time = s.Value
					case "vcs.modified":
						b.Changed = s.Value == "true"
					}
				}
			}
			if done, err := a.data(b); done {
				return err
			}
			changed := ""
			if b.Changed {
				changed = ", changed since"
			}
			a.printf("tinbell %s%s, of %s, %s, %s\n", b.Revision, changed, or(b.Time, "an unknown time"), b.Go, b.System)
			return nil
		}}
}
