package draw

import (
	"bytes"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/record"
)

func scans() chart.Chart {
	c := chart.Chart{Zone: "America/Halifax", PeriodSeconds: 3600, Unit: "scans", Series: record.Series{Segment: "Cald"}}
	at := time.Date(2026, 6, 15, 0, 0, 0, 0, time.UTC)
	for i := range 96 {
		v := float64(50 + i%24)
		low, high, expected := v-20, v+20, v
		c.At = append(c.At, at.Add(time.Duration(i)*time.Hour))
		c.Low, c.High, c.Expected = append(c.Low, &low), append(c.High, &high), append(c.Expected, &expected)
		if i > 60 && i < 66 {
			v = 5
		}
		o := &v
		if i > 80 && i < 84 {
			o = nil
		}
		c.Observed = append(c.Observed, o)
	}
	end := c.At[70]
	c.Alerts = []record.Alert{{RaisedAt: c.At[62], ClosedAt: &end, Verdict: "fault"}}
	c.Incidents = []record.Incident{{StartedAt: c.At[61], EndedAt: &end}}
	return c
}

func TestChartsAreWrittenAsPNGAndSVG(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.png", "a.svg", "B.PNG"} {
		path := filepath.Join(dir, name)
		if err := Chart(scans(), "Cald sends no scans", path); err != nil {
			t.Fatal(err)
		}
		content, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(name, "svg") {
			if !bytes.Contains(content, []byte("Cald sends no scans")) || !bytes.Contains(content, []byte("Mon 15 Jun")) &&
				!bytes.Contains(content, []byte("Tue 16 Jun")) {
				t.Errorf("%s lacks its title or its days", name)
			}
			continue
		}
		picture, err := png.Decode(bytes.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		colours := map[[3]uint32]bool{}
		for x := range picture.Bounds().Dx() {
			for y := range picture.Bounds().Dy() {
				r, g, b, _ := picture.At(x, y).RGBA()
				colours[[3]uint32{r >> 8, g >> 8, b >> 8}] = true
			}
		}
		for what, c := range map[string][3]uint32{"band": {0xd3, 0xd7, 0xda}, "loss": {0xf2, 0xd3, 0xc5}, "ink": {0x1d, 0x23, 0x2b}} {
			if !colours[c] {
				t.Errorf("%s shows no %s", name, what)
			}
		}
	}
}

func TestWhatCannotBeDrawnIsRefused(t *testing.T) {
	dir := t.TempDir()
	if err := Chart(scans(), "", filepath.Join(dir, "a.gif")); err == nil || !strings.Contains(err.Error(), ".png or .svg") {
		t.Errorf("gif: %v", err)
	}
	if err := Chart(chart.Chart{Zone: "UTC"}, "", filepath.Join(dir, "a.png")); err == nil {
		t.Error("an empty chart was drawn")
	}
}

func TestAxesSayValuesAsPeopleDo(t *testing.T) {
	for _, c := range []struct {
		kind timeline.Kind
		high float64
		want string
	}{{timeline.Duration, 16_000, "4 h"}, {timeline.Duration, 300_000, "2 d"}, {timeline.Duration, 600, "5 min"},
		{timeline.Duration, 50, "25 s"}, {timeline.Share, 0.5, "25 %"}, {timeline.Count, 170, "80"}} {
		var labels []string
		for _, tick := range (fromZero{c.kind}).Ticks(-0.1*c.high, c.high) {
			labels = append(labels, tick.Label)
			if tick.Value < 0 || tick.Value > c.high {
				t.Errorf("%s up to %g: a tick at %g", c.kind, c.high, tick.Value)
			}
		}
		if !slices.Contains(labels, c.want) {
			t.Errorf("%s up to %g is labelled %v, want %s among them", c.kind, c.high, labels, c.want)
		}
	}
}

// A name that turns the reading direction, or would act on a terminal, does neither in a
// picture of text.
func TestNamesActInNoPicture(t *testing.T) {
	c := scans()
	c.Series.Segment = "gate\u202egnp\x1b[2J"
	var svg bytes.Buffer
	if err := Write(c, "a \u2066title", "svg", &svg); err != nil {
		t.Fatal(err)
	}
	if text := svg.String(); strings.ContainsAny(text, "\u202e\u2066\x1b") || !strings.Contains(text, "<svg") {
		t.Error("the picture has what acts")
	}
}
