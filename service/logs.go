package service

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/api"
)

// jobLog is a job's log: a file of JSON lines, and one older file beside it once it has grown to
// mostLog. It does not depend on the database. Safe for concurrent use.
type jobLog struct {
	path string

	mu   sync.Mutex // guards all below
	file *os.File
	size int64
}

const mostLog = 8 << 20

func (s *Service) logPath(job string) string { return filepath.Join(s.opt.Data, "logs", job+".ndjson") }

func openLog(path string) (*jobLog, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("make the folder of logs: %w", err)
	}
	l := &jobLog{path: path}
	return l, l.open()
}

func (l *jobLog) open() error {
	f, err := os.OpenFile(l.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("open the job's log: %w", err)
	}
	st, err := f.Stat()
	if err != nil {
		return errors.Join(fmt.Errorf("open the job's log: %w", err), f.Close())
	}
	l.file, l.size = f, st.Size()
	return nil
}

func (l *jobLog) Write(line []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil {
		return 0, fs.ErrClosed
	}
	if l.size+int64(len(line)) > mostLog {
		_ = l.file.Close() // the next open tells
		if err := os.Rename(l.path, l.path+".old"); err != nil {
			return 0, fmt.Errorf("roll the job's log: %w", err)
		}
		if err := l.open(); err != nil {
			l.file = nil
			return 0, err
		}
	}
	n, err := l.file.Write(line)
	l.size += int64(n)
	return n, err
}

func (l *jobLog) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file != nil {
		_ = l.file.Close() // lines are written at once
		l.file = nil
	}
}

// logger writes to the job's log and, with the job's name, to the service's.
func (s *Service) logger(job string, l *jobLog) *slog.Logger {
	own := slog.NewJSONHandler(l, &slog.HandlerOptions{Level: slog.LevelDebug})
	return slog.New(slog.NewMultiHandler(hidingLog{own, newHider(s.opt.Env)}, s.opt.Log.With("job", job).Handler()))
}

// logQuery chooses lines of a log.
type logQuery struct {
	grep  string
	level slog.Level
	since time.Time
	limit int
}

// readLog gives the newest lines that match, newest first.
func readLog(ctx context.Context, path string, q logQuery) ([]api.LogLine, error) {
	var out []api.LogLine
	for _, p := range []string{path + ".old", path} {
		f, err := os.Open(p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read the job's log: %w", err)
		}
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() && ctx.Err() == nil {
			l, ok := logLine(lines.Bytes(), q)
			if ok {
				out = append(out, l)
			}
			if len(out) > 2*q.limit {
				out = slices.Delete(out, 0, len(out)-q.limit)
			}
		}
		if err := errors.Join(lines.Err(), f.Close()); err != nil {
			return nil, fmt.Errorf("read the job's log: %w", err)
		}
	}
	slices.Reverse(out)
	return out[:min(len(out), q.limit)], nil
}

func logLine(text []byte, q logQuery) (api.LogLine, bool) {
	var fields map[string]any
	if q.grep != "" && !strings.Contains(strings.ToLower(string(text)), strings.ToLower(q.grep)) || json.Unmarshal(text, &fields) != nil {
		return api.LogLine{}, false
	}
	l := api.LogLine{Fields: fields}
	l.Level, _ = fields["level"].(string)
	l.Message, _ = fields["msg"].(string)
	at, _ := fields["time"].(string)
	l.At, _ = time.Parse(time.RFC3339Nano, at)
	for _, k := range []string{"level", "msg", "time"} {
		delete(fields, k)
	}
	var level slog.Level
	if level.UnmarshalText([]byte(l.Level)) != nil {
		return l, false
	}
	return l, level >= q.level && !l.At.Before(q.since)
}
