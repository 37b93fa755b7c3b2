package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"undertide/client"
)

// signIns is what `undertide sign-in` keeps for this user: by address of a service, the token to come with, and the certificates that it is known by. The
// file is the user's alone.
type signIns map[string]signedIn

type signedIn struct {
	Name      string `json:"name"`  // of the person
	Token     string `json:"token"` // its text
	TokenName string `json:"token_name"`
	Authority string `json:"authority,omitempty"` // PEM
}

func signInsPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where sign-ins are kept: %w; set HOME, or bring a token with UNDERTIDE_TOKEN", err)
	}
	return filepath.Join(dir, "undertide", "sign-ins.json"), nil
}

func readSignIns() (signIns, error) {
	path, err := signInsPath()
	if err != nil {
		return signIns{}, nil // who has no folder for it, as a program of the system, has not signed in
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return signIns{}, nil
	}
	out := signIns{}
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		return nil, fmt.Errorf("read the sign-ins in %s: %w; remove the file, and sign in again", path, err)
	}
	return out, nil
}

func (all signIns) write() error {
	path, err := signInsPath()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	part, err := os.CreateTemp(filepath.Dir(path), ".sign-ins-") // 0600
	if err != nil {
		return err
	}
	_, err = part.Write(append(text, '\n'))
	if err = errors.Join(err, part.Sync(), part.Close()); err == nil {
		err = os.Rename(part.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(part.Name()))
	}
	return nil
}

// at gives what is kept for a service's address, as it may be written.
func (all signIns) at(server string) (signedIn, bool) {
	one, ok := all[addressKey(server)]
	return one, ok
}

// addressKey is how an address is kept, however it was written.
func addressKey(server string) string { return strings.ToLower(client.Address(server)) }

// clientOf makes a client for a service's address: with the token and authority that are given, or those of the environment, or those that a sign-in has left.
// Empty ones are not given.
func clientOf(server, token, authority string) (*client.Client, error) {
	var by client.Options
	var err error
	kept := signedIn{}
	if token == "" && os.Getenv("UNDERTIDE_TOKEN") == "" {
		all, err := readSignIns()
		if err != nil {
			return nil, err
		}
		kept, _ = all.at(server)
	}
	if by.Token, err = tokenText(token); err != nil {
		return nil, usageError{err}
	}
	if by.Token == "" {
		by.Token = kept.Token
	}
	by.Authority = []byte(kept.Authority)
	if authority == "" {
		authority = os.Getenv("UNDERTIDE_AUTHORITY")
	}
	if authority != "" {
		if by.Authority, err = os.ReadFile(authority); err != nil {
			return nil, usageError{fmt.Errorf("--authority: %w", err)}
		}
	}
	c, err := client.New(server, by)
	if err != nil {
		return nil, usageError{err}
	}
	return c, nil
}

// tokenText gives the token that a flag names, or the environment: its text, or @FILE, whose first line it is.
func tokenText(given string) (string, error) {
	where := "--token"
	if given == "" {
		given, where = os.Getenv("UNDERTIDE_TOKEN"), "UNDERTIDE_TOKEN"
	}
	path, file := strings.CutPrefix(given, "@")
	if !file {
		return given, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", where, err)
	}
	first, _, _ := strings.Cut(string(text), "\n")
	if first = strings.TrimSpace(first); first == "" {
		return "", fmt.Errorf("%s: there is no token in the first line of %s", where, path)
	}
	return first, nil
}
