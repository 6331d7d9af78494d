package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/service"
)

// selfSigned writes a certificate of this machine and its key, and gives it.
func selfSigned(t *testing.T, cert, key string, serial int64) []byte {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	dbtest.Must(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	signed, err := x509.CreateCertificate(rand.Reader, of, of, &private.PublicKey, private)
	dbtest.Must(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	dbtest.Must(t, err)
	dbtest.Must(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}), 0o600))
	dbtest.Must(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return signed
}

// By HTTPS the console's cookie is sent by HTTPS alone, and a newer certificate is served
// without a stop; one that cannot be read leaves the one before.
func TestHTTPSIsServedAndTakesUpANewerCertificate(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	cert, key := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	first := selfSigned(t, cert, key, 1)
	s := dbtest.Start(t, now, func(o *service.Options) { o.TLSCert, o.TLSKey = cert, key })
	if !strings.HasPrefix(s.Address, "https://") {
		t.Fatal(s.Address)
	}
	ask := func(trusted []byte) (*http.Response, error) {
		pool := x509.NewCertPool()
		one, err := x509.ParseCertificate(trusted)
		dbtest.Must(t, err)
		pool.AddCert(one)
		c := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, DisableKeepAlives: true}}
		return c.Post(s.Address+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+s.Token+`"}`))
	}
	answer, err := ask(first)
	dbtest.Must(t, err)
	answer.Body.Close()
	cookies := answer.Cookies()
	if answer.StatusCode != 200 || len(cookies) != 1 || !cookies[0].Secure || !cookies[0].HttpOnly ||
		answer.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("%d, cookie %+v, HSTS %q", answer.StatusCode, cookies, answer.Header.Get("Strict-Transport-Security"))
	}
	dbtest.Must(t, os.WriteFile(cert, []byte("half a certifi"), 0o600))
	time.Sleep(5100 * time.Millisecond)
	if answer, err = ask(first); err != nil {
		t.Fatalf("while the newer one cannot be read: %v", err)
	}
	answer.Body.Close()
	second := selfSigned(t, cert, key, 2)
	time.Sleep(5100 * time.Millisecond)
	if answer, err = ask(second); err != nil {
		t.Fatalf("the newer one is not served: %v", err)
	}
	answer.Body.Close()
	if _, err := service.Start(t.Context(), service.Options{Dir: t.TempDir(), Database: s.Database, Listen: "127.0.0.1:0",
		SignIn: true, TLSCert: cert, TLSKey: filepath.Join(folder, "none.pem"), Log: s.Parts.Log}); err == nil ||
		!strings.Contains(err.Error(), "none.pem") {
		t.Errorf("without its key: %v", err)
	}
}
