package service

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undertide/postgres"
	"undertide/store"
)

// TestOldConnections: records that hold the settings beside `via`, as they were written before, are read as those that
// hold them within.
func TestOldConnections(t *testing.T) {
	for _, text := range []string{
		`{"via":"kafka","brokers":["127.0.0.1:1"],"tls":null,"sasl":{"mechanism":"plain","user":"a","password":"${env.P}"}}`,
		`{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","user":"a","password":"${env.P}"}}}`,
	} {
		spec, err := specOf(store.Connection{Name: "port", Definition: text})
		if err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(spec)
		if want := `{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","password":"${env.P}","user":"a"}}}`; err != nil || string(got) != want {
			t.Errorf("%s is read as %s, %v", text, got, err)
		}
		v := &vault{}
		if c, err := v.parse("port", spec, false); err != nil || c.Link.Words().SignIn != "a by plain" {
			t.Errorf("%s: %+v, %v", text, c, err)
		}
	}
}

// TestRotate: all secrets are sealed with another key, or none is, wherever the service is killed; and with the key that the operator's first source gives, while those of
// before open still what they sealed.
func TestRotate(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	pg, err := postgres.Start(ctx, filepath.Join(dir, "postgres"), store.TrailSQL, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer pg.Stop()
	db, err := store.Open(ctx, pg.URL(), "", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	opened := func(from ...string) (*vault, error) {
		return openVault(ctx, db, Options{Data: dir, SecretKeyFrom: from, Log: slog.New(slog.DiscardHandler)}, nil)
	}
	must := func(from ...string) *vault {
		t.Helper()
		v, err := opened(from...)
		if err != nil {
			t.Fatal(err)
		}
		for name, want := range map[string]string{"port": "low water", "yard": "high water"} {
			if got, err := v.secret(name); err != nil || got != want {
				t.Errorf("secret %s with %v: %q, %v", name, from, got, err)
			}
		}
		return v
	}
	v, err := opened()
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"port": "low water", "yard": "high water"} {
		if _, err := v.keep(ctx, name, text, nil); err != nil {
			t.Fatal(err)
		}
	}
	key := filepath.Join(dir, "secrets.key")
	first, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := must().rotate(ctx); err != nil || n != 2 {
		t.Fatalf("%d secrets were sealed anew: %v", n, err)
	}
	second, err := os.ReadFile(key)
	if err != nil || bytes.Equal(first, second) {
		t.Errorf("the key is the same after it was changed: %v", err)
	}
	must()
	put := func(path string, text []byte) {
		t.Helper()
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	// Killed after the records were written, and before the next key took the place of the one of before; and before the records were written.
	put(key, first)
	put(key+".next", second)
	must()
	if got, err := os.ReadFile(key); err != nil || !bytes.Equal(got, second) {
		t.Errorf("a change that was cut off behind the records is not ended: %v", err)
	}
	put(key+".next", first)
	must()
	if _, err := os.Stat(key + ".next"); err == nil {
		t.Error("a change that was cut off before the records stands still")
	}
	must()
	// From elsewhere.
	file, other := filepath.Join(dir, "from.key"), filepath.Join(dir, "other.key")
	put(file, []byte(base64.StdEncoding.EncodeToString(bytes.Repeat([]byte("k"), 32))+"\n"))
	put(other, bytes.Repeat([]byte("o"), 32))
	t.Setenv("TIDE_KEY", base64.RawURLEncoding.EncodeToString(bytes.Repeat([]byte{0xfe}, 32)))
	for _, from := range [][]string{{"file:" + file}, {"env:TIDE_KEY", "file:" + file}, {"command:cat " + other, "env:TIDE_KEY"}} {
		if n, err := must(from...).rotate(ctx); err != nil || n != 2 {
			t.Errorf("from %v: %d, %v", from, n, err)
		}
		must(from[0])
	}
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	v, err = opened("file:" + file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := v.secret("port"); err == nil {
		t.Error("a secret is opened by a key that did not seal it")
	}
	if _, err := v.rotate(ctx); err == nil || !strings.Contains(err.Error(), "cannot be sealed anew; nothing was changed") {
		t.Errorf("what cannot be read is sealed anew: %v", err)
	}
	must("command:cat " + other)
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	for from, says := range map[string]string{"file:" + file: "others may read the key", "file:" + dir + "/none": "no such file", "env:TIDE_NONE": "there is no variable TIDE_NONE", "command:exit 3": "exit status 3", "command:echo short": "not 32 bytes",
		"low water": "low wate… is not where a key comes from", "env:": "is not where a key comes from"} {
		if _, err := opened(from); err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "short") && says != "not 32 bytes" {
			t.Errorf("%s: %v, want %s", from, err, says)
		}
	}
}
