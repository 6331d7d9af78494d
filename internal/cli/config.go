package cli

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/config"
	"tinbell/internal/httpapi"
	"tinbell/internal/words"
)

func (a *app) configCommand() *cobra.Command {
	var pruned bool
	var backfill string
	query := func() string {
		if pruned {
			return "?prune=true"
		}
		return ""
	}
	diff := &cobra.Command{Use: "diff DIR", Short: "Say what loading the files of a folder would change", Args: exactly(1, "DIR"), Example: "  tinbell config diff monitoring/",
		RunE: func(c *cobra.Command, args []string) error {
			_, _, err := a.configSend(c, args[0], "/config/diff"+query())
			return err
		}}
	load := &cobra.Command{Use: "load DIR", Short: "Put the files of a folder in force, all or nothing", Args: exactly(1, "DIR"),
		Long: "Reads all .yaml files of a folder and makes what is set up be as they say. Everything is checked first, new probes against their tables; then it is written in one go. What is set up and in no file stays, unless --prune says that it goes: of the kinds that the files hold, monitors retire with their past, and SLAs, routes, channels, calendars, comparisons and reconciliations are removed; sources, datasets and metrics hold samples and stay. 'config diff --prune' says what would go. Passwords are in no file: where a source says ${NAME}, the variable of that name is taken from the environment here, or the file of that name from the folder of --secrets, and without both the password that is kept.", Example: "  tinbell config load monitoring/",
		RunE: func(c *cobra.Command, args []string) error {
			documents, changes, err := a.configSend(c, args[0], "/config/load"+query())
			if err != nil {
				return err
			}
			return a.pastOf(c, documents, changes, backfill)
		}}
	load.Flags().StringVar(&backfill, "backfill", "", "measure the past of what is new, so far back, for example 90d; without it is said how")
	for _, c := range []*cobra.Command{diff, load} {
		c.Flags().BoolVar(&pruned, "prune", false, "what is in no file goes")
		c.Flags().StringVar(&a.secrets, "secrets", "", "folder with a file for each ${NAME} that is no variable of the environment")
	}
	save := &cobra.Command{Use: "save DIR", Short: "Write what is set up as files, one for each dataset", Args: exactly(1, "DIR"), Example: "  tinbell config save monitoring/",
		RunE: func(c *cobra.Command, args []string) error { return a.configSave(c, args[0]) }}
	schema := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of a document, for editors", Args: exactly(0, "nothing"), RunE: func(*cobra.Command, []string) error {
		encoded, err := json.MarshalIndent(config.Schema(), "", "  ")
		a.println(string(encoded))
		return err
	}}
	return group("config", "What is set up, as files", diff, load, save, schema)
}

// readConfig parses all files of a folder; all that is wrong is told at once.
func readConfig(dir string) (config.Documents, error) {
	var all config.Documents
	var wrong []string
	files := 0
	err := filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || filepath.Ext(path) != ".yaml" && filepath.Ext(path) != ".yml" {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		found, bad := config.Parse(path, content)
		for _, w := range bad {
			wrong = append(wrong, w.Error())
		}
		all.Join(found)
		return nil
	})
	switch {
	case err != nil:
		return all, err
	case len(wrong) > 0:
		return all, fmt.Errorf("nothing was sent:\n  %s", strings.Join(wrong, "\n  "))
	case files == 0:
		return all, fmt.Errorf("%s holds no .yaml file: write what is set up with 'tinbell config save %s'", dir, dir)
	}
	return all, nil
}

// pastOf measures the past of metrics that are new, or says how that is done: by dataset,
// so that what can shares a pass over its table.
func (a *app) pastOf(c *cobra.Command, documents config.Documents, changes []config.Change, since string) error {
	var datasets []string
	fresh := map[string][]string{}
	for _, m := range documents.Metrics {
		collected := (m.EverySeconds > 0 || m.Cron != "") && m.TimeColumn != ""
		if collected && slices.ContainsFunc(changes, func(v config.Change) bool { return v.Kind == "metric" && v.Name == m.Name && v.What == "added" }) {
			if fresh[m.Dataset] == nil {
				datasets = append(datasets, m.Dataset)
			}
			fresh[m.Dataset] = append(fresh[m.Dataset], m.Name)
		}
	}
	if since == "" {
		if len(datasets) > 0 {
			a.say("The past of what is new is not measured yet. Load again with --backfill 90d, or:")
		}
		for _, d := range datasets {
			a.say("  tinbell metric backfill %s --since 90d", strings.Join(fresh[d], " "))
		}
		return nil
	}
	back, err := seconds(since)
	if err != nil {
		return err
	}
	for _, d := range datasets {
		var started httpapi.Started
		if err := a.client().Send(c.Context(), "POST", "/backfills", httpapi.Backfill{Metrics: fresh[d], SinceSeconds: back}, &started); err != nil {
			return fmt.Errorf("the past of %s: %w", d, err)
		}
		if err := a.client().Follow(c.Context(), started.TaskID, a.bar(d)); err != nil {
			return fmt.Errorf("the past of %s: %w", d, err)
		}
		a.say("%s: %s measured back to %s.", d, words.Plural(len(fresh[d]), "metric"), time.Now().Add(-time.Duration(back)*time.Second).Format(time.DateOnly))
	}
	return nil
}

// secretNamed gives what ${NAME} stands for: the variable of that name, or the file of that
// name in the secrets folder.
func (a *app) secretNamed(name string) (string, bool) {
	if value, set := os.LookupEnv(name); set {
		return value, true
	}
	if a.secrets == "" {
		return "", false
	}
	content, err := os.ReadFile(filepath.Join(a.secrets, name))
	return strings.TrimRight(string(content), "\r\n"), err == nil
}

func (a *app) configSend(c *cobra.Command, dir, path string) (documents config.Documents, changes []config.Change, err error) {
	if documents, err = readConfig(dir); err != nil {
		return documents, nil, err
	}
	documents.Fill(a.secretNamed)
	if err := a.client().Send(c.Context(), "POST", path, documents, &changes); err != nil {
		return documents, nil, err
	}
	loaded := strings.HasPrefix(path, "/config/load")
	l := listing{head: []string{"", "kind", "name", "what"}, raw: changes, none: "Nothing differs."}
	kept := 0
	for _, change := range changes {
		var fields []string
		for _, f := range change.Fields {
			if change.What == "added" {
				fields = append(fields, f.Key+" "+f.Is)
			} else {
				fields = append(fields, fmt.Sprintf("%s: %s, was %s", f.Key, or(f.Is, "nothing"), or(f.Was, "nothing")))
			}
		}
		if change.What == "kept" {
			kept++
			continue
		}
		l.rows = append(l.rows, []string{map[string]string{"added": "+", "changed": "~", "removed": "-"}[change.What], change.Kind, change.Name, strings.Join(fields, "; ")})
	}
	if err := a.show(l); err != nil {
		return documents, changes, err
	}
	if kept > 0 {
		a.say("%d more are set up and in no file; they stay.", kept)
	}
	if loaded {
		a.say("%d put in force.", len(l.rows))
	}
	return documents, changes, nil
}

func (a *app) configSave(c *cobra.Command, dir string) error {
	var all config.Documents
	if err := a.client().Get(c.Context(), "/config", nil, &all); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	files := map[string]config.Documents{}
	if len(all.Sources) > 0 {
		files["sources"] = config.Documents{Sources: all.Sources}
	}
	of := map[string]string{} // dataset by metric
	for _, d := range all.Datasets {
		one := config.Documents{Datasets: []config.WrittenDataset{d}}
		for _, m := range all.Metrics {
			if m.Dataset == d.Name {
				of[m.Name] = d.Name
				one.Metrics = append(one.Metrics, m)
			}
		}
		for _, m := range all.Monitors {
			if of[m.Metric] == d.Name {
				one.Monitors = append(one.Monitors, m)
			}
		}
		files[strings.NewReplacer("/", "-", string(filepath.Separator), "-").Replace(d.Name)] = one
	}
	for _, v := range all.Calendars {
		files["calendar-"+strings.NewReplacer("/", "-", string(filepath.Separator), "-").Replace(v.Name)] = config.Documents{Calendars: []config.WrittenCalendar{v}}
	}
	if telling := (config.Documents{Channels: all.Channels, Routes: all.Routes}); len(all.Channels) > 0 {
		files["telling"] = telling
	}
	if compared := (config.Documents{Comparisons: all.Comparisons}); len(all.Comparisons) > 0 {
		for _, m := range all.Monitors {
			if of[m.Metric] == "" { // its metric comes with the comparison
				compared.Monitors = append(compared.Monitors, m)
			}
		}
		files["comparisons"] = compared
	}
	if len(all.Reconciliations) > 0 {
		files["reconciliations"] = config.Documents{Reconciliations: all.Reconciliations}
	}
	if len(all.SLAs) > 0 {
		files["slas"] = config.Documents{SLAs: all.SLAs}
	}
	for name, one := range files {
		if err := os.WriteFile(filepath.Join(dir, name+".yaml"), config.Write(one), 0o644); err != nil {
			return err
		}
	}
	a.say("%d files in %s", len(files), dir)
	for _, v := range all.Calendars {
		if v.Address != "" {
			a.say("To load them elsewhere, set %s to the address of calendar %s.", strings.Trim(v.Address, "${}"), v.Name)
		}
	}
	for _, v := range all.Sources {
		if v.Password != "" {
			a.say("To load them elsewhere, set %s to the password of source %s.", config.Variable(v.Name), v.Name)
		}
	}
	for _, v := range all.Channels {
		if v.Password != "" {
			a.say("To load them elsewhere, set %s to the password or signing secret of channel %s.", config.Variable(v.Name), v.Name)
		}
		if v.Address != "" {
			a.say("… and %s to its whole address.", strings.Trim(v.Address, "${}"))
		}
		for _, header := range v.Headers {
			name, variable, _ := strings.Cut(header, ": ")
			a.say("… and %s to the header %s that is sent along.", strings.Trim(variable, "${}"), name)
		}
	}
	return nil
}
