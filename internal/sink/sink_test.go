package sink

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func open(t *testing.T, dir string) *Mailbox {
	t.Helper()
	m, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func post(t *testing.T, address, key, body string) int {
	t.Helper()
	r, err := http.NewRequest("POST", address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("webhook-id", key)
	r.Header.Set("webhook-timestamp", "1614265330")
	r.Header.Set("webhook-signature", "v1,bm90IGl0 v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	return answer.StatusCode
}

func TestWebhooksAreKeptOnceForEachKeyAndOverARestart(t *testing.T) {
	dir := t.TempDir()
	m := open(t, dir)
	server := httptest.NewServer(m.Receiver())
	defer server.Close()
	if err := m.Expect("/pager", "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if got := post(t, server.URL+"/pager", "msg_p5jXN8AQM9LWM0D4loKWxJek", `{"test": 2432232314}`); got != 204 {
			t.Errorf("answers %d", got)
		}
	}
	post(t, server.URL+"/pager", "other", `{"text": "first line\nsecond"}`)
	post(t, server.URL+"/chat", "third", `{"data": {"title": "a title"}}`)
	for _, box := range []*Mailbox{m, open(t, dir)} {
		list := box.Letters(10)
		if len(list) != 3 || list[2].Times != 2 || list[2].Signature != "valid" || list[1].Signature != "wrong" ||
			list[0].Signature != "not checked" {
			t.Fatalf("letters: %+v", list)
		}
		if list[1].Subject != "first line" || list[0].Subject != "a title" || list[2].Subject != "20 bytes" {
			t.Errorf("subjects: %q, %q, %q", list[0].Subject, list[1].Subject, list[2].Subject)
		}
		if l, found := box.Letter(1); !found || l.Key != "msg_p5jXN8AQM9LWM0D4loKWxJek" {
			t.Errorf("the first letter: %+v", l)
		}
		if _, found := box.Letter(4); found {
			t.Error("a fourth letter")
		}
	}
}

func TestTheReceiverCanBeDownSlowAndElsewhere(t *testing.T) {
	dir := t.TempDir()
	m := open(t, dir)
	server := httptest.NewServer(m.Receiver())
	defer server.Close()
	if got := post(t, server.URL+"/down", "a", "x"); got != 503 {
		t.Errorf("/down answers %d", got)
	}
	if err := Close(dir); err != nil {
		t.Fatal(err)
	}
	if got := post(t, server.URL+"/pager", "a", "x"); got != 503 || !m.Closed() {
		t.Errorf("closed by another process it answers %d", got)
	}
	for range 2 {
		if err := Reopen(dir); err != nil {
			t.Fatal(err)
		}
	}
	if got := post(t, server.URL+"/pager", "a", "x"); got != 204 {
		t.Errorf("open again it answers %d", got)
	}
}

func TestLettersAreTakenApart(t *testing.T) {
	m := open(t, t.TempDir())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- m.ServeSMTP(l, Login{}) }()
	letter := "Message-ID: <1@x.example>\r\nSubject: =?UTF-8?q?30_=25_weniger?=\r\nFrom: a@x.example\r\nTo: b@x.example\r\nMIME-Version: 1.0\r\nContent-Type: multipart/alternative; boundary=b\r\n\r\n" +
		"--b\r\nContent-Type: text/plain; charset=UTF-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n30 =25 fewer\r\n--b\r\nContent-Type: text/html; charset=UTF-8\r\n\r\n<b>30 %</b>\r\n--b--\r\n"
	for range 2 {
		if err := smtp.SendMail(l.Addr().String(), nil, "a@x.example", []string{"b@x.example", "c@x.example"}, []byte(letter)); err != nil {
			t.Fatal(err)
		}
	}
	if err := smtp.SendMail(l.Addr().String(), nil, "a@x.example", []string{"b@x.example"}, []byte("no letter")); err == nil {
		t.Error("what is no letter is taken")
	}
	list := m.Letters(10)
	if len(list) != 1 || list[0].Times != 2 || list[0].Subject != "30 % weniger" || list[0].Key != "1@x.example" ||
		list[0].To != "b@x.example, c@x.example" || !strings.Contains(list[0].Text, "30 % fewer") ||
		!strings.Contains(list[0].HTML, "<b>30 %</b>") {
		t.Errorf("letters: %+v", list)
	}
	l.Close()
	select {
	case err := <-done:
		if err != nil {
			t.Errorf("ends with %v", err)
		}
	case <-time.After(time.Minute):
		t.Error("does not end with its listener")
	}
}

func TestADamagedMailboxIsNamed(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "letter-000001.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "letter-000001.json") {
		t.Errorf("%v", err)
	}
	with := Letter{HTML: `<img src="cid:chart.png">`, Picture: []byte{1, 2, 3}}
	if got, want := with.WithPicture(), `<img src="data:image/png;base64,AQID">`; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}
