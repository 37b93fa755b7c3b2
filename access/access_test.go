package access

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestRoles(t *testing.T) {
	all := []Role{"", Nobody, Poster, Reader, Engineer, Keeper}
	covers := map[Role]string{ // by role: what it covers, of all
		"": "nobody", Nobody: "nobody", Poster: "nobody", Reader: "nobody reader", Engineer: "nobody reader engineer", Keeper: "nobody reader engineer keeper",
	}
	for _, r := range all {
		var got []string
		for _, need := range all[1:] {
			if r.Covers(need) {
				got = append(got, string(need))
			}
		}
		if s := strings.Join(got, " "); s != covers[r] {
			t.Errorf("%q covers %q, want %q", r, s, covers[r])
		}
		if r.Covers("") || r.Covers("owner") {
			t.Errorf("%q covers what is no role", r)
		}
	}
	for _, c := range []struct{ a, b, want Role }{{Reader, Keeper, Reader}, {Keeper, Reader, Reader}, {Engineer, Engineer, Engineer}, {Poster, Keeper, Poster}} {
		if got := Least(c.a, c.b); got != c.want {
			t.Errorf("the least of %s and %s is %s, want %s", c.a, c.b, got, c.want)
		}
	}
	for _, text := range []string{"", "nobody", "poster", "Keeper", strings.Repeat("x", 100)} {
		if r, err := ParseRole(text); err == nil || !strings.Contains(err.Error(), "give reader, engineer or keeper") || len(err.Error()) > 120 {
			t.Errorf("%q is read as %s, %v", text, r, err)
		}
	}
}

func TestPasswords(t *testing.T) {
	for text, wrong := range map[string]bool{"eleven char": true, "twelve chars": false, "zwölf Zeichn": false, strings.Repeat("x", 200): false, strings.Repeat("x", 201): true, "            ": false} {
		if err := CheckPassword(text); (err != nil) != wrong {
			t.Errorf("%q: %v", text, err)
		}
	}
	ctx := context.Background()
	a, err := HashPassword(ctx, "the tide is out")
	if err != nil {
		t.Fatal(err)
	}
	b, err := HashPassword(ctx, "the tide is out")
	if err != nil || a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Errorf("the hashes are %s and %s, %v", a, b, err)
	}
	for text, want := range map[string]bool{"the tide is out": true, "the tide is in": false, "": false} {
		if same, err := SamePassword(ctx, text, a); err != nil || same != want {
			t.Errorf("%q is the password: %t, %v", text, same, err)
		}
		if same, err := SamePassword(ctx, text, ""); err != nil || same {
			t.Errorf("%q is the password of nobody: %t, %v", text, same, err)
		}
	}
	if _, err := SamePassword(ctx, "the tide is out", "plain"); err == nil {
		t.Error("what is no hash is taken for one")
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	for range cap(atWork) {
		atWork <- struct{}{}
	}
	if _, err := HashPassword(gone, "the tide is out"); err == nil {
		t.Error("who has gone is worked for")
	}
	for range cap(atWork) {
		<-atWork
	}
}

func TestTexts(t *testing.T) {
	seen := map[Digest]bool{}
	for range 100 {
		token := NewToken()
		if !IsToken(token) || seen[DigestOf(token)] || IsToken(NewCode()) || IsToken(token+"A") || IsToken(token[:len(token)-4]) {
			t.Fatalf("%s is a token: %t", token, IsToken(token))
		}
		seen[DigestOf(token)] = true
	}
}

// TestTries: of one name ten tries are free, then one every six seconds; from one address 30, then one a second. What waits costs nothing, and no number of
// names takes more memory than is bounded.
func TestTries(t *testing.T) {
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	var tries Tries
	let := func(name, host string, seconds int) (n int) {
		for range seconds * 20 { // twenty tries a second
			if tries.Try(name, host, now) == 0 {
				n++
			}
			now = now.Add(50 * time.Millisecond)
		}
		return n
	}
	if n := let("kit", "10.0.0.1", 60); n < 19 || n > 21 {
		t.Errorf("in a minute %d passwords of a name are tried, want 20", n)
	}
	tries.Try("kit", "10.0.0.1", now)
	if wait := tries.Try("KIT", "10.0.0.2", now); wait <= 0 || wait > 6*time.Second {
		t.Errorf("another address, and another case, wait %s", wait)
	}
	if wait := tries.Try("ena", "10.0.0.2", now); wait != 0 {
		t.Errorf("another name waits %s", wait)
	}
	n := 0
	for i := range 1200 { // a minute of guesses at as many names
		if tries.Try(fmt.Sprint("name", i), "10.0.0.3", now) == 0 {
			n++
		}
		now = now.Add(50 * time.Millisecond)
	}
	if n < 88 || n > 92 {
		t.Errorf("in a minute %d names are tried from one address, want 90", n)
	}
	now = now.Add(time.Hour)
	if n := let("kit", "10.0.0.1", 0); n != 0 || tries.Try("kit", "10.0.0.1", now) != 0 {
		t.Error("after an hour a name waits still")
	}
	for i := range 3 * mostTried {
		tries.Try(fmt.Sprint("many", i), fmt.Sprintf("10.1.%d.%d", i/250, i%250), now)
	}
	if len(tries.names.all) > mostTried+1 || len(tries.hosts.all) > mostTried+1 {
		t.Errorf("%d names and %d addresses are remembered", len(tries.names.all), len(tries.hosts.all))
	}
}
