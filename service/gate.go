package service

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
)

// errStopping is why the contexts of requests end when the service does.
var errStopping = errors.New("the service is stopping")

// The header that a request's number travels in, both ways.
const requestID = "X-Request-Id"

var plainID = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,64}$`)

// logOf gives the log of a request, whose lines have its number.
func (s *Service) logOf(c *gin.Context) *slog.Logger {
	return s.opt.Log.With("request", c.Writer.Header().Get(requestID))
}

// noted gives each request a number, or takes the caller's, and writes a line about it into the log: what only looks, as machines and pages
// do all the time, at the level debug; changes, and what was refused, at info.
func (s *Service) noted(c *gin.Context) {
	id := c.GetHeader(requestID)
	if !plainID.MatchString(id) {
		id = rand.Text()[:12]
	}
	c.Header(requestID, id)
	c.Set(hiderKey, s.hide)
	began := time.Now()
	c.Next()
	level := slog.LevelInfo
	if m := c.Request.Method; c.Writer.Status() < 400 && (m == http.MethodGet || m == http.MethodHead) {
		level = slog.LevelDebug
	}
	s.logOf(c).Log(context.WithoutCancel(c.Request.Context()), level, "request", "method", c.Request.Method, "path", cut(c.Request.URL.Path), "status", c.Writer.Status(), "bytes", c.Writer.Size(), "seconds", time.Since(began).Seconds(), "from", s.addressOf(c), "who", askerOf(c).String())
}

// open refuses changes while the service stops: its runs are halted, and nothing may begin any more.
func (s *Service) open(c *gin.Context) {
	s.mu.Lock()
	stopping := s.stopping
	s.mu.Unlock()
	if stopping && c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		s.fail(c, api.Stopping.With("", ""))
		return
	}
	c.Next()
}

// withoutNull refuses U+0000 in addresses: no name has it, and the database takes none.
func (s *Service) withoutNull(c *gin.Context) {
	if strings.Contains(c.Request.URL.Path+c.Request.URL.RawQuery, "\x00") || strings.Contains(c.Request.URL.RawQuery, "%00") {
		s.fail(c, noNull("address"))
		return
	}
	c.Next()
}

func noNull(what string) error {
	return api.WrongRequest.With("the request's "+what+" holds the character U+0000", "leave it out")
}

// gate bounds how much of a kind is done at once. Nil lets everything pass.
type gate chan struct{}

// The bounds of docs/service.md, "Bounds": documents that are read at once, and streams.
const (
	mostReading = 4
	mostStreams = 200
	// readWithin is how long a document waits until it is read.
	readWithin = 2 * time.Second
)

// enter waits until there is room, at most so long. What leave is called with makes room again.
func (g gate) enter(ctx context.Context, patience time.Duration) (leave func(), ok bool) {
	if g == nil {
		return func() {}, true
	}
	leave = func() { <-g }
	select {
	case g <- struct{}{}:
		return leave, true
	default:
	}
	if patience == 0 {
		return nil, false
	}
	select {
	case g <- struct{}{}:
		return leave, true
	case <-time.After(patience):
	case <-ctx.Done():
	}
	return nil, false
}

// oneOf lets a handler that reads documents in when there is room.
func (s *Service) oneOf(do func(*gin.Context) error) func(*gin.Context) error {
	return func(c *gin.Context) error {
		leave, ok := s.reading.enter(c.Request.Context(), readWithin)
		if !ok {
			return tooMany(c, "documents are being read", 1)
		}
		defer leave()
		return do(c)
	}
}

func tooMany(c *gin.Context, what string, seconds int) error {
	if err := c.Request.Context().Err(); err != nil {
		return err
	}
	c.Header("Retry-After", strconv.Itoa(seconds))
	return api.TooMany.With("too many "+what+" at this moment", "")
}
