package service_test

import (
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// The same things set by request and by file are the same, and what one refuses the
// other does.
func TestWhatIsSetByFileAndByRequestIsTheSame(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h", Owner: "Harbour"}, nil)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/channels",
		httpapi.NewChannel{Name: "pager", Kind: record.ChannelWebhook, Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/x"}}, nil))
	load := func(text string) error {
		d, wrong := config.Parse("set.yaml", []byte(text))
		if len(wrong) > 0 {
			t.Fatalf("%v", wrong)
		}
		return s.Admin.Send(ctx, "POST", "/config/load", d, nil)
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/routes", httpapi.NewRoute{Name: "asked", Channel: "pager"}, nil))
	dbtest.Must(t, load("kind: route\nname: filed\nchannel: pager\n"))
	var routes []record.Route
	dbtest.Must(t, s.Admin.Get(ctx, "/routes", nil, &routes))
	if len(routes) != 2 || routes[0].WaitSeconds != routes[1].WaitSeconds || routes[0].Severity != routes[1].Severity ||
		routes[0].Recovery != routes[1].Recovery || routes[0].Zone != routes[1].Zone {
		t.Errorf("%+v", routes)
	}
	dbtest.Must(t, load("kind: route\nname: filed\nchannel: pager\nwait: 0s\n"))
	dbtest.Must(t, s.Admin.Get(ctx, "/routes", nil, &routes))
	for _, r := range routes {
		if r.Name == "filed" && r.WaitSeconds != 0 {
			t.Errorf("a wait of nothing is not the usual one: %+v", r)
		}
	}
	byFile := load("kind: route\nname: lost\nchannel: nobody\n")
	asked := s.Admin.Send(ctx, "POST", "/routes", httpapi.NewRoute{Name: "lost", Channel: "nobody"}, nil)
	if byFile == nil || asked == nil || !strings.Contains(byFile.Error(), "nobody") || !strings.Contains(asked.Error(), "nobody") {
		t.Errorf("a channel that is not there: %v; %v", byFile, asked)
	}
}
