package disk

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

func put(t *testing.T, path, text string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o640); err != nil {
		t.Fatal(err)
	}
	return path
}

func within(t *testing.T, dirs ...string) *Files {
	t.Helper()
	f, err := Within(dirs, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = f.Close() })
	return f
}

// TestWithin: what is in a folder is opened; no way leads out of it: not by `..`, not by links, not by links of folders.
func TestWithin(t *testing.T) {
	top := t.TempDir()
	dir := filepath.Join(top, "given")
	inside := put(t, filepath.Join(dir, "sub", "a.txt"), "tide")
	outside := put(t, filepath.Join(top, "other", "secret.txt"), "hidden")
	put(t, filepath.Join(top, "given-too", "b.txt"), "hidden")
	for link, to := range map[string]string{"link": outside, "up": filepath.Join(top, "other"), "rel": "../other/secret.txt", "null": "/dev/null"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	f := within(t, dir)
	if text, err := f.ReadFile(inside, 100); err != nil || string(text) != "tide" {
		t.Errorf("a file inside: %q, %v", text, err)
	}
	if found, err := f.Glob(filepath.Join(dir, "*", "*.txt")); err != nil || !slices.Equal(found, []string{inside}) {
		t.Errorf("a pattern gives %v, %v", found, err)
	}
	for _, path := range []string{
		outside, filepath.Join(dir, "link"), filepath.Join(dir, "up", "secret.txt"), filepath.Join(dir, "rel"), dir + "/../other/secret.txt", dir + "/sub/../../other/secret.txt",
		filepath.Join(top, "given-too", "b.txt"), "/etc/passwd", "/proc/self/environ", "/dev/urandom", filepath.Join(dir, "null"), "given/sub/a.txt", "",
	} {
		if text, err := f.ReadFile(path, 100); err == nil {
			t.Errorf("%s is read: %q", path, text)
		}
		if file, err := f.Create(path, os.O_TRUNC); err == nil {
			t.Errorf("%s is written", path)
			_ = file.Close()
		}
		if err := f.Remove(path); err == nil && path != filepath.Join(dir, "link") && path != filepath.Join(dir, "rel") && path != filepath.Join(dir, "null") {
			t.Errorf("%s is removed", path) // a link itself is the folder's
		}
	}
	if text, err := os.ReadFile(outside); err != nil || string(text) != "hidden" {
		t.Errorf("what is outside has become %q, %v", text, err)
	}
	if found, err := f.Glob(filepath.Join(dir, "up", "*")); err == nil && len(found) > 0 {
		t.Errorf("a pattern leads out: %v", found)
	}
	if err := f.Rename(inside, outside); err == nil {
		t.Error("a file is moved out")
	}
	if err := f.Allows(outside); !errors.Is(err, ErrOutside) || !strings.Contains(err.Error(), dir) {
		t.Errorf("what would be right is not said: %v", err)
	}
	if err := within(t).Allows(inside); !errors.Is(err, ErrOutside) || !strings.Contains(err.Error(), "--files") {
		t.Errorf("without folders: %v", err)
	}
}

// TestFolderGiven: a folder that holds what is nobody's, or is in it, is not given, also behind a link.
func TestFolderGiven(t *testing.T) {
	top := t.TempDir()
	data := filepath.Join(top, "data")
	if err := errors.Join(os.Mkdir(data, 0o755), os.Mkdir(filepath.Join(data, "rows"), 0o755), os.Symlink(data, filepath.Join(top, "link"))); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{top, data, filepath.Join(data, "rows"), filepath.Join(top, "link"), "/", "/proc", "/proc/self/fd", "/sys/kernel", "/dev", "/dev/shm", "relative", filepath.Join(top, "missing")} {
		if f, err := Within([]string{dir}, []string{data}); err == nil {
			t.Errorf("%s is given", dir)
			_ = f.Close()
		}
	}
}

// TestRights: what is made is for its owner alone; what is there keeps its rights.
func TestRights(t *testing.T) {
	dir := t.TempDir()
	f := within(t, dir)
	old := put(t, filepath.Join(dir, "old"), "x")
	if err := f.MkdirAll(filepath.Join(dir, "a", "b")); err != nil {
		t.Fatal(err)
	}
	for path, rights := range map[string]os.FileMode{old: 0o640, filepath.Join(dir, "new"): 0o600, filepath.Join(dir, "a"): 0o700, filepath.Join(dir, "a", "b"): 0o700} {
		if rights < 0o700 {
			file, err := f.Create(path, os.O_TRUNC)
			if err != nil {
				t.Fatal(err)
			}
			_ = file.Close()
		}
		if st, err := os.Stat(path); err != nil || st.Mode().Perm() != rights {
			t.Errorf("%s has the rights %v, %v; want %v", path, st.Mode().Perm(), err, rights)
		}
	}
}

// TestSpecialFiles: within folders, what is not a regular file is refused at once; a big file is not read whole.
func TestSpecialFiles(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	f := within(t, dir)
	began := time.Now()
	_, read := f.Open(t.Context(), pipe)
	_, written := f.OpenOutput(t.Context(), pipe)
	_, made := f.Create(pipe, 0)
	for _, err := range []error{read, written, made} {
		if !errors.Is(err, ErrSpecial) {
			t.Errorf("a pipe gives %v", err)
		}
	}
	if _, err := f.ReadFile(pipe, 10); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("a pipe as a certificate gives %v", err)
	}
	if _, err := f.ReadFile(dir, 10); err == nil {
		t.Error("a folder is read as a file")
	}
	if _, err := f.ReadFile(put(t, filepath.Join(dir, "big"), strings.Repeat("x", 5000)), 4096); err == nil || !strings.Contains(err.Error(), "more than 4 KiB") {
		t.Errorf("a file beyond the bound gives %v", err)
	}
	if d := time.Since(began); d > time.Second {
		t.Errorf("this took %v", d)
	}
}

// TestPatient: whoever waits for the other end of a pipe gives up with the context, and one whose other end comes goes on.
func TestPatient(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	var free *Files
	for _, open := range []func(context.Context, string) (*os.File, error){free.Open, free.OpenOutput} {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		began := time.Now()
		if _, err := open(ctx, pipe); !errors.Is(err, context.DeadlineExceeded) || time.Since(began) > 2*time.Second {
			t.Errorf("giving up gives %v after %v", err, time.Since(began))
		}
		cancel()
	}
	got := make(chan string, 1)
	go func() {
		in, err := free.Open(context.Background(), pipe)
		if err != nil {
			got <- err.Error()
			return
		}
		text, err := io.ReadAll(in)
		if err = errors.Join(err, in.Close()); err != nil {
			got <- err.Error()
			return
		}
		got <- string(text)
	}()
	out, err := free.OpenOutput(t.Context(), pipe)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := out.WriteString("high water"); err != nil {
		t.Fatal(err)
	}
	_ = out.Close()
	if text := <-got; text != "high water" {
		t.Errorf("through the pipe comes %q", text)
	}
}
