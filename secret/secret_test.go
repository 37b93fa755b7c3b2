package secret

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestBox(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	b, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed := b.Seal("broker", "low water")
	if bytes.Contains(sealed, []byte("low water")) || bytes.Equal(sealed, b.Seal("broker", "low water")) {
		t.Error("a sealed text shows the text, or is the same twice")
	}
	again, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open("broker", sealed); err != nil || got != "low water" {
		t.Errorf("opened with the key read again: %q, %v", got, err)
	}
	for i := range sealed {
		bad := bytes.Clone(sealed)
		bad[i] ^= 1
		if _, err := b.Open("broker", bad); !errors.Is(err, ErrOtherKey) {
			t.Errorf("byte %d changed: %v, want ErrOtherKey", i, err)
		}
	}
	other, err := Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	for name, open := range map[string]func() (string, error){
		"under another name": func() (string, error) { return b.Open("gauge", sealed) },
		"with another key":   func() (string, error) { return other.Open("broker", sealed) },
		"of no length":       func() (string, error) { return b.Open("broker", nil) },
	} {
		if _, err := open(); !errors.Is(err, ErrOtherKey) {
			t.Errorf("%s: %v, want ErrOtherKey", name, err)
		}
	}
}

func TestKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := Open(path); err != nil {
		t.Fatal(err)
	}
	st, err := os.Stat(path)
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v, %v, want mode 0600", st.Mode(), err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others may read: %v", err)
	}
	if err := os.WriteFile(path, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "5 bytes and not 32") {
		t.Errorf("a key that is cut: %v", err)
	}
}
