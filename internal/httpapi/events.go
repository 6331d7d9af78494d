package httpapi

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tinbell/internal/people"
)

// Hub passes changes on to everybody who listens.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan string]struct{}
	closed    chan struct{}
	close     func()
}

func NewHub() *Hub {
	h := &Hub{listeners: map[chan string]struct{}{}, closed: make(chan struct{})}
	h.close = sync.OnceFunc(func() { close(h.closed) })
	return h
}

// Close ends the streams of all who listen: the service stops.
func (h *Hub) Close() { h.close() }

// Tell passes a topic on; a listener that is behind misses it, and hears the
// next one.
func (h *Hub) Tell(topic string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- topic:
		default:
		}
	}
}

func (h *Hub) listen() (chan string, func()) {
	c := make(chan string, 16)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.listeners[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, c)
	}
}

// Changed says that something of a topic changed: read it again.
type Changed struct {
	Topic string `json:"topic" enum:"alerts,drift,incidents,messages,runs,slas"`
}

// Alive is sent now and then, so that a broken stream is noticed.
type Alive struct {
	Now time.Time `json:"now"`
}

const aliveEvery = 15 * time.Second

func (s *server) addEvents(api huma.API) {
	sse.Register(api, huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "Changes as they happen (server-sent events)",
		Metadata: map[string]any{"role": people.Reader},
	}, map[string]any{"changed": Changed{}, "alive": Alive{}}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		topics, leave := s.Hub.listen()
		defer leave()
		tick := time.NewTicker(aliveEvery)
		defer tick.Stop()
		if send.Data(Alive{s.Now().UTC()}) != nil {
			return
		}
		for {
			var err error
			select {
			case <-ctx.Done():
				return
			case <-s.Hub.closed:
				return
			case topic := <-topics:
				err = send.Data(Changed{topic})
			case <-tick.C:
				err = send.Data(Alive{s.Now().UTC()})
			}
			if err != nil {
				return
			}
		}
	})
}
