package service

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"undertide/api"
)

// provider is a small OpenID Connect provider: whoever comes is the person that it is told, and what it says of them can be falsified.
type provider struct {
	*httptest.Server
	t   *testing.T
	key *rsa.PrivateKey

	mu     sync.Mutex // guards all below
	claims map[string]any
	forge  func(claims map[string]any) // nil for an honest one
	codes  map[string]url.Values       // that were asked with, by code
}

func newProvider(t *testing.T) *provider {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p := &provider{t: t, key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: "k1", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("GET /authorize", func(w http.ResponseWriter, r *http.Request) {
		code, back := rand.Text(), r.URL.Query()
		p.mu.Lock()
		p.codes[code] = back
		p.mu.Unlock()
		http.Redirect(w, r, back.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {back.Get("state")}}.Encode(), http.StatusFound)
	})
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		asked, ok := p.codes[r.FormValue("code")]
		delete(p.codes, r.FormValue("code"))
		user, secret, _ := r.BasicAuth()
		challenge := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || user != "undertide" || secret != "ebb" || asked.Get("code_challenge") != base64.RawURLEncoding.EncodeToString(challenge[:]) || asked.Get("redirect_uri") != r.FormValue("redirect_uri") {
			http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
			return
		}
		claims := map[string]any{"iss": p.URL, "aud": "undertide", "sub": "1", "exp": time.Now().Add(time.Minute).Unix(), "iat": time.Now().Unix(), "nonce": asked.Get("nonce")}
		maps.Copy(claims, p.claims)
		if p.forge != nil {
			p.forge(claims)
		}
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "k1"}}, nil)
		if err != nil {
			t.Error(err)
			return
		}
		text, _ := json.Marshal(claims)
		signed, err := signer.Sign(text)
		if err != nil {
			t.Error(err)
			return
		}
		compact, _ := signed.CompactSerialize()
		answer(w, map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": compact})
	})
	return p
}

func (p *provider) says(claims map[string]any, forge func(map[string]any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims, p.forge = claims, forge
}

// TestSignOn: people sign in by a provider, known by the mail address for which it vouches. What it did not say, said of others, or said too long ago lets nobody in.
func TestSignOn(t *testing.T) {
	prov := newProvider(t)
	p := &peopled{t: t, browsers: map[string]*http.Client{}, tokens: map[string]string{}}
	p.base, p.dir = servingWith(t, Options{SignIn: true, SignOn: &SignOn{Issuer: prov.URL, Client: "undertide", Secret: "ebb", Name: "Harbour office"}, Enter: func(a string) { p.enter = a }})
	_, code, _ := strings.Cut(p.enter, "#")
	p.comes("kit", api.Enter{Code: code, Name: "kit", Password: passwordOf("kit")})
	p.as("kit").want(201, "POST", "/people", api.NewPerson{Name: "ena", Role: "engineer", Email: "Ena@saltmarsh.example"}, nil)
	p.as("kit").want(409, "POST", "/people", api.NewPerson{Name: "other", Email: "ena@Saltmarsh.example"}, nil)

	// comes goes the whole way as a browser does, and gives where it ends, and who that is.
	comes := func(change func(at *url.URL) *url.URL) (end string, me api.Me) {
		t.Helper()
		jar, err := cookiejar.New(nil)
		if err != nil {
			t.Fatal(err)
		}
		b := &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		at := p.base + "/api/v1/single-sign-on"
		for range 6 {
			res, err := b.Get(at)
			if err != nil {
				t.Fatal(err)
			}
			_, _ = io.Copy(io.Discard, res.Body)
			res.Body.Close()
			next, err := res.Location()
			if err != nil {
				break
			}
			if strings.HasSuffix(next.Path, "/back") && change != nil {
				next = change(next)
			}
			if end = next.RequestURI(); next.Fragment != "" {
				end += "#" + next.Fragment
			}
			if next.Path == "/" || next.Path == "/jobs" {
				break
			}
			at = next.String()
		}
		caller{p: p, client: b, header: http.Header{}}.want(200, "GET", "/me", nil, &me)
		return end, me
	}
	ena := map[string]any{"email": "ena@saltmarsh.example", "email_verified": true}
	prov.says(ena, nil)
	if end, me := comes(nil); end != "/" || me.Name != "ena" || me.Role != "engineer" || me.SingleSignOn != "Harbour office" {
		t.Errorf("somebody who is known comes to %s as %+v", end, me)
	}
	for name, c := range map[string]struct {
		claims map[string]any
		forge  func(map[string]any)
		change func(*url.URL) *url.URL
		end    string
	}{
		"unknown":          {claims: map[string]any{"email": "mallory@saltmarsh.example", "email_verified": true}, end: "/jobs#sign-on=unknown"},
		"not verified":     {claims: map[string]any{"email": "ena@saltmarsh.example", "email_verified": false}, end: "/jobs#sign-on=unverified"},
		"without a mail":   {claims: map[string]any{}, end: "/jobs#sign-on=unverified"},
		"of another":       {claims: ena, forge: func(c map[string]any) { c["aud"] = "another" }, end: "/jobs#sign-on=failed"},
		"by another":       {claims: ena, forge: func(c map[string]any) { c["iss"] = "https://elsewhere.example" }, end: "/jobs#sign-on=failed"},
		"said before":      {claims: ena, forge: func(c map[string]any) { c["nonce"] = "before" }, end: "/jobs#sign-on=failed"},
		"too old":          {claims: ena, forge: func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() }, end: "/jobs#sign-on=failed"},
		"another state":    {claims: ena, change: func(u *url.URL) *url.URL { return with(u, "state", "guessed") }, end: "/jobs#sign-on=failed"},
		"another code":     {claims: ena, change: func(u *url.URL) *url.URL { return with(u, "code", "guessed") }, end: "/jobs#sign-on=failed"},
		"without a state":  {claims: ena, change: func(u *url.URL) *url.URL { return with(u, "state", "") }, end: "/jobs#sign-on=failed"},
		"refused by there": {claims: ena, change: func(u *url.URL) *url.URL { return with(u, "error", "access_denied") }, end: "/jobs#sign-on=failed"},
	} {
		prov.says(c.claims, c.forge)
		if end, me := comes(c.change); end != c.end || me.SignedIn {
			t.Errorf("%s: comes to %s, want %s, as %+v", name, end, c.end, me)
		}
	}
	// Who comes back in another browser than the one that left is not let in: nobody signs in for somebody else.
	prov.says(ena, nil)
	stolen := ""
	if _, me := comes(func(u *url.URL) *url.URL { stolen = u.String(); return with(u, "error", "stopped") }); me.SignedIn {
		t.Error("let in all the same")
	}
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get(stolen)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if where := res.Header.Get("Location"); where != "/jobs#sign-on=failed" {
		t.Errorf("another browser comes to %s", where)
	}
	var trail api.Page[api.TrailLine]
	until(t, "the trail tells of it", func() bool {
		p.as("kit").want(200, "GET", "/trail", nil, &trail)
		said := map[string]bool{}
		for _, l := range trail.Items {
			said[l.Action+" "+l.Target+" "+l.Outcome] = true
		}
		return said["signOn ena done"] && said["signOn mallory@saltmarsh.example unknown"]
	})
}

func with(u *url.URL, name, value string) *url.URL {
	out := *u
	q := out.Query()
	q.Set(name, value)
	out.RawQuery = q.Encode()
	return &out
}

// TestNewcomers: where newcomers have a role, whoever the provider vouches for is added with it.
func TestNewcomers(t *testing.T) {
	prov := newProvider(t)
	enter := ""
	base, _ := servingWith(t, Options{SignIn: true, SignOn: &SignOn{Issuer: prov.URL, Client: "undertide", Secret: "ebb", Newcomers: "reader"}, Enter: func(a string) { enter = a }})
	prov.says(map[string]any{"email": "Ben@saltmarsh.example", "email_verified": true}, nil)
	for range 2 {
		jar, err := cookiejar.New(nil)
		if err != nil {
			t.Fatal(err)
		}
		b := &http.Client{Jar: jar}
		res, err := b.Get(base + "/api/v1/single-sign-on")
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		res, err = b.Get(base + "/api/v1/me")
		if err != nil {
			t.Fatal(err)
		}
		var me api.Me
		if err := json.NewDecoder(res.Body).Decode(&me); err != nil || me.Name != "ben@saltmarsh.example" || me.Role != "reader" {
			t.Errorf("a newcomer is %+v, %v", me, err)
		}
		res.Body.Close()
	}
	// They are no keepers: the first one can still come.
	p := &peopled{t: t, base: base, browsers: map[string]*http.Client{}, tokens: map[string]string{}}
	_, code, _ := strings.Cut(enter, "#")
	p.comes("kit", api.Enter{Code: code, Name: "kit", Password: passwordOf("kit")})
	prov.Close()
	other, _ := servingWith(t, Options{SignIn: true, SignOn: &SignOn{Issuer: prov.URL, Client: "undertide", Secret: "ebb"}})
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get(other + "/api/v1/single-sign-on")
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if where := res.Header.Get("Location"); where != "/jobs#sign-on=away" {
		t.Errorf("without the provider one comes to %s", where)
	}
}
