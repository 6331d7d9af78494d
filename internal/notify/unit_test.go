package notify

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"tinbell/internal/record"
)

func TestSignaturesAreThoseOfStandardWebhooks(t *testing.T) {
	t.Parallel()
	// The example of the specification.
	got, err := Signature("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", 1614265330, `{"test": 2432232314}`)
	if want := "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="; err != nil || got != want {
		t.Errorf("%s (%v), want %s", got, err, want)
	}
	if a, b := NewSecret(), NewSecret(); a == b || !strings.HasPrefix(a, SecretPrefix) {
		t.Errorf("secrets %s and %s", a, b)
	}
}

func TestATemplateThatCannotWorkIsRefusedWithLineAndColumn(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, at, why string }{
		"no such field":        {"{\"a\": {{json .Title}},\n \"b\": {{json .Colour}}}", "line 2, column 14", "Colour"},
		"no such function":     {"{\"a\":\n {{shout .Title}}}", "line 2, column 2", "shout"},
		"an open action":       {"one\n  two {{.Title", "line 2, column 7", "unclosed action"},
		"an open if":           {"{{if .Over}}{}", "line 1", "unexpected EOF"},
		"a stray end":          {"{\"a\": 1,\n{{json .Title}} {{end}}}", "line 2, column 17", "unexpected {{end}}"},
		"a field of a list":    {"{{range .Alerts}}{{.Nothing}}{{end}}", "line 1, column 20", "Nothing"},
		"a range over numbers": {"[{{range 1000000000}}{{end}}]", "line 1", "lists of a message"},
		"a template within":    {"{{define \"x\"}}{{end}}{{template \"x\"}}", "line 1", "templates within"},
		"no JSON":              {"{\"a\": {{.Title}}}", "line 1", "makes JSON"},
		"nothing":              {"  ", "", "the body to send"},
	} {
		err := CheckTemplate(c.text, "")
		var invalid record.Invalid
		if !errors.As(err, &invalid) || !strings.Contains(invalid.Given, c.at) || !strings.Contains(invalid.Allowed, c.why) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, good := range []string{
		`{"text": {{json .Title}}, "list": [{{range $i, $a := .Alerts}}{{if $i}},{{end}}{{json $a.Sentence}}{{end}}]}`,
		`{"severity": "{{upper .Severity}}"{{if .Over}}, "over": {{json .Over}}{{end}}}`,
	} {
		if err := CheckTemplate(good, "application/json"); err != nil {
			t.Errorf("%s: %v", good, err)
		}
	}
	if err := CheckTemplate("{{.Title}}\n{{.Links.Group}}", "text/plain"); err != nil {
		t.Errorf("plain text need not be JSON: %v", err)
	}
	if err := CheckTemplate(strings.Repeat("{{.Title}}", 20_000), "text/plain"); err == nil || !strings.Contains(err.Error(), "256 kB") {
		t.Errorf("a body without bounds: %v", err)
	}
}

func FuzzCheckTemplate(f *testing.F) {
	f.Add(`{"a": {{json .Title}}}`)
	f.Add("{{range .Alerts}}{{.Sentence}}{{end}}")
	f.Add("{{if .Over}}\n{{else}}{{end}}")
	f.Fuzz(func(t *testing.T, text string) {
		if CheckTemplate(text, "application/json") != nil {
			return
		}
		for _, facts := range samples() {
			if made, err := fill(text, facts); err != nil || !json.Valid([]byte(made)) {
				t.Errorf("%q was taken and makes %q (%v)", text, made, err)
			}
		}
	})
}

func TestEveryFormSaysWhatIsWrongAndLeadsBack(t *testing.T) {
	t.Parallel()
	full := samples()[0]
	full.Links = Links{Alert: "https://bell.example/alerts/1", Group: "https://bell.example/groups/12",
		Fault: "https://bell.example/answer/x?as=fault", Noise: "https://bell.example/answer/x?as=noise",
		Planned: "https://bell.example/answer/x?as=planned", Take: "https://bell.example/answer/x?as=take"}
	for _, form := range []string{FormCloudEvent, FormChat, FormTicket} {
		b, err := render(record.Channel{Kind: record.ChannelWebhook, Settings: record.ChannelSettings{Form: form}}, full)
		if err != nil || !json.Valid([]byte(b.Payload)) {
			t.Fatalf("%s: %v\n%s", form, err, b.Payload)
		}
		for _, want := range []string{"30 % fewer rows", "groups/12", "about once in 410 days", "raw.orders"} {
			if !strings.Contains(b.Payload, want) {
				t.Errorf("%s lacks %q: %s", form, want, b.Payload)
			}
		}
	}
	full.picture = []byte("png")
	b, err := render(record.Channel{Kind: record.ChannelEmail}, full)
	if err != nil {
		t.Fatal(err)
	}
	for what, text := range map[string]string{"text": b.Text, "html": b.HTML} {
		for _, want := range []string{"30 % fewer rows", "Mon 2 Jan 15:04", "70 rows", "expected 100", "96 % of all that fell",
			"about once in 410 days", "raw.orders", "as=fault", "as=noise", "as=planned", "as=take", "groups/12"} {
			if !strings.Contains(strings.ReplaceAll(text, "&#34;", `"`), want) {
				t.Errorf("%s lacks %q:\n%s", what, want, text)
			}
		}
	}
	if !strings.Contains(b.HTML, "cid:chart.png") || strings.Contains(b.HTML, "<script") || b.Thread != "group-12" {
		t.Errorf("the letter: %s", b.HTML)
	}
	full.Sentence = `<img src=x onerror=alert(1)>`
	if b, _ = render(record.Channel{Kind: record.ChannelEmail}, full); strings.Contains(b.HTML, "<img src=x") {
		t.Error("what others named can write into the letter")
	}
}

func TestWaitsGrowAndAreNotAlike(t *testing.T) {
	t.Parallel()
	seen := map[time.Duration]bool{}
	for n := 1; n < 40; n++ {
		middle := min(5*time.Second<<min(n-1, 10), 30*time.Minute)
		for range 20 {
			wait := backoff(n)
			if wait < middle/2 || wait > middle*3/2 {
				t.Fatalf("attempt %d waits %s, about %s expected", n, wait, middle)
			}
			seen[wait] = true
		}
	}
	if len(seen) < 700 {
		t.Errorf("only %d different waits of 780", len(seen))
	}
}

func TestRouteHoursHoldBackUntilTheyBegin(t *testing.T) {
	t.Parallel()
	r := record.Route{Hours: record.Strings{"mon-fri 08:00-18:00"}, Zone: "America/Halifax"}
	at := func(text string) time.Time {
		v, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for when, want := range map[string]string{
		"2026-06-17T12:00:00-03:00": "2026-06-17T12:00:00-03:00",
		"2026-06-17T19:30:20-03:00": "2026-06-18T08:00:00-03:00",
		"2026-06-19T19:00:00-03:00": "2026-06-22T08:00:00-03:00", // Friday evening
	} {
		if got := opensAt(r, at(when)); !got.Equal(at(want)) {
			t.Errorf("%s is told %s, want %s", when, got, want)
		}
	}
}

func TestLinksCannotBeMadeOrChanged(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	bell := &Notifier{key: []byte("a key of this service"), options: Options{Now: func() time.Time { return now }}}
	other := &Notifier{key: []byte("a key of another one"), options: bell.options}
	token := bell.AnswerToken(41, "night-desk", now.Add(time.Hour))
	if alert, channel, err := bell.ReadAnswerToken(token); alert != 41 || channel != "night-desk" || err != nil {
		t.Errorf("%d %q %v", alert, channel, err)
	}
	for what, bad := range map[string]string{"another alert": "42" + token[2:], "longer": strings.Replace(token, ".1", ".9", 1),
		"cut": token[:len(token)-1], "empty": "", "another key": other.AnswerToken(41, "night-desk", now.Add(time.Hour)), "dots": "...."} {
		if _, _, err := bell.ReadAnswerToken(bad); !errors.Is(err, ErrLink) {
			t.Errorf("%s: %v", what, err)
		}
	}
	now = now.Add(2 * time.Hour)
	if _, _, err := bell.ReadAnswerToken(token); !errors.Is(err, ErrLinkOver) {
		t.Errorf("after its time: %v", err)
	}
}
