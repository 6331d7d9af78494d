// Package browser drives a headless Chromium through the console: for tests,
// and for the pictures in the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Tab is one page of a browser.
type Tab struct {
	ctx    context.Context
	cancel func()
}

// Open starts a browser with a page of the given size. dark asks for the dark
// colours.
func Open(ctx context.Context, width, height int64, dark bool) (*Tab, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fmt.Errorf("Chromium is not installed: install Debian's package chromium: %w", err)
	}
	profile, err := os.MkdirTemp("", "tinbell-browser-")
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.Flag("no-sandbox", true),
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("user-data-dir", profile),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("font-render-hinting", "none"),
		chromedp.Flag("force-prefers-reduced-motion", true))
	if dark {
		options = append(options, chromedp.Flag("blink-settings", "preferredColorScheme=0"))
	} else {
		options = append(options, chromedp.Flag("blink-settings", "preferredColorScheme=1"))
	}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	page, endPage := chromedp.NewContext(allocator)
	t := &Tab{ctx: page, cancel: func() {
		endPage()
		endAllocator()
		os.RemoveAll(profile)
	}}
	if err := chromedp.Do(page, chromedp.EmulateViewport(width, height)); err != nil {
		t.cancel()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return t, nil
}

// Close ends the browser.
func (t *Tab) Close() { t.cancel() }

// Go opens an address.
func (t *Tab) Go(address string) error {
	ctx, cancel := context.WithTimeout(t.ctx, 30*time.Second)
	defer cancel()
	return chromedp.Do(ctx, chromedp.Navigate(address))
}

// Follow goes to another page of the console as a link in it does, without loading it anew,
// and waits until what was there is gone; a page that stands there already stays.
func (t *Tab) Follow(path string) error {
	_, err := Evaluate[bool](t, fmt.Sprintf(`(() => {
		window.left = location.pathname + location.search === %[1]q ? null : document.querySelector("main");
		history.pushState(null, "", %[1]q);
		return dispatchEvent(new PopStateEvent("popstate"));
	})()`, path))
	if err != nil {
		return err
	}
	return t.Await("!window.left?.isConnected")
}

// Dark shows the page that stands there in the dark colours, or in the light ones.
func (t *Tab) Dark(dark bool) error {
	scheme := &emulation.MediaFeature{Name: "prefers-color-scheme", Value: "light"}
	if dark {
		scheme.Value = "dark"
	}
	_, err := chromedp.Call(t.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{scheme, {Name: "prefers-reduced-motion", Value: "reduce"}}})
	return err
}

// Await waits until a JavaScript expression is true.
func (t *Tab) Await(expression string) error {
	deadline := time.Now().Add(90 * time.Second)
	for {
		ok, err := Evaluate[bool](t, "!!("+expression+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(deadline) {
			text, _ := t.Text()
			return fmt.Errorf("never became true: %s (last error: %v); the page says: %.2500s", expression, err, text)
		}
		select {
		case <-t.ctx.Done():
			return t.ctx.Err()
		case <-time.After(40 * time.Millisecond):
		}
	}
}

// Evaluate gives the value of a JavaScript expression.
func Evaluate[T any](t *Tab, expression string) (T, error) {
	return chromedp.Run(t.ctx, chromedp.Evaluate[T](expression))
}

// Text is what the page says.
func (t *Tab) Text() (string, error) { return Evaluate[string](t, "document.body.innerText") }

// Press types a key.
func (t *Tab) Press(key string) error {
	if named, is := keys[key]; is {
		key = named
	}
	return chromedp.Do(t.ctx, chromedp.KeyEvent(key))
}

// keys that stand for no character.
var keys = map[string]string{"Tab": kb.Tab, "Enter": kb.Enter, "Escape": kb.Escape, "ArrowLeft": kb.ArrowLeft,
	"ArrowRight": kb.ArrowRight, "ArrowUp": kb.ArrowUp, "ArrowDown": kb.ArrowDown}

// Fit makes the page as high as what it shows.
func (t *Tab) Fit() error {
	height, err := Evaluate[int64](t, "Math.ceil(document.body.firstElementChild.getBoundingClientRect().height) + 8")
	if err != nil {
		return err
	}
	return chromedp.Do(t.ctx, chromedp.EmulateViewport(1280, height))
}

// Picture takes a PNG of the page as it stands.
func (t *Tab) Picture(path string) error {
	png, err := chromedp.Run(t.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(path, png, 0o644)
}
