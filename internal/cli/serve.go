package cli

import (
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/service"
)

// logger writes what goes on as lines of text, or of JSON for machines that gather them.
func (a *app) logger(format string) *slog.Logger {
	options := &slog.HandlerOptions{Level: slog.LevelInfo}
	if a.quiet {
		options.Level = slog.LevelWarn
	}
	if format == "json" {
		return slog.New(slog.NewJSONHandler(a.errors, options))
	}
	return slog.New(slog.NewTextHandler(a.errors, options))
}

func (a *app) serveCommand() *cobra.Command {
	w := serving{Options: service.Options{SignIn: true}}
	serve := &cobra.Command{Use: "serve", Short: "Run the service; without --database it starts a private PostgreSQL on loopback",
		Args: exactly(0, "nothing"),
		Long: `Runs the service until it is told to end (SIGTERM, Ctrl-C): then it takes in nothing more,
lets requests and jobs end, and is gone within twenty seconds.

Several processes on one --database share the work: --role web answers requests, --role
work does what is due, and all does both. Where people sign in through a provider (OpenID
Connect), its groups give roles and teams: --openid-role 'on call=responder'.`,
		RunE: func(c *cobra.Command, _ []string) error {
			o, err := w.read()
			if err != nil {
				return err
			}
			o.Dir, o.Log = or(a.dir, ".tinbell"), a.logger(w.logs)
			s, err := service.Start(c.Context(), o)
			if err != nil {
				return err
			}
			defer s.Stop()
			a.printf("Tin Bell serves %s\n", s.Address)
			if s.ReadOnly != "" {
				a.printf("It only shows what there is: %s\n", s.ReadOnly)
			}
			if s.FirstToken != "" {
				a.printf("The first administrator's token, shown once: %s\n", s.FirstToken)
				a.remember(o.Dir, s.Address, s.FirstToken)
			}
			return a.await(c.Context(), s)
		}}
	w.flags(serve.Flags())
	return serve
}

// or gives the first that is something.
func or[T comparable](a, b T) T {
	var nothing T
	if a != nothing {
		return a
	}
	return b
}

func (a *app) remember(dir, server, token string) error {
	content, err := json.Marshal(remembered{server, token})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "client.json"), content, 0o600)
}

func (a *app) await(ctx context.Context, s *service.Service) error {
	select {
	case <-ctx.Done():
		a.println("Stopping.")
		return nil
	case err := <-s.Ended():
		return err
	}
}

func (a *app) openAPICommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the API's contract (OpenAPI 3.1)", Args: exactly(0, "nothing"),
		RunE: func(*cobra.Command, []string) error {
			contract, err := httpapi.OpenAPI()
			if err != nil {
				return err
			}
			var v any
			if err := json.Unmarshal(contract, &v); err != nil {
				return err
			}
			return a.json(v)
		}}
}
