package secret

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"time"
)

// Keys are where keys come from: a file of the service's own, or sources that the operator names, the first of which seals and all of which open.
type Keys struct {
	path string   // of the own file
	from []string // sources; none for the own file
}

// commandWithin is how long a command may take to give a key.
const commandWithin = 30 * time.Second

// NewKeys takes the path of the own file, and sources: `file:PATH`, `env:NAME` or `command:LINE`, where the line is run by the shell and the key is its output.
// A key is 32 bytes, or their base64.
func NewKeys(path string, from []string) (*Keys, error) {
	for _, f := range from {
		kind, what, ok := strings.Cut(f, ":")
		if !ok || what == "" || kind != "file" && kind != "env" && kind != "command" {
			return nil, fmt.Errorf("%s is not where a key comes from; write file:PATH, env:NAME or command:LINE", cut(f))
		}
	}
	return &Keys{path: path, from: from}, nil
}

func cut(s string) string { // it may be the key itself, written there by mistake
	if len(s) > 8 {
		return s[:8] + "…"
	}
	return s
}

// next is where the own file's next key stands until all is sealed with it.
func (k *Keys) next() string { return k.path + ".next" }

// Boxes gives the box that seals, and others that open what was sealed before.
func (k *Keys) Boxes() (now *Box, others []*Box, err error) {
	if len(k.from) == 0 {
		if now, err = Open(k.path); err != nil {
			return nil, nil, err
		}
		if _, err := os.Stat(k.next()); err == nil { // a change of the key was cut off
			next, err := Open(k.next())
			return now, []*Box{next}, err
		}
		return now, nil, nil
	}
	for _, f := range k.from {
		b, err := read(f)
		if err != nil {
			return nil, nil, err
		}
		others = append(others, b)
	}
	if _, err := os.Stat(k.path); err == nil { // of before the operator named another place
		b, err := Open(k.path)
		if err != nil {
			return nil, nil, err
		}
		others = append(others, b)
	}
	return others[0], others[1:], nil
}

// Change gives the box that is to seal from now on, and what makes that last once all is sealed with it: another key in the own file, or the one that the first
// source gives now.
func (k *Keys) Change() (next *Box, last func() error, err error) {
	if len(k.from) > 0 {
		next, err = read(k.from[0])
		return next, func() error { return nil }, err
	}
	if err := k.Drop(); err != nil { // of a change that was cut off
		return nil, nil, err
	}
	if next, err = Open(k.next()); err != nil {
		return nil, nil, err
	}
	return next, k.Last, nil
}

// Last puts the next key of the own file in the place of that of before.
func (k *Keys) Last() error {
	if err := os.Rename(k.next(), k.path); err != nil {
		return fmt.Errorf("the next key of secrets: %w", err)
	}
	return nil
}

// Drop forgets a next key with which nothing is sealed.
func (k *Keys) Drop() error {
	if err := os.Remove(k.next()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the next key of secrets: %w", err)
	}
	return nil
}

// read asks a source for its key. What it gave is in no error.
func read(from string) (*Box, error) {
	kind, what, _ := strings.Cut(from, ":")
	var text []byte
	var err error
	switch kind {
	case "file":
		if text, err = os.ReadFile(what); err == nil {
			if st, err := os.Stat(what); err == nil && st.Mode().Perm()&0o077 != 0 {
				return nil, fmt.Errorf("others may read the key of secrets in %s; run: chmod 600 %s", what, what)
			}
		}
	case "env":
		value, there := os.LookupEnv(what)
		if text = []byte(value); !there {
			err = fmt.Errorf("there is no variable %s", what)
		}
	case "command":
		ctx, cancel := context.WithTimeout(context.Background(), commandWithin)
		defer cancel()
		c := exec.CommandContext(ctx, "/bin/sh", "-c", what)
		c.Stderr, c.WaitDelay = os.Stderr, time.Second
		text, err = c.Output()
	}
	if err != nil {
		return nil, fmt.Errorf("the key of secrets from %s: %w", kind, err)
	}
	key, ok := keyOf(text)
	if !ok {
		return nil, fmt.Errorf("the key of secrets from %s is not 32 bytes, nor their base64; make one: head -c 32 /dev/urandom | base64", kind)
	}
	return boxOf(key)
}

func keyOf(text []byte) ([]byte, bool) {
	if len(text) == 32 {
		return text, true
	}
	trimmed := strings.TrimRight(strings.TrimSpace(string(text)), "=")
	for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		if key, err := e.DecodeString(trimmed); err == nil && len(key) == 32 {
			return key, true
		}
	}
	return nil, false
}
