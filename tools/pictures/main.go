// Command pictures takes the screenshots of the documentation from a running
// demo, and of what commands said: go run ./tools/pictures ADDRESS TOKEN FOLDER
// [TEXT-FILE…].
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"tinbell/internal/browser"
	"tinbell/internal/client"
	"tinbell/internal/httpapi"
)

type picture struct{ name, path, ready string }

func main() {
	if len(os.Args) < 4 {
		fmt.Fprintln(os.Stderr, "usage: pictures ADDRESS TOKEN FOLDER [TEXT-FILE…]")
		os.Exit(2)
	}
	if err := run(context.Background(), os.Args[1], os.Args[2], os.Args[3], os.Args[4:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, address, token, folder string, texts []string) error {
	c := client.New(address, token)
	var page httpapi.AlertPage
	if err := c.Get(ctx, "/alerts", url.Values{"state": {"open"}, "dataset": {"ops.boarding_scans"}, "measure": {"rows"}},
		&page); err != nil {
		return err
	}
	alert, series := int64(1), int64(1)
	if len(page.Alerts) > 0 {
		alert, series = page.Alerts[0].ID, page.Alerts[0].SeriesID
	}
	group, err := told(ctx, c)
	if err != nil {
		return err
	}
	charts := "document.querySelectorAll('svg[role=img] path').length > 4 && !document.querySelector('div.bg-well')"
	now := charts + " && document.querySelectorAll('tbody tr').length > 3"
	pages := []picture{
		{"now", "/", now},
		{"datasets", "/datasets", "document.querySelectorAll('tbody tr').length > 5 && document.querySelector('[data-brush]')"},
		{"dataset", "/datasets/ops.boarding_scans", charts + " && document.querySelector('svg[data-lineage]')"},
		{"group", fmt.Sprintf("/groups/%d", group), charts + " && document.querySelectorAll('article').length > 1"},
		{"past", "/monitors/boarding-scans-volume/past",
			"document.querySelectorAll('[data-question] svg path').length > 2 && document.querySelector('[data-asked]')"},
		{"telling", "/setup/telling", "document.querySelectorAll('[data-channel]').length > 3 && document.querySelectorAll('tbody tr').length > 5"},
		{"drift", "/drift/noshow", "document.querySelectorAll('[role=gridcell]').length > 20 && document.querySelector('svg[aria-label*=\"over each other\"]')"},
		{"labels", "/labels", "document.querySelectorAll('[data-question] svg path').length > 2 && document.querySelectorAll('svg path').length > 14 && document.querySelector('[data-past]')"},
		{"incidents", "/incidents", "document.querySelectorAll('tbody tr').length > 5"},
		{"monitor", "/monitors/boarding-scans-volume?span=11+weeks", "document.querySelectorAll('svg[data-rehearsal] path').length > 7"},
		{"series", fmt.Sprintf("/series/%d", series),
			"document.querySelector('svg[data-forecast] path') && document.querySelectorAll('table tr').length > 14 && !document.body.innerText.includes('still reading')"},
		{"logs", "/logs/gates-loader", "document.querySelectorAll('[data-sentences] tbody tr').length > 12"},
		{"scorecard", "/scorecard", "document.querySelectorAll('tbody tr').length > 5"},
		{"alert", fmt.Sprintf("/alerts/%d", alert),
			"document.querySelector('svg[data-chart] path') && document.querySelector('[data-why] tbody tr') && document.querySelector('svg[data-lineage]')"},
	}
	if err := take(ctx, address, token, folder, pages); err != nil {
		return err
	}
	return terminal(ctx, address, folder, texts)
}

// told gives the open group with the most alerts.
func told(ctx context.Context, c *client.Client) (group int64, err error) {
	var page httpapi.GroupPage
	if err := c.Get(ctx, "/groups", url.Values{"state": {"open"}}, &page); err != nil {
		return 0, err
	}
	most := 0
	for _, g := range page.Groups {
		if g.Alerts > most {
			group, most = g.ID, g.Alerts
		}
	}
	return group, nil
}

// terminal draws what commands said, in the console's monospaced face.
func terminal(ctx context.Context, address, folder string, texts []string) error {
	tab, err := browser.Open(ctx, 1280, 640, true)
	if err != nil {
		return err
	}
	defer tab.Close()
	for _, path := range texts {
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := tab.Go(address + "/sign-in"); err != nil {
			return err
		}
		if err := tab.Await("document.querySelector('h1')"); err != nil {
			return err
		}
		quoted, err := json.Marshal(string(content))
		if err != nil {
			return err
		}
		show := fmt.Sprintf(`(() => {
			document.body.innerHTML = '<pre style="font: 11.5px/17px var(--font-mono, \'Source Code Pro Variable\'), monospace; padding: 18px"></pre>';
			document.querySelector('pre').style.fontFamily = "'Source Code Pro Variable', monospace";
			document.querySelector('pre').textContent = %s;
			return true;
		})()`, quoted)
		if _, err := browser.Evaluate[bool](tab, show); err != nil {
			return err
		}
		if err := tab.Await("document.fonts.status === 'loaded'"); err != nil {
			return err
		}
		if err := tab.Fit(); err != nil {
			return err
		}
		name := strings.TrimSuffix(filepath.Base(path), ".txt") + ".png"
		if err := tab.Picture(filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	return nil
}

func take(ctx context.Context, address, token, folder string, pages []picture) error {
	tab, err := browser.Open(ctx, 1280, 800, false)
	if err != nil {
		return err
	}
	defer tab.Close()
	given, err := json.Marshal(token)
	if err != nil {
		return err
	}
	if err := tab.Go(address + "/sign-in#" + token); err != nil {
		return err
	}
	if err := tab.Await("location.pathname === '/' && " + string(given) + " && document.querySelector('h1')?.innerText"); err != nil {
		return err
	}
	for _, p := range pages {
		if err := tab.Go(address + p.path); err != nil {
			return err
		}
		if err := tab.Await("document.querySelector('h1')?.innerText && document.fonts.status === 'loaded' && " + p.ready); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if p.name == "alert" { // the last: all of it, down to the rows
			if err := tab.Fit(); err != nil {
				return err
			}
		}
		if err := tab.Picture(filepath.Join(folder, p.name+".png")); err != nil {
			return err
		}
	}
	return nil
}
