package benchmark

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// accident is one kind of what happens to a service.
type accident struct {
	name string
	make func(*chaos) error
}

var accidents = []accident{
	{"service killed", (*chaos).killService},
	{"service stopped", (*chaos).stopService},
	{"database killed", (*chaos).killDatabase},
	{"disk full", (*chaos).fillDisk},
	{"senders stalled", (*chaos).stall},
	{"bad file", (*chaos).badFile},
	{"bad lines", (*chaos).badLines},
	{"clock stepped", (*chaos).stepClock},
}

// AccidentNames are the kinds there are.
func AccidentNames() []string {
	var names []string
	for _, a := range accidents {
		names = append(names, a.name)
	}
	return names
}

func (c *chaos) setClock(seconds int) error {
	return os.WriteFile(c.clockFile(), []byte(strconv.Itoa(seconds)), 0o644)
}

// happen makes one accident after another until the time is over.
func (c *chaos) happen(ctx context.Context) {
	var kinds []accident
	for _, a := range accidents {
		if len(c.order.Accidents) > 0 && !slices.Contains(c.order.Accidents, a.name) || a.name == "disk full" && !c.mounted {
			continue
		}
		kinds = append(kinds, a)
	}
	for n := 0; len(kinds) > 0; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(c.order.Every/2 + time.Duration(c.rng.Int64N(int64(c.order.Every)))):
		}
		a := kinds[n%len(kinds)]
		c.say(a.name)
		if err := a.make(c); err != nil {
			c.say(a.name + ": " + err.Error())
		}
		c.mu.Lock()
		c.result.Accidents[a.name]++
		c.mu.Unlock()
	}
}

func (c *chaos) killService() error { return c.again(syscall.SIGKILL) }
func (c *chaos) stopService() error { return c.again(syscall.SIGTERM) }

// again ends one of the processes and starts it anew.
func (c *chaos) again(signal syscall.Signal) error {
	i := c.rng.IntN(len(c.ports))
	c.end(i, signal)
	return c.serve(context.Background(), i)
}

func (c *chaos) killDatabase() error {
	content, err := os.ReadFile(filepath.Join(c.dir, "data", "postgres", "data", "postmaster.pid"))
	if err != nil {
		return err
	}
	pid, err := strconv.Atoi(strings.SplitN(string(content), "\n", 2)[0])
	if err != nil {
		return err
	}
	return syscall.Kill(pid, syscall.SIGKILL)
}

// fillDisk takes all that is free of the disk for ten seconds.
func (c *chaos) fillDisk() error {
	file := filepath.Join(c.dir, "filler")
	defer os.Remove(file)
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	block := make([]byte, 1<<20)
	for {
		if _, err := f.Write(block); err != nil {
			break
		}
	}
	time.Sleep(10 * time.Second)
	return nil
}

// stall opens pushes that send nothing, and leaves them.
func (c *chaos) stall() error {
	for range 30 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(c.address(), "http://"))
		if err != nil {
			return err
		}
		fmt.Fprintf(conn, "POST /api/v1/samples HTTP/1.1\r\nHost: x\r\nContent-Type: application/x-ndjson\r\nTransfer-Encoding: chunked\r\n\r\n")
		time.AfterFunc(30*time.Second, func() { conn.Close() })
	}
	return nil
}

func (c *chaos) badFile() error {
	names := []string{"north\xff.csv", "quote.csv", fmt.Sprintf("huge%d.csv", c.rng.IntN(1000))}
	contents := []string{"a,b\n1,2\n", "a,b\n\"1,2\n", "a,b\n\"" + strings.Repeat("x", 6<<20) + "\n"}
	i := c.rng.IntN(len(names))
	file := filepath.Join(c.dir, "landing", names[i])
	if err := os.WriteFile(file, []byte(contents[i]), 0o644); err != nil {
		return err
	}
	old := time.Now().Add(-time.Hour)
	return os.Chtimes(file, old, old)
}

func (c *chaos) badLines() error {
	lines := []string{"{", `{"metric":"steady","at":"1970-01-01T00:00:00Z","value":1}`, "{\"metric\":\"\xff\"}",
		`{"metric":"steady","segment":"` + strings.Repeat("y", 30_000) + `"}`, strings.Repeat("[", 100_000)}
	answer, err := http.Post(c.address()+"/api/v1/samples", "application/x-ndjson", strings.NewReader(strings.Join(lines, "\n")))
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, answer.Body)
	if answer.StatusCode >= 500 && answer.StatusCode != http.StatusServiceUnavailable {
		return fmt.Errorf("bad lines are answered with %d", answer.StatusCode)
	}
	return nil
}

// stepClock sets the service's clock an hour forward or a few minutes back for a
// while.
func (c *chaos) stepClock() error {
	if err := c.setClock([]int{3600, -300, 90}[c.rng.IntN(3)]); err != nil {
		return err
	}
	time.Sleep(8 * time.Second)
	return c.setClock(0)
}
