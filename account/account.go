// Package account lets a process that root started go on as another user (docs/security.md, "Whom the service runs as").
package account

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// Account is a user of the system.
type Account struct {
	Name, Home string
	UID, GID   int
	groups     []int // all that the user is in
}

// Find looks up a user. The error says what would help.
func Find(name string) (Account, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return Account{}, fmt.Errorf("there is no user %s: %w; name one that is there, or make it: adduser --system --group %s", name, err, name)
	}
	a := Account{Name: name, Home: u.HomeDir}
	ids, err := u.GroupIds()
	if err != nil {
		return a, fmt.Errorf("look up the groups of user %s: %w", name, err)
	}
	var wrong error
	number := func(text string) int {
		n, err := strconv.Atoi(text)
		wrong = errors.Join(wrong, err)
		return n
	}
	a.UID, a.GID = number(u.Uid), number(u.Gid)
	for _, id := range ids {
		a.groups = append(a.groups, number(id))
	}
	return a, wrong
}

// Own makes a folder and gives it to the user, with all that is in it: what an earlier start made as root is usable again.
// mark is a file that is in each such folder: one with other things in it is refused, for it is somebody else's. A folder
// that is the user's already is left alone. Links are given, not followed.
func (a Account) Own(dir, mark string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	st, err := os.Stat(dir)
	if err != nil || int(st.Sys().(*syscall.Stat_t).Uid) == a.UID {
		return err
	}
	in, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(filepath.Join(dir, mark)); err != nil && len(in) > 0 {
		return fmt.Errorf("the folder %s has things in it that are not this service's, and is not given to user %s; choose another one, or an empty one", dir, a.Name)
	}
	return filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err == nil {
			err = os.Lchown(path, a.UID, a.GID)
		}
		if err != nil {
			return fmt.Errorf("give %s to user %s: %w", path, a.Name, err)
		}
		return nil
	})
}

// Make makes a folder for the user alone; one that is there is left as it is.
func (a Account) Make(dir string) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	err := os.Mkdir(dir, 0o700)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return os.Chown(dir, a.UID, a.GID)
}

// Passes finds a folder on the way to a path that the user may not pass; the error names it. Being asked as root, it
// looks at the rights.
func (a Account) Passes(path string) error {
	for at := filepath.Dir(path); ; at = filepath.Dir(at) {
		st, err := os.Stat(at)
		if err != nil {
			return fmt.Errorf("look at %s: %w", at, err)
		}
		if !a.may(st) {
			return fmt.Errorf("user %s may not pass %s, which is on the way to %s; choose a path that this user can reach, such as one below /var/lib", a.Name, at, path)
		}
		if at == "/" {
			return nil
		}
	}
}

// may says whether the user may pass a folder: the first of owner, group and others that fits decides.
func (a Account) may(st fs.FileInfo) bool {
	mode := st.Mode().Perm()
	own := st.Sys().(*syscall.Stat_t)
	if int(own.Uid) == a.UID {
		return mode&0o100 != 0
	}
	for _, g := range append([]int{a.GID}, a.groups...) {
		if int(own.Gid) == g {
			return mode&0o010 != 0
		}
	}
	return mode&0o001 != 0
}

// Become makes the process the user's, for good: all its threads, with the user's groups and no other.
func (a Account) Become() error {
	if err := errors.Join(syscall.Setgroups(a.groups), syscall.Setgid(a.GID), syscall.Setuid(a.UID)); err != nil {
		return fmt.Errorf("become user %s: %w", a.Name, err)
	}
	if syscall.Setuid(0) == nil {
		return fmt.Errorf("become user %s: the process could become root again", a.Name)
	}
	// The kernel takes /proc/self from a process that has changed its user; its figures are read there.
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("become user %s: %w", a.Name, err)
	}
	return os.Setenv("HOME", a.Home)
}
