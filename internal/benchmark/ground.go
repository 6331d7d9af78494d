package benchmark

import (
	"context"
	"os"
	"path/filepath"

	"tinbell/internal/localpg"
)

// ground is a folder and an empty database of a bench's own, until it is cleared.
func ground(ctx context.Context, name string) (dir, url string, clear func(), err error) {
	if dir, err = os.MkdirTemp("", "tinbell-"+name+"-"); err != nil {
		return "", "", nil, err
	}
	clear = func() { os.RemoveAll(dir) }
	if err = os.Chmod(dir, 0o755); err == nil {
		var server *localpg.Server
		if server, err = localpg.Start(ctx, localpg.Options{Dir: filepath.Join(dir, "postgres")}); err == nil {
			clear = func() { server.Stop(); os.RemoveAll(dir) }
			_, err = server.EnsureDatabase(ctx, name)
			url = server.URL(name)
		}
	}
	if err != nil {
		clear()
	}
	return dir, url, clear, err
}
