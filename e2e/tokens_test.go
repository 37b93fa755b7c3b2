package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestTokens: a source that asks for tokens takes posts that bear one of its own and no others, as fast as that may; a token is shown once, listed with its
// last use, counts over a restart, and no more once it is revoked. Pages of listed origins may post, and of no others; what became of posts stands in
// the metrics.
func TestTokens(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	for _, name := range []string{"yard", "quay"} {
		write(t, dir, name+".yaml", strings.NewReplacer("job: posts", "job: "+name, "{listen: %s, journal: 64MiB}", `{tokens: true, origins: ["https://yard.example.org"]}`, "path: out/", "path: "+dir+"/"+name+"/").Replace(postsJob))
		s.must("save", name+".yaml")
		s.must("start", name)
		s.waitStatus(name, "running")
	}
	made := strings.TrimSpace(s.must("tokens", "yard", "--make", "gate-north").out)
	if !strings.HasPrefix(made, "ut_") || strings.Contains(made, "\n") {
		t.Fatalf("the token is %q", made)
	}
	other := strings.TrimSpace(s.must("tokens", "quay", "--make", "gate-north", "--source", "levels").out)
	slow := strings.TrimSpace(s.must("tokens", "yard", "--make", "slow", "--rate", "2").out)
	n := 0
	post := func(token string, events int, header ...string) (int, string, string) {
		t.Helper()
		var body strings.Builder
		for range events {
			n++
			fmt.Fprintf(&body, "{\"n\":%d,\"level_m\":1.5,\"at\":%d}\n", n, 1767225600000+n)
		}
		if token != "" {
			header = append(header, "Authorization", "Bearer "+token)
		}
		status, text, head := s.ask("POST", "/in/yard/levels", body.String(), header...)
		return status, text, head.Get("Retry-After") + head.Get("Access-Control-Allow-Origin")
	}
	for _, c := range []struct {
		what, token string
		status      int
	}{{"no token", "", 401}, {"none that is known", "ut_none", 401}, {"that of another job", other, 401}, {"its own", made, 202}} {
		if status, text, _ := post(c.token, 1); status != c.status {
			t.Errorf("a post with %s: %d %s", c.what, status, text)
		}
	}
	// curl posts as people do: packed, under a key, and again.
	packed := filepath.Join(dir, "post.gz")
	var body bytes.Buffer
	z := gzip.NewWriter(&body)
	fmt.Fprintf(z, "{\"n\":%d,\"level_m\":1.5,\"at\":%d}\n{\"n\"\n", 1_000_000, 1767225600000)
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "post.gz", body.String())
	for _, want := range []string{`{"taken":1,"first":1,"refused":[{"line":2,`, `"again":true`} {
		o := finish(t, exec.Command("curl", "-sS", "--data-binary", "@"+packed, "-H", "Content-Encoding: gzip", "-H", "Idempotency-Key: curl 1", "-H", "Authorization: Bearer "+made, s.address+"/in/yard/levels"))
		if o.status != 0 || !strings.Contains(o.out, want) {
			t.Errorf("curl is answered %s%s, want %s", o.out, o.err, want)
		}
	}
	if status, _, _ := post(slow, 30); status != 202 { // more than it may have at once: later posts wait for it
		t.Errorf("the first post of a token of a rate: %d", status)
	}
	if status, text, wait := post(slow, 1); status != 429 || wait == "" || !strings.Contains(text, "more than its rate") {
		t.Errorf("the next: %d %s, again in %s", status, text, wait)
	}
	if status, _, _ := post(made, 1); status != 202 {
		t.Errorf("another token waits for it: %d", status)
	}
	for _, c := range []struct {
		origin string
		status int
		allows string
	}{{"https://yard.example.org", 202, "https://yard.example.org"}, {"https://evil.example", 403, ""}} {
		if status, text, allows := post(made, 1, "Origin", c.origin, "Sec-Fetch-Site", "cross-site"); status != c.status || allows != c.allows {
			t.Errorf("a page of %s posts: %d %s, allowed %q", c.origin, status, text, allows)
		}
		status, _, head := s.ask("OPTIONS", "/in/yard/levels", "", "Origin", c.origin, "Access-Control-Request-Method", "POST", "Access-Control-Request-Headers", "authorization")
		if may := status == 204 && strings.Contains(head.Get("Access-Control-Allow-Headers"), "Authorization"); may != (c.allows != "") {
			t.Errorf("a page of %s asks: %d %v", c.origin, status, head)
		}
	}
	if status, _, _ := s.ask("GET", "/api/v1/jobs", "", "Origin", "https://yard.example.org"); status != 403 {
		t.Errorf("the page reads the API: %d", status)
	}
	list := s.must("tokens", "yard").out
	if !strings.Contains(list, "gate-north  levels") || strings.Contains(list, made) || strings.Contains(list, "ut_") {
		t.Errorf("the tokens:\n%s", list)
	}
	_, metrics, _ := s.get("/metrics")
	for _, line := range []string{`undertide_posts_total{job="yard",outcome="taken",source="levels"} 5`, `undertide_posts_total{job="yard",outcome="turned_away",source="levels"} 4`, `undertide_posted_events_total{job="yard",outcome="taken",source="levels"} 34`} {
		if !strings.Contains(metrics, line) {
			t.Errorf("the metrics lack %s", line)
		}
	}
	eventually(t, 10*time.Second, "show tells of posts", func() bool {
		out := s.must("show", "yard").out
		return strings.Contains(out, "posted to  posts taken  again  turned away  events refused") && strings.Contains(out, "levels               5      1            4               2")
	})
	s.end(t, syscall.SIGTERM)
	s = serve(t, dir)
	s.waitStatus("yard", "running")
	eventually(t, 10*time.Second, "the token counts over a restart", func() bool { status, _, _ := post(made, 1); return status == 202 })
	if o := s.run("tokens", "yard", "--make", "gate-north"); o.status == 0 || !strings.Contains(o.err, "has a token gate-north already") {
		t.Errorf("a second one of its name: %+v", o)
	}
	s.must("tokens", "yard", "--revoke", "gate-north")
	if status, _, _ := post(made, 1); status != 401 {
		t.Errorf("once it is revoked: %d", status)
	}
	if o := s.run("tokens", "yard", "--revoke", "gate-north"); o.status == 0 || !strings.Contains(o.err, "has no token gate-north") {
		t.Errorf("revoked twice: %+v", o)
	}
	if o := s.run("tokens", "yard", "--make", "x", "--source", "none"); o.status == 0 || !strings.Contains(o.err, "name one of levels") {
		t.Errorf("of no source: %+v", o)
	}
}
