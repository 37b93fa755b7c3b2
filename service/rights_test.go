package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
)

// peopled is a service with people: kit is a keeper, ena an engineer, rea a reader.
type peopled struct {
	t         *testing.T
	base, dir string
	enter     string // the address of the first keeper, as it was printed
	browsers  map[string]*http.Client
	tokens    map[string]string // by person
}

// passwordOf is what somebody chose.
func passwordOf(name string) string { return name + " counts the gulls" }

func servingPeople(t *testing.T) *peopled {
	t.Helper()
	return servingPeopleWith(t, Options{})
}

func servingPeopleWith(t *testing.T, o Options) *peopled {
	t.Helper()
	p := &peopled{t: t, browsers: map[string]*http.Client{}, tokens: map[string]string{}}
	o.SignIn, o.Enter = true, func(a string) { p.enter = a }
	p.base, p.dir = servingWith(t, o)
	_, code, found := strings.Cut(p.enter, p.base+enterPath)
	if !found {
		t.Fatalf("the first keeper is let in at %q, want it below %s", p.enter, p.base+enterPath)
	}
	p.comes("kit", api.Enter{Code: code, Name: "kit", Password: passwordOf("kit")})
	for name, role := range map[string]string{"ena": "engineer", "rea": "reader"} {
		var made api.MadePerson
		p.as("kit").want(201, "POST", "/people", api.NewPerson{Name: name, Role: role}, &made)
		p.comes(name, api.Enter{Code: made.Code, Password: passwordOf(name)})
	}
	return p
}

// comes lets somebody in by a code, and makes a token for them.
func (p *peopled) comes(name string, by api.Enter) {
	p.t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		p.t.Fatal(err)
	}
	p.browsers[name] = &http.Client{Jar: jar}
	var me api.Me
	p.as(name).want(200, "POST", "/enter", by, &me)
	if me.Name != name || !me.SignedIn {
		p.t.Fatalf("%s was let in as %+v", name, me)
	}
	var made api.MadePersonToken
	p.as(name).want(201, "POST", "/tokens", api.NewPersonToken{Name: "own"}, &made)
	p.tokens[name] = made.Text
}

// caller asks as somebody.
type caller struct {
	p      *peopled
	client *http.Client
	header http.Header
	host   string
}

// as asks by a person's session; nobody's by "".
func (p *peopled) as(name string) caller {
	c := p.browsers[name]
	if c == nil {
		c = &http.Client{}
	}
	return caller{p: p, client: c, header: http.Header{}}
}

// by asks by a token.
func (p *peopled) by(token string) caller {
	return caller{p: p, client: &http.Client{}, header: http.Header{"Authorization": {"Bearer " + token}}}
}

func (c caller) with(name, value string) caller {
	c.header = c.header.Clone()
	c.header.Set(name, value)
	return c
}

// ask gives the status of an answer, and its text.
func (c caller) ask(method, path string, body []byte) (int, string) {
	c.p.t.Helper()
	if !strings.HasPrefix(path, "/in/") && path != "/healthz" && path != "/readyz" && path != "/metrics" {
		path = "/api/v1" + path
	}
	r, err := http.NewRequest(method, c.p.base+path, bytes.NewReader(body))
	if err != nil {
		c.p.t.Fatal(err)
	}
	r.Header = c.header.Clone()
	r.Host = c.host
	res, err := c.client.Do(r)
	if err != nil {
		c.p.t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		c.p.t.Fatal(err)
	}
	return res.StatusCode, string(text)
}

// want asks, with v as JSON, and reads the answer into out; both may be nil.
func (c caller) want(status int, method, path string, v, out any) string {
	c.p.t.Helper()
	var body []byte
	switch v := v.(type) {
	case nil:
	case string:
		body = []byte(v)
	default:
		var err error
		if body, err = json.Marshal(v); err != nil {
			c.p.t.Fatal(err)
		}
	}
	got, text := c.ask(method, path, body)
	if got != status {
		c.p.t.Errorf("%s %s: %d, want %d: %s", method, path, got, status, text)
	} else if out != nil {
		if err := json.Unmarshal([]byte(text), out); err != nil {
			c.p.t.Errorf("%s %s: %v: %s", method, path, err, text)
		}
	}
	return text
}

// TestEveryRouteHasARight: there is no address without an entry in the table of rights, and none in the table that the service does not have.
func TestEveryRouteHasARight(t *testing.T) {
	listed := map[string]access.Role{}
	for _, o := range operations.All {
		listed[o.Method+" /api/v1"+places.ReplaceAllString(o.Path, ":$1")] = o.Needs
	}
	for _, o := range operations.Beside {
		listed[o.Method+" "+o.Path] = o.Needs
	}
	for _, r := range (&Service{}).router().Routes() {
		place := r.Method + " " + r.Path
		need, there := listed[place]
		if !there {
			t.Errorf("%s is served, and the table of rights does not name it", place)
		}
		if !slices.Contains([]access.Role{access.Nobody, access.Poster, access.Reader, access.Engineer, access.Keeper}, need) {
			t.Errorf("%s needs the right of %q, which is none", place, need)
		}
		delete(listed, place)
	}
	for place := range listed {
		t.Errorf("%s is in the table of rights, and is not served", place)
	}
}

// TestRights asks every address as nobody, as a reader, an engineer and a keeper, with tokens that have ended and that were revoked, with the cookie of a session that has
// ended, as a page of another site, by another name, and with a body that is too large. What is asked for is not there, so that who is let through changes nothing.
func TestRights(t *testing.T) {
	p := servingPeople(t)
	var ended, revoked api.MadePersonToken
	p.as("kit").want(201, "POST", "/tokens", api.NewPersonToken{Name: "ended", For: "1ms"}, &ended)
	p.as("kit").want(201, "POST", "/tokens", api.NewPersonToken{Name: "revoked"}, &revoked)
	p.as("kit").want(204, "DELETE", "/tokens/revoked", nil, nil)
	stolen := p.stolen("kit")
	roles := map[string]access.Role{"rea": access.Reader, "ena": access.Engineer, "kit": access.Keeper}
	for _, o := range operations.All {
		path := places.ReplaceAllString(o.Path, "none")
		if strings.HasPrefix(o.Path, "/runs/") {
			path = strings.Replace(path, "/none", "/999999", 1)
		}
		body := []byte("{}")
		if o.Method == "GET" {
			body = nil
		}
		place := o.Method + " " + path
		unknown := map[string]caller{"nobody": p.as(""), "a token that has ended": p.by(ended.Text), "a token that was revoked": p.by(revoked.Text), "a made-up token": p.by(access.NewToken()), "a stolen cookie": stolen,
			"a name and a password": p.as("").with("Authorization", "Basic a2l0OmtpdA==")}
		for who, c := range unknown {
			status, text := c.ask(o.Method, path, body)
			if wants := o.Needs != access.Nobody; (status == 401 && strings.Contains(text, api.NotSignedIn.Code)) != wants {
				t.Errorf("%s as %s, which needs %s: %d %s", place, who, o.Needs, status, text)
			}
		}
		for name, role := range roles {
			status, text := p.by(p.tokens[name]).ask(o.Method, path, body)
			if may := role.Covers(o.Needs); (status == 403 && strings.Contains(text, `"`+api.NotAllowed.Code+`"`)) == may || status == 401 && o.ID != "signIn" && o.ID != "enter" && o.ID != "lookAtCode" {
				t.Errorf("%s as %s (%s), which needs %s: %d %s", place, name, role, o.Needs, status, text)
			}
			if status == 403 && !strings.Contains(text, "ask kit") {
				t.Errorf("%s as %s is not told whom to ask: %s", place, name, text)
			}
		}
		if o.Method != "GET" {
			if status, text := p.as("kit").with("Origin", "https://elsewhere.example").with("Sec-Fetch-Site", "cross-site").ask(o.Method, path, body); status != 403 || !strings.Contains(text, api.ForeignOrigin.Code) {
				t.Errorf("%s from a page of another site: %d %s", place, status, text)
			}
		}
		c := p.by(p.tokens["kit"])
		c.host = "elsewhere.example"
		if status, text := c.ask(o.Method, path, body); status != 403 || !strings.Contains(text, api.ForeignHost.Code) {
			t.Errorf("%s by another name: %d %s", place, status, text)
		}
		if o.Body != nil || o.Document {
			large := append([]byte(`{"name": "`), bytes.Repeat([]byte("x"), 5<<20)...)
			c := p.by(p.tokens["kit"])
			if o.Document {
				c = c.with("Content-Type", "application/yaml")
			}
			if status, text := c.ask(o.Method, path, append(large, `"}`...)); status != 413 && status != 404 {
				t.Errorf("%s with five mebibytes: %d %s", place, status, text)
			}
		}
	}
	for _, path := range []string{"/healthz", "/readyz", "/metrics"} { // it listens on loopback alone
		p.as("").want(200, "GET", path, nil, nil)
	}
	p.as("").with("Content-Type", "application/json").want(503, "POST", "/in/none/none", "{}", nil)
}

// stolen gives a session's cookie to somebody else, and ends the session.
func (p *peopled) stolen(name string) caller {
	p.t.Helper()
	own := p.signedIn(name)
	r, err := http.NewRequest("GET", p.base, nil)
	if err != nil {
		p.t.Fatal(err)
	}
	cookies := own.client.Jar.Cookies(r.URL)
	if len(cookies) != 1 {
		p.t.Fatalf("a session has %d cookies", len(cookies))
	}
	thief := p.as("").with("Cookie", cookies[0].String())
	var me api.Me
	if thief.want(200, "GET", "/me", nil, &me); me.Name != name {
		p.t.Fatalf("the cookie of %s is of %+v", name, me)
	}
	own.want(204, "POST", "/sign-out", nil, nil)
	return thief
}

// TestTokenOfOneJob: a token for one job, or for one source, can do nothing else.
func TestTokenOfOneJob(t *testing.T) {
	p := servingPeople(t)
	ena := p.by(p.tokens["ena"])
	lifts := fmt.Sprintf(simulated, filepath.Join(p.dir, "out"))
	other := strings.NewReplacer("job: lifts", "job: other", "/out/", "/other/").Replace(lifts)
	posted := `undertide: 1
job: posted
sources:
  levels: {via: http, with: {tokens: true}, fields: {gauge: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: file, with: {path: ` + filepath.Join(p.dir, "posted") + `/}}
`
	for _, text := range []string{lifts, other, posted} {
		ena.with("Content-Type", "application/yaml").want(201, "POST", "/jobs", text, nil)
	}
	var one api.MadePersonToken
	p.as("ena").want(201, "POST", "/tokens", api.NewPersonToken{Name: "one", Job: "lifts", Role: "engineer"}, &one)
	bound := p.by(one.Text)
	var begun api.Started
	bound.want(201, "POST", "/jobs/lifts/runs", "{}", &begun)
	bound.want(200, "GET", "/jobs/lifts", nil, nil)
	bound.want(200, "GET", fmt.Sprintf("/runs/%d", begun.Run.ID), nil, nil)
	bound.want(200, "GET", "/kinds", nil, nil)
	var started api.Started
	ena.want(201, "POST", "/jobs/other/runs", "{}", &started)
	yaml := bound.with("Content-Type", "application/yaml")
	for _, text := range []string{
		bound.want(403, "GET", "/jobs", nil, nil), bound.want(403, "GET", "/jobs/other", nil, nil), bound.want(403, "GET", fmt.Sprintf("/runs/%d", started.Run.ID), nil, nil),
		bound.want(403, "POST", "/jobs/other/stop", nil, nil), bound.want(403, "GET", "/connections", nil, nil), bound.want(403, "GET", "/tokens", nil, nil),
		yaml.want(403, "POST", "/jobs", other, nil), yaml.want(403, "POST", "/jobs", strings.Replace(lifts, "job: lifts", "job: third", 1), nil),
	} {
		if !strings.Contains(text, "the token one is for the job lifts alone") {
			t.Error(text)
		}
	}
	yaml.want(200, "POST", "/jobs", lifts, nil)
	var poster api.MadeToken
	ena.want(201, "POST", "/jobs/posted/tokens", api.NewToken{Name: "gate", Source: "levels"}, &poster)
	ena.want(201, "POST", "/jobs/posted/runs", "{}", nil)
	gate := p.by(poster.Text).with("Content-Type", "application/json")
	gate.want(202, "POST", "/in/posted/levels", `{"gauge": "G1", "at": "2026-03-01T00:00:00Z"}`, nil)
	for _, o := range operations.All {
		if o.Needs == access.Nobody {
			continue
		}
		path := places.ReplaceAllString(strings.ReplaceAll(o.Path, "{job}", "posted"), "levels")
		if status, text := gate.ask(o.Method, path, nil); status != 403 || !strings.Contains(text, "may post to its source, and do nothing else") {
			t.Errorf("%s %s by a token that posts: %d %s", o.Method, path, status, text)
		}
	}
	if status, text := p.by(p.tokens["kit"]).with("Content-Type", "application/json").ask("POST", "/in/posted/levels", []byte("{}")); status != 401 {
		t.Errorf("a keeper's token posts: %d %s", status, text)
	}
}

// TestOwners: a job that names its owners is changed by them and by keepers alone; and looked at by everybody.
func TestOwners(t *testing.T) {
	p := servingPeople(t)
	ena, rea, kit := p.by(p.tokens["ena"]), p.by(p.tokens["rea"]), p.by(p.tokens["kit"])
	saves := ena.with("Content-Type", "application/yaml")
	text := fmt.Sprintf(simulated, filepath.Join(p.dir, "out"))
	saves.want(201, "POST", "/jobs", text, nil)
	kit.want(400, "PUT", "/jobs/lifts/owners", api.Owners{Owners: []string{"rea"}}, nil)
	kit.want(404, "PUT", "/jobs/lifts/owners", api.Owners{Owners: []string{"enna"}}, nil)
	var j api.Job
	if kit.want(200, "PUT", "/jobs/lifts/owners", api.Owners{Owners: []string{"kit", "kit"}}, &j); !slices.Equal(j.Owners, []string{"kit"}) {
		t.Errorf("the owners are %v", j.Owners)
	}
	changed := strings.Replace(text, "1.0", "2.0", 1)
	for _, said := range []string{
		saves.want(403, "POST", "/jobs", changed, nil), ena.want(403, "POST", "/jobs/lifts/runs", "{}", nil), ena.want(403, "DELETE", "/jobs/lifts", nil, nil),
		ena.want(403, "PUT", "/jobs/lifts/owners", api.Owners{Owners: []string{"ena"}}, nil), ena.want(403, "POST", "/jobs/lifts/runs", `{"begin": "earliest"}`, nil),
	} {
		if !strings.Contains(said, "job lifts may be changed by kit, and by keepers") {
			t.Error(said)
		}
	}
	rea.want(200, "GET", "/jobs/lifts", nil, nil)
	kit.want(200, "PUT", "/jobs/lifts/owners", api.Owners{Owners: []string{"ena"}}, nil)
	var saved api.Saved
	if saves.want(201, "POST", "/jobs", changed, &saved); !strings.HasPrefix(saved.Version.SavedBy, "ena") {
		t.Errorf("the version was saved by %q", saved.Version.SavedBy)
	}
	kit.want(201, "POST", "/jobs/lifts/runs", "{}", nil)
	ena.want(200, "POST", "/jobs/lifts/stop", nil, nil)
	var history api.Page[api.Event]
	until(t, "the history says by whom", func() bool {
		rea.want(200, "GET", "/jobs/lifts/history", nil, &history)
		by := map[string]string{}
		for _, h := range history.Items {
			by[h.Kind] = h.DoneBy
		}
		return strings.HasPrefix(by["saved"], "ena") && strings.HasPrefix(by["started"], "kit") && strings.HasPrefix(by["stopped"], "ena")
	})
}

// TestPeople: what a keeper does to people counts at once, for sessions, tokens and streams.
func TestPeople(t *testing.T) {
	p := servingPeople(t)
	kit := p.as("kit")
	if said := kit.want(409, "PUT", "/people/kit", api.ChangedPerson{Role: ptr("reader")}, nil); !strings.Contains(said, "kit is the only keeper") {
		t.Error(said)
	}
	kit.want(409, "DELETE", "/people/kit", nil, nil)
	kit.want(409, "POST", "/people", api.NewPerson{Name: "ENA"}, nil)
	kit.want(400, "POST", "/people", api.NewPerson{Name: "x", Role: "owner"}, nil)
	kit.want(400, "POST", "/people", api.NewPerson{Name: "a b"}, nil)

	// A role that changes counts for what was begun before.
	p.as("ena").want(200, "GET", "/connections", nil, nil)
	kit.want(200, "PUT", "/people/ena", api.ChangedPerson{Role: ptr("reader")}, nil)
	p.as("ena").want(403, "GET", "/connections", nil, nil)
	p.by(p.tokens["ena"]).want(403, "GET", "/connections", nil, nil)
	kit.want(200, "PUT", "/people/ena", api.ChangedPerson{Role: ptr("engineer")}, nil)
	p.by(p.tokens["ena"]).want(200, "GET", "/connections", nil, nil)
	p.as("rea").want(403, "POST", "/tokens", api.NewPersonToken{Name: "more", Role: "keeper"}, nil)
	p.as("rea").want(403, "POST", "/tokens", api.NewPersonToken{Name: "others", Person: "kit"}, nil)

	// Another password ends the other sessions; a wrong one of before changes nothing.
	other := p.signedIn("ena")
	p.as("ena").want(401, "POST", "/me/password", api.NewPassword{Old: "guessed it wrong", New: passwordOf("ena2")}, nil)
	p.as("ena").want(400, "POST", "/me/password", api.NewPassword{Old: passwordOf("ena"), New: "short"}, nil)
	p.as("ena").want(200, "POST", "/me/password", api.NewPassword{Old: passwordOf("ena"), New: passwordOf("ena2")}, nil)
	p.as("ena").want(200, "GET", "/connections", nil, nil)
	other.want(401, "GET", "/connections", nil, nil)
	p.as("").want(401, "POST", "/sign-in", api.SignIn{Name: "ena", Password: passwordOf("ena")}, nil)

	// A code counts once, and ends the sessions of before.
	var made, again api.MadePerson
	kit.want(201, "POST", "/people/ena/code", nil, &made)
	p.as("ena").want(401, "GET", "/connections", nil, nil)
	kit.want(201, "POST", "/people/ena/code", nil, &again)
	p.as("").want(401, "POST", "/enter", api.Enter{Code: made.Code, Password: passwordOf("ena3")}, nil)
	var whom api.CodeFor
	if p.as("").want(200, "POST", "/enter/look", api.Code{Code: again.Code}, &whom); whom.Name != "ena" || whom.Role != "engineer" || whom.First {
		t.Errorf("the code is for %+v", whom)
	}
	p.as("ena").want(200, "POST", "/enter", api.Enter{Code: again.Code, Password: passwordOf("ena3")}, nil)
	p.as("").want(401, "POST", "/enter", api.Enter{Code: again.Code, Password: passwordOf("ena4")}, nil)
	if _, first, _ := strings.Cut(p.enter, "#"); first != "" {
		p.as("").want(401, "POST", "/enter", api.Enter{Code: first, Name: "mallory", Password: passwordOf("mallory")}, nil)
	}

	// Whoever is removed is gone at once: session, token, and the streams that they listen to.
	r, err := http.NewRequest("GET", p.base+"/api/v1/jobs", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Accept", "text/event-stream")
	r.Header.Set("Authorization", "Bearer "+p.tokens["rea"])
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	heard := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(res.Body)
		heard <- string(text)
	}()
	kit.want(204, "DELETE", "/people/rea", nil, nil)
	select {
	case text := <-heard:
		if !strings.Contains(text, "event: signed-out") {
			t.Errorf("the stream ended with %q", text[max(0, len(text)-300):])
		}
	case <-time.After(3 * time.Second):
		t.Error("the stream of somebody who was removed goes on")
	}
	p.as("rea").want(401, "GET", "/jobs", nil, nil)
	p.by(p.tokens["rea"]).want(401, "GET", "/jobs", nil, nil)
	p.as("").want(401, "POST", "/sign-in", api.SignIn{Name: "rea", Password: passwordOf("rea")}, nil)

	// All of it stands in the trail, and what was not let.
	var trail api.Page[api.TrailLine]
	until(t, "the trail tells all", func() bool {
		kit.want(200, "GET", "/trail?limit=1000", nil, &trail)
		var lines []string
		for _, l := range trail.Items {
			lines = append(lines, strings.Join([]string{l.Who, l.Action, l.Target, l.Outcome}, "|"))
		}
		for _, want := range []string{"kit|enter|kit|done", "kit|addPerson|ena|done", "ena|enter|ena|done", "kit|changePerson|ena|done", "rea|makePersonToken|more|not-allowed", "ena|changePassword||wrong-password",
			"ena|changePassword||done", "kit|removePerson|rea|done", "nobody|signIn|ena|wrong-password", "kit|changePerson|kit|last-keeper"} {
			if !slices.Contains(lines, want) {
				return false
			}
		}
		return true
	})
	for _, l := range trail.Items {
		if l.Address != "127.0.0.1" || l.Request == "" || l.At.IsZero() {
			t.Errorf("a line of the trail is %+v", l)
		}
	}
}

func ptr[T any](v T) *T { return &v }

// signedIn is another session of somebody.
func (p *peopled) signedIn(name string) caller {
	p.t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		p.t.Fatal(err)
	}
	c := caller{p: p, client: &http.Client{Jar: jar}, header: http.Header{}}
	c.want(200, "POST", "/sign-in", api.SignIn{Name: name, Password: passwordOf(name)}, nil)
	return c
}

// TestSignInIsSlowed: of 100 wrong passwords most have to wait, whoever is named; and how long an answer takes does not tell whether there is such a person.
func TestSignInIsSlowed(t *testing.T) {
	p := servingPeople(t)
	took := func(name string) time.Duration {
		begun := time.Now()
		p.as("").want(401, "POST", "/sign-in", api.SignIn{Name: name, Password: "not the one at all"}, nil)
		return time.Since(begun)
	}
	var there, not []time.Duration
	for i := range 9 { // in turn, so that whatever else the machine does falls on both
		there = append(there, took("ena"))
		not = append(not, took(fmt.Sprintf("nobody-%d", i)))
	}
	// The least of each: whatever else the machine does only adds to it.
	if a, b := slices.Min(there), slices.Min(not); float64(a) < 0.7*float64(b) || float64(b) < 0.7*float64(a) {
		t.Errorf("a wrong password takes %s of somebody, and %s of nobody", a, b)
	}
	waited := 0
	for range 100 {
		status, text := p.as("").ask("POST", "/sign-in", []byte(`{"name": "kit", "password": "not the one at all"}`))
		switch {
		case status == 429 && strings.Contains(text, "try again in"):
			waited++
		case status != 401:
			t.Fatalf("%d %s", status, text)
		}
	}
	// The trail, which is never emptied, tells of what was tried, and not of who had to wait.
	p.as("kit").want(200, "GET", "/me", nil, nil)
	tried := 0
	until(t, "the trail tells of what was tried", func() bool {
		var trail api.Page[api.TrailLine]
		p.as("kit").want(200, "GET", "/trail?limit=1000", nil, &trail)
		tried = 0
		for _, l := range trail.Items {
			if l.Action == "signIn" && l.Target == "kit" {
				tried++
			}
		}
		return tried >= 100-waited
	})
	if tried > 100-waited {
		t.Errorf("the trail has %d lines of 100 tries, of which %d had to wait", tried, waited)
	}
	if waited < 80 {
		t.Errorf("of 100 wrong passwords %d had to wait", waited)
	}
	if status, _ := p.as("").ask("POST", "/sign-in", []byte(`{"name": "kit", "password": "`+passwordOf("kit")+`"}`)); status != 429 {
		t.Errorf("the right password is let through between wrong ones: %d", status)
	}
}
