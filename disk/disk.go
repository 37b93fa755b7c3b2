// Package disk words errors of the file system for people.
package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// Explain words an error of the file system: what was done to which path, and the remedy.
func Explain(verb, path string, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	var le *os.LinkError
	if errors.As(err, &le) {
		err = le.Err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s %s: there is no such file or folder; check the path: %w", verb, path, fs.ErrNotExist)
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%s %s: not allowed; give this user the right, or choose another place: %w", verb, path, err)
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("%s %s: the disk is full; free some space and start again: %w", verb, path, err)
	}
	return fmt.Errorf("%s %s: %w", verb, path, err)
}
