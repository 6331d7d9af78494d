package localpg

import (
	"context"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Running gives the address of a database of the server that another process runs on a
// directory; false if none does.
func Running(ctx context.Context, dir, database string) (string, bool) {
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return "", false
	}
	port, err := os.ReadFile(filepath.Join(dir, "port"))
	if err != nil || holder(filepath.Join(dir, "data")) == 0 {
		return "", false
	}
	at := url.URL{Scheme: "postgres", User: url.UserPassword("tinbell", strings.TrimSpace(string(password))),
		Host: net.JoinHostPort("127.0.0.1", strings.TrimSpace(string(port))), Path: "/" + database}
	attempt, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	conn, err := pgx.Connect(attempt, at.String())
	if err != nil {
		return "", false
	}
	return at.String(), conn.Close(ctx) == nil
}
