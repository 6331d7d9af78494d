package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/httpapi"
	"tinbell/internal/service"
)

func (a *app) logger() *slog.Logger {
	level := slog.LevelInfo
	if a.quiet {
		level = slog.LevelWarn
	}
	return slog.New(slog.NewTextHandler(a.errors, &slog.HandlerOptions{Level: level}))
}

func (a *app) serveCommand() *cobra.Command {
	o := service.Options{SignIn: true}
	var private, reach []string
	var trust string
	serve := &cobra.Command{Use: "serve", Short: "Run the service; without --database it starts a private PostgreSQL on loopback", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			o.Dir, o.Log = or(a.dir, ".tinbell"), a.logger()
			if o.Database == "" {
				o.Database = os.Getenv("TINBELL_DATABASE")
			}
			if (o.TLSCert == "") != (o.TLSKey == "") {
				return wrongUsage{errors.New("--tls-cert and --tls-key: both, or neither")}
			}
			var err error
			if o.AllowPrivate, err = ranges("--allow-private", private); err != nil {
				return err
			}
			if o.Reach, err = ranges("--reach", reach); err != nil {
				return err
			}
			if trust != "" {
				pem, err := os.ReadFile(trust)
				if err != nil {
					return err
				}
				if o.Trust = x509.NewCertPool(); !o.Trust.AppendCertsFromPEM(pem) {
					return wrongUsage{fmt.Errorf("--trust %s: no certificate in it; it must be PEM", trust)}
				}
			}
			if file := os.Getenv(benchmark.ClockFile); file != "" {
				o.Now = benchmark.RehearsalClock(file)
			}
			s, err := service.Start(c.Context(), o)
			if err != nil {
				return err
			}
			defer s.Stop()
			a.printf("Tin Bell serves %s\n", s.Address)
			if s.FirstToken != "" {
				a.printf("The first administrator's token, shown once: %s\n", s.FirstToken)
				a.remember(o.Dir, s.Address, s.FirstToken)
			}
			return a.await(c.Context(), s)
		}}
	f := serve.Flags()
	f.StringVar(&o.Listen, "listen", "127.0.0.1:7411", "address to listen on")
	f.StringVar(&o.Database, "database", "", "address of a PostgreSQL database (TINBELL_DATABASE)")
	f.IntVar(&o.KeepDays, "keep-days", 0, "how many days samples are kept where a dataset has no rule of its own; 0: for ever")
	f.StringVar(&o.Public, "public-url", "", "where people reach the service, for the links in messages; where it listens if left out")
	f.StringArrayVar(&private, "allow-private", nil, "range of addresses that webhooks may go to though they are not public")
	f.BoolVar(&o.WatchItself, "watch-itself", false, "keep the service's own figures as the dataset tinbell.service, to be watched like any other")
	f.StringVar(&o.TLSCert, "tls-cert", "", "file of a certificate in PEM, with those that vouch for it: serve by HTTPS; a newer one is taken up as it comes")
	f.StringVar(&o.TLSKey, "tls-key", "", "file of its key in PEM")
	f.StringArrayVar(&reach, "reach", nil, "range of addresses where warehouses and mail servers may be; anywhere but link-local and metadata addresses if left out")
	f.StringVar(&trust, "trust", "", "file with the certificates of authorities that mail and web servers are trusted by, instead of the system's")
	f.BoolVar(&o.SignIn, "sign-in", true, "ask for a token; can be turned off on loopback only")
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
	return &cobra.Command{Use: "openapi", Short: "Print the API's contract (OpenAPI 3.1)", Args: exactly(0, "nothing"), RunE: func(*cobra.Command, []string) error {
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

// ranges reads ranges of addresses.
func ranges(option string, texts []string) (list []netip.Prefix, err error) {
	for _, text := range texts {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, wrongUsage{fmt.Errorf("%s %q: write a range of addresses as 10.1.2.0/24", option, text)}
		}
		list = append(list, prefix)
	}
	return list, nil
}
