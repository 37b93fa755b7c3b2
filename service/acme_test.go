package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/acme"
)

// authority is a small ACME server (RFC 8555) for one order at a time. It gives a certificate to whoever proves by tls-alpn-01 (RFC 8737) at an address that the name is
// theirs. It does not look at signatures of requests.
type authority struct {
	*httptest.Server
	t    *testing.T
	key  *ecdsa.PrivateKey
	root *x509.Certificate

	mu     sync.Mutex // guards all below
	at     string     // where it looks
	name   string
	valid  bool // the order's name was proved
	chain  []byte
	orders int
}

func newAuthority(t *testing.T) *authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	about := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmarsh authority"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	raw, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	root, err := x509.ParseCertificate(raw)
	if err != nil {
		t.Fatal(err)
	}
	a := &authority{t: t, key: key, root: root}
	a.Server = httptest.NewServer(http.HandlerFunc(a.serve))
	t.Cleanup(a.Close)
	return a
}

func (a *authority) serve(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	w.Header().Set("Replay-Nonce", rand.Text())
	var jws struct{ Payload string }
	_ = json.NewDecoder(r.Body).Decode(&jws) // a HEAD has none
	payload, _ := base64.RawURLEncoding.DecodeString(jws.Payload)
	answer := func(status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	status := map[bool]string{true: "valid", false: "pending"}[a.valid]
	identifier := map[string]string{"type": "dns", "value": a.name}
	order := map[string]any{"status": map[bool]string{true: "ready", false: "pending"}[a.valid], "identifiers": []any{identifier}, "authorizations": []string{a.URL + "/authz"}, "finalize": a.URL + "/finalize"}
	if a.chain != nil {
		order["status"], order["certificate"] = "valid", a.URL+"/cert"
	}
	challenge := map[string]string{"type": "tls-alpn-01", "url": a.URL + "/challenge", "token": "ebb", "status": status}
	switch r.URL.Path {
	case "/dir":
		answer(200, map[string]string{"newNonce": a.URL + "/nonce", "newAccount": a.URL + "/account", "newOrder": a.URL + "/orders", "revokeCert": a.URL + "/revoke", "keyChange": a.URL + "/change"})
	case "/nonce":
	case "/account":
		w.Header().Set("Location", a.URL+"/account/1")
		answer(201, map[string]string{"status": "valid"})
	case "/orders":
		var ask struct{ Identifiers []struct{ Value string } }
		if json.Unmarshal(payload, &ask) != nil || len(ask.Identifiers) != 1 {
			answer(400, map[string]string{"type": "urn:ietf:params:acme:error:malformed"})
			return
		}
		a.name, a.valid, a.chain = ask.Identifiers[0].Value, false, nil
		a.orders++
		order["status"], order["identifiers"] = "pending", []any{map[string]string{"type": "dns", "value": a.name}}
		w.Header().Set("Location", a.URL+"/order")
		answer(201, order)
	case "/authz":
		answer(200, map[string]any{"status": status, "identifier": identifier, "challenges": []any{challenge}})
	case "/challenge":
		if a.valid = a.proved(); !a.valid {
			challenge["status"] = "invalid"
		}
		answer(200, challenge)
	case "/order":
		w.Header().Set("Location", a.URL+"/order")
		answer(200, order)
	case "/finalize":
		var ask struct{ CSR string }
		raw, _ := base64.RawURLEncoding.DecodeString(decoded(payload, &ask).CSR)
		csr, err := x509.ParseCertificateRequest(raw)
		if err != nil || !a.valid {
			answer(403, map[string]string{"type": "urn:ietf:params:acme:error:unauthorized"})
			return
		}
		leaf := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), DNSNames: csr.DNSNames, NotBefore: time.Now().Add(-time.Minute), NotAfter: time.Now().Add(12 * time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
		if raw, err = x509.CreateCertificate(rand.Reader, leaf, a.root, csr.PublicKey, a.key); err != nil {
			a.t.Error(err)
		}
		a.chain = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.root.Raw})...)
		order["status"], order["certificate"] = "valid", a.URL+"/cert"
		w.Header().Set("Location", a.URL+"/order")
		answer(200, order)
	case "/cert":
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		_, _ = w.Write(a.chain)
	default:
		a.t.Errorf("the authority is asked for %s", r.URL.Path)
		w.WriteHeader(404)
	}
}

func decoded[T any](text []byte, v *T) *T {
	_ = json.Unmarshal(text, v) // what is missing is refused
	return v
}

// proved says whether who listens at the address has the name: it shows a certificate for it with the answer to the challenge.
func (a *authority) proved() bool {
	d := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 5 * time.Second}, Config: &tls.Config{ServerName: a.name, NextProtos: []string{acme.ALPNProto}, InsecureSkipVerify: true}} // it signs itself
	c, err := d.DialContext(context.Background(), "tcp", a.at)
	if err != nil {
		return false
	}
	defer c.Close()
	state := c.(*tls.Conn).ConnectionState()
	if state.NegotiatedProtocol != acme.ALPNProto || len(state.PeerCertificates) != 1 || state.PeerCertificates[0].VerifyHostname(a.name) != nil {
		return false
	}
	for _, e := range state.PeerCertificates[0].Extensions {
		if e.Id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}) {
			return e.Critical
		}
	}
	return false
}

// TestPublicName: an authority gives the service its certificate, for its name and no other, once: it is kept for the next start.
func TestPublicName(t *testing.T) {
	a := newAuthority(t)
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		ctx, cancel := context.WithCancel(context.Background())
		ready, ended := make(chan string, 1), make(chan error, 1)
		go func() {
			ended <- Serve(ctx, Options{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "data"), PublicName: "tide.test", ACME: a.URL + "/dir", Ready: func(at string) { ready <- at }})
		}()
		var base string
		select {
		case base = <-ready:
		case err := <-ended:
			cancel()
			t.Fatal(err)
		}
		if !strings.HasPrefix(base, "https://tide.test:") {
			t.Errorf("the service is at %s", base)
		}
		at := "127.0.0.1" + base[strings.LastIndex(base, ":"):]
		a.mu.Lock()
		a.at = at
		a.mu.Unlock()
		pool := x509.NewCertPool()
		pool.AddCert(a.root)
		for name, want := range map[string]bool{"tide.test": true, "other.test": false} {
			tr := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "tcp", at)
			}}
			res, err := (&http.Client{Transport: tr, Timeout: 30 * time.Second}).Get("https://" + name + base[strings.LastIndex(base, ":"):] + "/healthz")
			if (err == nil) != want {
				t.Errorf("%s is reached: %v", name, err)
			}
			if err == nil {
				res.Body.Close()
			}
			tr.CloseIdleConnections()
		}
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
	if a.orders != 1 {
		t.Errorf("%d certificates were asked for, want 1", a.orders)
	}
	if st, err := os.Stat(filepath.Join(dir, "data", "certificates")); err != nil || st.Mode().Perm() != 0o700 {
		t.Errorf("the folder of certificates: %v, %v", st, err)
	}
}
