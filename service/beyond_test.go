package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/testcert"
)

// TestListening: beyond loopback the service listens over TLS alone, and says what is missing.
func TestListening(t *testing.T) {
	cert, key := certified(t, t.TempDir(), "tide.test", time.Hour)
	missing := filepath.Join(t.TempDir(), "none.pem")
	old, oldKey := certified(t, t.TempDir(), "tide.test", -time.Hour)
	for _, c := range []struct {
		o    Options
		says string
	}{
		{Options{Listen: "0.0.0.0:0"}, "beyond loopback whoever listens on the way would read passwords and rows; give a certificate"},
		{Options{Listen: "nowhere"}, "is not an address"},
		{Options{Listen: "127.0.0.1:0", TLSCert: cert}, "--tls-cert and --tls-key belong together"},
		{Options{Listen: "127.0.0.1:0", TLSCert: missing, TLSKey: key}, "no such file"},
		{Options{Listen: "127.0.0.1:0", TLSCert: key, TLSKey: cert}, "--tls-cert and --tls-key: "},
		{Options{Listen: "127.0.0.1:0", TLSCert: old, TLSKey: oldKey}, "ended "},
		{Options{Listen: "203.0.113.7:7400", TLSCert: cert, TLSKey: key}, "is not an address of this machine"},
	} {
		c.o.Data = filepath.Join(t.TempDir(), "data")
		if err := Serve(context.Background(), c.o); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v, want: %s", c.o, err, c.says)
		}
		if _, err := os.Stat(c.o.Data); err == nil {
			t.Errorf("%s: a data folder was made all the same", c.says)
		}
	}
}

// certified makes a certificate for a name and loopback, and gives the paths of it and its key.
func certified(t *testing.T, dir, name string, lasts time.Duration) (cert, key string) {
	t.Helper()
	m := testcert.Make(t, dir, name, lasts, net.IPv4(127, 0, 0, 1))
	return m.Cert, m.Key
}

// TestCertificate: the service is called by its names over TLS; its cookie is bound to it; another certificate counts as its files change, and one that cannot be
// read does not.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	cert, key := certified(t, dir, "tide.test", time.Hour)
	enter := ""
	base, _ := servingWith(t, Options{TLSCert: cert, TLSKey: key, Hosts: []string{"tide.test"}, SignIn: true, Enter: func(a string) { enter = a }})
	_, port, err := net.SplitHostPort(strings.TrimPrefix(base, "https://"))
	if err != nil || !strings.HasPrefix(base, "https://tide.test:") || !strings.HasPrefix(enter, base+"/enter#") {
		t.Fatalf("the service is at %s, its first keeper at %s: %v", base, enter, err)
	}
	client := func() *http.Client {
		text, err := os.ReadFile(cert)
		if err != nil {
			t.Fatal(err)
		}
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(text)
		tr := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "tcp", "127.0.0.1:"+port)
		}}
		t.Cleanup(tr.CloseIdleConnections)
		return &http.Client{Transport: tr}
	}
	first := client()
	text, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	_, code, _ := strings.Cut(enter, "#")
	res, err := first.Post(base+"/api/v1/enter", "application/json", strings.NewReader(`{"code":"`+code+`","name":"kit","password":"kit counts the gulls"}`))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	cookies := res.Cookies()
	if res.StatusCode != 200 || len(cookies) != 1 {
		t.Fatalf("%s, %d cookies", res.Status, len(cookies))
	}
	if c := cookies[0]; c.Name != "__Host-undertide" || !c.Secure || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Path != "/" || c.Domain != "" {
		t.Errorf("the cookie is %s", c)
	}
	if res.Header.Get("Strict-Transport-Security") == "" || res.TLS.Version < tls.VersionTLS12 {
		t.Error("the connection is not held to TLS")
	}
	for host, want := range map[string]int{"tide.test": 401, "127.0.0.1": 401, "localhost": 401, "elsewhere.test": 403} {
		r, err := http.NewRequest("GET", base+"/api/v1/jobs", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = host
		res, err := first.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != want {
			t.Errorf("called %s it answers %s, want %d", host, res.Status, want)
		}
	}
	// Torn in the middle of being written, then whole.
	if err := os.WriteFile(key, text[:40], 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(1100 * time.Millisecond)
	if res, err := client().Get(base + "/healthz"); err != nil {
		t.Errorf("with half a key it serves no more: %v", err)
	} else {
		res.Body.Close()
	}
	certified(t, dir, "tide.test", 2*time.Hour)
	until(t, "the new certificate counts", func() bool {
		res, err := client().Get(base + "/healthz") // which knows the new one alone
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == 200
	})
	if res, err := http.Get("http://127.0.0.1:" + port + "/healthz"); err == nil {
		res.Body.Close()
		if res.StatusCode != 400 {
			t.Errorf("in the clear it answers %s", res.Status)
		}
	}
}
