package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"log/slog"
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
	cert, key := certifiedAt(t, t.TempDir(), "tide.test", time.Hour)
	missing := filepath.Join(t.TempDir(), "none.pem")
	old, oldKey := certifiedAt(t, t.TempDir(), "tide.test", -time.Hour)
	for _, c := range []struct {
		o    Options
		says string
	}{
		{Options{Listen: "0.0.0.0:0"}, "beyond loopback whoever listens on the way would read passwords and rows; give a certificate"},
		{Options{Listen: "0.0.0.0:0", Behind: []string{"proxy.test"}, Hosts: []string{"tide.test"}}, "--behind proxy.test is not the address of a proxy"},
		{Options{Listen: "0.0.0.0:0", Behind: []string{"10.0.0.2"}}, "needs the name by which people call the proxy"},
		{Options{Listen: "0.0.0.0:0", Behind: []string{"10.0.0.2"}, Hosts: []string{"tide.test"}, TLSCert: cert, TLSKey: key}, "give one of them"},
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

// certifiedAt makes a certificate for a name and loopback, and gives the paths of it and its key.
func certifiedAt(t *testing.T, dir, name string, lasts time.Duration) (cert, key string) {
	t.Helper()
	m := testcert.Make(t, dir, name, lasts, net.IPv4(127, 0, 0, 1))
	return m.Cert, m.Key
}

// TestCertificate: the service is called by its names over TLS; its cookie is bound to it; another certificate counts as its files change, and one that cannot be
// read does not.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	cert, key := certifiedAt(t, dir, "tide.test", time.Hour)
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
	if c := cookies[0]; c.Name != "__Host-undertide-"+port || !c.Secure || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Path != "/" || c.Domain != "" {
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
	certifiedAt(t, dir, "tide.test", 2*time.Hour)
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

// TestBehindProxy: behind a proxy that is named the service is called by its name, over the proxy's TLS, by whoever the proxy says; on loopback, too, people sign in. Who is not
// the proxy is not taken, and a proxy that nobody has named stands before no open service.
func TestBehindProxy(t *testing.T) {
	enter, free := "", ""
	if l, err := net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	} else {
		free = l.Addr().String()
		l.Close()
	}
	base, _ := servingWith(t, Options{Behind: []string{"127.0.0.1"}, Hosts: []string{"tide.test"}, Enter: func(a string) { enter = a }, Listen: free})
	if base != "https://tide.test" || !strings.HasPrefix(enter, base+"/enter#") {
		t.Errorf("the service is at %s, its first keeper at %s", base, enter)
	}
	ask := func(method, path, body string, header ...string) (int, http.Header, string) {
		t.Helper()
		r, err := http.NewRequest(method, "http://"+free+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Host = "tide.test"
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Add(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, res.Header, string(text)
	}
	if status, _, text := ask("GET", "/api/v1/jobs", ""); status != 403 || !strings.Contains(text, "X-Forwarded-Proto") {
		t.Errorf("in the clear: %d %s", status, text)
	}
	if status, head, text := ask("GET", "/api/v1/jobs", "", "X-Forwarded-Proto", "https"); status != 401 || head.Get(TokenFileHeader) != "" {
		t.Errorf("nobody: %d %s, with %v", status, text, head)
	}
	_, code, _ := strings.Cut(enter, "#")
	status, head, text := ask("POST", "/api/v1/enter", `{"code":"`+code+`","name":"kit","password":"kit counts the gulls"}`, "X-Forwarded-Proto", "https", "X-Forwarded-For", "198.51.100.1", "X-Forwarded-For", "203.0.113.9, 198.51.100.7")
	if cookie := head.Get("Set-Cookie"); status != 200 || !strings.HasPrefix(cookie, "__Host-undertide=") || !strings.Contains(cookie, "Secure") {
		t.Fatalf("the first keeper: %d %s, %s", status, text, cookie)
	}
	cookie, _, _ := strings.Cut(head.Get("Set-Cookie"), ";")
	if _, _, text := ask("GET", "/api/v1/trail", "", "X-Forwarded-Proto", "https", "Cookie", cookie); !strings.Contains(text, `"address":"198.51.100.7","action":"enter"`) {
		t.Errorf("the trail does not say where the keeper came from: %s", text)
	}
	if status, _, text := ask("POST", "/api/v1/sign-out", "", "X-Forwarded-Proto", "https", "Origin", "https://tide.test", "Cookie", cookie); status != 204 {
		t.Errorf("the page of the console itself: %d %s", status, text)
	}

	plain, _ := serving(t)
	for _, header := range []string{"X-Forwarded-For", "Forwarded"} {
		r, err := http.NewRequest("GET", plain+"/api/v1/jobs", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set(header, "for=203.0.113.9")
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != 403 {
			t.Errorf("an open service behind a proxy that nobody named answers %s", res.Status)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			if c, err := (onlyFrom{l, []string{"10.0.0.2"}, slog.New(slog.DiscardHandler)}).Accept(); err != nil {
				return
			} else {
				t.Errorf("a connection of %s is taken", c.RemoteAddr())
			}
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
	if n, err := c.Read(make([]byte, 1)); n != 0 || !errors.Is(err, io.EOF) {
		t.Errorf("a connection that is not the proxy's: %d, %v", n, err)
	}
}
