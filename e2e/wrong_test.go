package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestWrongUse: one line with the remedy, and the right status.
func TestWrongUse(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", levels)
	write(t, dir, "levels.ndjson", readings(10))
	write(t, dir, "two.yaml", strings.Replace(levels, "sinks:", "sinks:\n  late_rows: {from: late of minute, via: file, with: {path: l.ndjson}}", 1))
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		args   string
		status int
		said   []string
	}{
		{"no such command", "rnu", 2, []string{"there is no command rnu", "did you mean run?"}},
		{"no such flag", "run job.yaml --lane 2", 2, []string{"has no flag --lane; did you mean --lanes?"}},
		{"no document", "run", 2, []string{"undertide run takes DOCUMENT"}},
		{"document that is not there", "run nowhere.yaml", 2, []string{"nowhere.yaml does not exist"}},
		{"document that is a folder", "check folder", 2, []string{"is a folder"}},
		{"unknown source", "run job.yaml --in level=x", 2, []string{"no source level", "did you mean levels?"}},
		{"unknown sink", "run job.yaml --out rows=-", 2, []string{"no sink rows", "the document has means"}},
		{"no assignment", "run job.yaml --in levels", 2, []string{"--in levels is not of the form SOURCE=PATH"}},
		{"twice standard output", "run two.yaml --out means=- --out late_rows=-", 2, []string{"both write standard output"}},
		{"standard input with checkpoints", "run job.yaml --in levels=- --checkpoints s", 2, []string{"cannot be read again"}},
		{"too many lanes", "run job.yaml --lanes 1000", 2, []string{"from 1 to 240"}},
		{"unknown value", "run job.yaml --set x=1", 3, []string{"--set x names no value"}},
		{"missing input", "run job.yaml -q --in levels=gone.ndjson", 1, []string{"gone.ndjson", "no such file", "check the path"}},
		{"input that is a folder", "run job.yaml -q --in levels=folder", 1, []string{"folder is a folder; name a file"}},
		{"pattern without files", "run job.yaml -q --in levels=no-*.ndjson", 1, []string{"no file matches no-*.ndjson"}},
		{"output in a folder that is not there", "run job.yaml -q --out means=no/where.ndjson", 1, []string{"no such file or folder"}},
		{"output that is a folder", "run job.yaml -q --out means=folder", 1, []string{"folder is a folder; end the path with /"}},
		{"figures in a folder that is not there", "run job.yaml -q --figures no/f.json", 1, []string{"write figures to no/f.json"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := undertide(t, dir, strings.Fields(c.args)...)
			o.want(t, c.status, c.said...)
			if n := strings.Count(strings.TrimSpace(o.err), "\n"); n > 1 || c.status < 3 && n > 0 {
				t.Errorf("%d lines are said, want one:\n%s", n+1, o.err)
			}
			for _, left := range []string{"means.ndjson", "m.parquet"} {
				if _, err := os.Stat(filepath.Join(dir, left)); err == nil {
					t.Errorf("%s was written", left)
				}
			}
		})
	}
}

// TestUnwritableFolder: as a user without the right, since root may write everywhere.
func TestUnwritableFolder(t *testing.T) {
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for p := dir; p != "/"; p = filepath.Dir(p) { // the user must get there
		st, err := os.Stat(p)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(p, st.Mode()|0o055); err != nil {
			t.Fatal(err)
		}
	}
	program := filepath.Join(dir, "undertide")
	text, err := os.ReadFile(binary)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(program, text, 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "job.yaml", levels)
	write(t, dir, "levels.ndjson", readings(10))
	shut := filepath.Join(dir, "shut")
	if err := os.Mkdir(shut, 0o555); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"--out", "means=shut/m.ndjson"}, {"--out", "means=shut/m/"}, {"--out", "means=/dev/null", "--checkpoints", "shut/state"}, {"--out", "means=/dev/null", "--figures", "shut/f.json"}} {
		c := exec.Command(program, append([]string{"run", "job.yaml", "-q"}, args...)...)
		c.Dir = dir
		if os.Geteuid() == 0 {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		o := finish(t, c)
		o.want(t, 1, "shut", "not allowed; give this user the right")
		if strings.Count(strings.TrimSpace(o.err), "\n") != 0 {
			t.Errorf("%v: more than a line: %s", args, o.err)
		}
	}
}

// TestFullDisk: a device that is full, and a file that may not grow; the unfinished file does not
// look whole.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", strings.Replace(levels, "tumbling: 1m", "tumbling: 1s", 1))
	write(t, dir, "levels.ndjson", readings(300_000))
	o := undertide(t, dir, "run", "job.yaml", "-q", "--out", "means=/dev/full")
	o.want(t, 1, "sink means", "the disk is full; free some space")
	if strings.Count(strings.TrimSpace(o.err), "\n") != 0 {
		t.Errorf("more than a line: %s", o.err)
	}
	c := exec.Command("sh", "-c", "ulimit -f 1000; exec "+binary+" run job.yaml -q")
	c.Dir = dir
	o = finish(t, c)
	o.want(t, 1, "sink means", "means.ndjson.part", "file too large")
	if _, err := os.Stat(filepath.Join(dir, "means.ndjson")); err == nil {
		t.Error("means.ndjson stands under its name though it is not whole")
	}
	if _, err := os.Stat(filepath.Join(dir, "means.ndjson.part")); err != nil {
		t.Errorf("the unfinished file is not there: %v", err)
	}
}

// TestRejects: malformed lines, wrong types, null keys and times far ahead become counted rejects
// that can be read, and the run goes on.
func TestRejects(t *testing.T) {
	dir := t.TempDir()
	doc := strings.Replace(levels, ", ahead: none", "", 1) + `  bad: {from: rejects of levels, via: file, with: {path: bad.ndjson}}
  bad_keys: {from: rejects of minute, via: file, with: {path: keys.ndjson}}
`
	write(t, dir, "job.yaml", doc)
	write(t, dir, "levels.ndjson", readings(3)+
		`{"gauge":"G1","level_m":`+"\n"+
		`{"gauge":"G1","level_m":"high","read_at":1767225600000}`+"\n"+
		`{"gauge":null,"level_m":1,"read_at":1767225600000}`+"\n"+
		`{"gauge":"G1","level_m":1,"read_at":32503680000000}`+"\n"+
		`{"gauge":"G1","level_m":1}`+"\n"+readings(2))
	undertide(t, dir, "run", "job.yaml", "--figures", "f.json").want(t, 0, "8 events"[2:], "malformed", "wrong type", "too far ahead", "null key", "no event time", "the first: event 3 of")
	bad, keys := read(t, filepath.Join(dir, "bad.ndjson")), read(t, filepath.Join(dir, "keys.ndjson"))
	for _, want := range []string{`"reason":"malformed"`, `"reason":"wrong type","message":"field level_m takes a double, got \"high\""`, `"reason":"too far ahead"`, `"reason":"no event time"`, `"offset":4`} {
		if !strings.Contains(bad, want) {
			t.Errorf("bad.ndjson lacks %s:\n%s", want, bad)
		}
	}
	if strings.Count(bad, "\n") != 4 || strings.Count(keys, "\n") != 1 || !strings.Contains(keys, `"message":"key field gauge is null"`) || !strings.Contains(keys, `"level_m\":1`) {
		t.Errorf("rejects are\n%s\n%s", bad, keys)
	}
	if f := read(t, filepath.Join(dir, "f.json")); !strings.Contains(f, `"read": 10`) || !strings.Contains(f, `"null key": 1`) || !strings.Contains(f, `"rows_in": 6`) {
		t.Errorf("the figures do not show the rejects:\n%s", f)
	}
}
