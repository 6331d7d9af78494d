package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/demo"
	"tinbell/internal/people"
	"tinbell/internal/sink"
)

// mailboxFolder is where the demo's stand-ins keep what they get, below its data
// directory.
const mailboxFolder = "mailbox"

// loopback is where the demo's stand-ins are.
var loopback = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}

// standIns are the demo's mail server, webhook receiver and provider of sign-ins.
type standIns struct {
	demo.Receivers
	mailbox *sink.Mailbox
	openID  people.OpenID
}

// standIns starts the demo's stand-ins, where they were before if they were; they
// end with ctx.
func (a *app) standIns(ctx context.Context, dir string) (standIns, error) {
	mailbox, err := sink.Open(dir)
	if err != nil {
		return standIns{}, err
	}
	s := standIns{mailbox: mailbox, Receivers: demo.Receivers{Expect: mailbox.Expect}}
	file := filepath.Join(dir, "ports.json")
	var ports struct{ SMTP, HTTP, Staff int }
	if content, err := os.ReadFile(file); err == nil {
		json.Unmarshal(content, &ports)
	}
	mail, err := listenAt(ports.SMTP)
	if err != nil {
		return s, err
	}
	web, err := listenAt(ports.HTTP)
	if err != nil {
		return s, err
	}
	staff, err := listenAt(ports.Staff)
	if err != nil {
		return s, err
	}
	directory, err := sink.NewProvider("tin-bell", "", demo.Staff...)
	if err != nil {
		return s, err
	}
	ports.Staff = staff.Addr().(*net.TCPAddr).Port
	s.openID = people.OpenID{Issuer: fmt.Sprintf("http://127.0.0.1:%d", ports.Staff), Client: "tin-bell",
		Called: "Vellamar staff", Roles: demo.StaffRoles}
	directory.At(s.openID.Issuer)
	s.SMTP, s.HTTP = mail.Addr().(*net.TCPAddr).Port, web.Addr().(*net.TCPAddr).Port
	ports.SMTP, ports.HTTP = s.SMTP, s.HTTP
	content, err := json.Marshal(ports)
	if err != nil {
		return s, err
	}
	if err := os.WriteFile(file, content, 0o600); err != nil {
		return s, err
	}
	go mailbox.ServeSMTP(mail, sink.Login{})
	receiver := &http.Server{Handler: mailbox.Receiver()}
	go receiver.Serve(web)
	provider := &http.Server{Handler: directory.Handler()}
	go provider.Serve(staff)
	context.AfterFunc(ctx, func() { mail.Close(); receiver.Close(); provider.Close() })
	return s, nil
}

// listenAt listens on loopback, on a port if it is free, else on any.
func listenAt(port int) (net.Listener, error) {
	if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
		return l, nil
	}
	return net.Listen("tcp", "127.0.0.1:0")
}

func (a *app) mailboxCommand() *cobra.Command {
	var limit int
	list := &cobra.Command{Use: "list", Short: "What the demo's mail server and webhook receiver got, newest first",
		Args: exactly(0, "nothing"), Example: "  tinbell mailbox list",
		RunE: func(c *cobra.Command, _ []string) error {
			var letters []sink.Letter
			if err := a.client().Get(c.Context(), "/mailbox", url.Values{"limit": {strconv.Itoa(limit)}}, &letters); err != nil {
				return err
			}
			l := listing{head: []string{"letter", "came", "through", "to", "subject", "signature", "times"}, right: []int{1, 7},
				raw: letters, none: "Nothing has come yet. Break something: tinbell demo break stall raw.gate_events"}
			for _, x := range letters {
				l.rows = append(l.rows, []string{strconv.Itoa(x.ID), a.local(x.At, "UTC"), x.Through, x.To, x.Subject,
					orNone(x.Signature), strconv.Itoa(x.Times)})
			}
			return a.show(l)
		}}
	list.Flags().IntVar(&limit, "limit", 40, "at most so many")
	var html, picture string
	show := &cobra.Command{Use: "show LETTER", Short: "Show one message as it came", Args: exactly(1, "LETTER"),
		Example: "  tinbell mailbox show 3\n  tinbell mailbox show 3 --html letter.html",
		RunE: func(c *cobra.Command, args []string) error {
			var x sink.Letter
			if err := a.client().Get(c.Context(), "/mailbox/"+url.PathEscape(args[0]), nil, &x); err != nil {
				return err
			}
			if done, err := a.data(x); done {
				return err
			}
			for file, content := range map[string][]byte{html: []byte(x.WithPicture()), picture: x.Picture} {
				if file == "" {
					continue
				}
				if err := os.WriteFile(file, content, 0o644); err != nil {
					return err
				}
				a.say("Written to %s", file)
			}
			if html == "" && picture == "" {
				a.printf("to       %s\nsubject  %s\nkey      %s\n\n%s\n", x.To, x.Subject, x.Key,
					strings.ReplaceAll(pretty(x.Text), "\r\n", "\n"))
			}
			return nil
		}}
	show.Flags().StringVar(&html, "html", "", "write its HTML, with the picture in it, to a file")
	show.Flags().StringVar(&picture, "picture", "", "write its picture to a file")
	return group("mailbox", "What the demo's stand-ins for other services got", list, show)
}

// demoReceiver takes the demo's stand-ins down and brings them back.
func (a *app) demoReceiver() *cobra.Command {
	return &cobra.Command{Use: "receiver down|up",
		Short:   "Take the demo's mail server and webhook receiver down, to see messages wait, or bring them back",
		Args:    exactly(1, "down|up"),
		Example: "  tinbell demo receiver down\n  tinbell demo receiver up",
		RunE: func(_ *cobra.Command, args []string) error {
			dir := filepath.Join(or(a.dir, ".demo"), mailboxFolder)
			if _, err := os.Stat(dir); err != nil {
				return fmt.Errorf("no demo runs on this data directory: start it with 'make demo', or give its --dir")
			}
			switch args[0] {
			case "down":
				a.say("They refuse everything from now on. Watch: tinbell message list --state waiting")
				return sink.Close(dir)
			case "up":
				a.say("They take messages again. What waits is tried by itself; at once: tinbell channel retry NAME")
				return sink.Reopen(dir)
			}
			return wrongUsage{fmt.Errorf("%q: allowed are down and up", args[0])}
		}}
}
