// Package registry asks a schema registry, by the HTTP interface that registries share, for schemas by number and by name
// (docs/connectors.md, "Schema registry").
package registry

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/sr"

	"undertide/connect"
	"undertide/connect/secure"
)

// Client asks one registry. Safe for concurrent use.
type Client struct {
	at string // for people: no password
	sr *sr.Client

	mu    sync.Mutex // guards known
	known map[int]*answer
}

// answer is what a registry said of a number.
type answer struct {
	done chan struct{} // closed when it is there
	text string
	err  error     // only what stays true for a while: that there is no such schema
	at   time.Time // of such an error
}

// missing is how long a schema that is not there is not asked for again.
const missing = 10 * time.Second

// New makes a client; the registry is reached by its methods.
func New(address, user, password string, secured *tls.Config) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is not an address of a registry; write http://127.0.0.1:8081, or https://…", address)
	}
	opts := []sr.ClientOpt{sr.URLs(address), sr.UserAgent("undertide")}
	if user != "" {
		opts = append(opts, sr.BasicAuth(user, password))
	}
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.TLSClientConfig, way.DisableKeepAlives = secured, true // it is asked seldom
	opts = append(opts, sr.HTTPClient(&http.Client{Transport: way, Timeout: 5 * time.Second}))
	c, err := sr.NewClient(opts...)
	if err != nil {
		return nil, err
	}
	return &Client{at: u.Host, sr: c, known: map[int]*answer{}}, nil
}

func (c *Client) String() string { return "registry " + c.at }

// Schema implements [connect.Registry].
func (c *Client) Schema(ctx context.Context, id int) (string, error) {
	c.mu.Lock()
	a, ok := c.known[id]
	if ok {
		select {
		case <-a.done:
			ok = a.err == nil || time.Since(a.at) < missing
		default:
		}
	}
	if !ok {
		a = &answer{done: make(chan struct{})}
		c.known[id] = a
		c.mu.Unlock()
		c.ask(ctx, id, a)
	} else {
		c.mu.Unlock()
	}
	select {
	case <-a.done:
		return a.text, a.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// ask asks for a schema. What may be otherwise the next time is not kept.
func (c *Client) ask(ctx context.Context, id int, a *answer) {
	s, err := c.sr.SchemaByID(ctx, id)
	if err == nil && s.Type != sr.TypeAvro {
		err = fmt.Errorf("%s: schema %d is %s; only Avro is read: %w", c, id, s.Type, connect.ErrNoSchema)
	} else if err == nil && len(s.References) > 0 {
		err = fmt.Errorf("%s: schema %d refers to others, which is not built yet: %w", c, id, connect.ErrNoSchema)
	} else if err != nil {
		err = c.explain(err, fmt.Sprintf("schema %d", id))
	}
	a.text, a.err, a.at = s.Schema, err, time.Now()
	if err != nil && !errors.Is(err, connect.ErrNoSchema) {
		c.mu.Lock()
		delete(c.known, id)
		c.mu.Unlock()
	}
	close(a.done)
}

// Newest implements [connect.Registry].
func (c *Client) Newest(ctx context.Context, subject string) (int, string, error) {
	s, err := c.sr.SchemaByVersion(ctx, subject, -1)
	if err != nil {
		return 0, "", c.explain(err, "subject "+subject)
	}
	return s.ID, s.Schema.Schema, nil
}

// API gives the library's client, for lists and what else people ask for.
func (c *Client) API() *sr.Client { return c.sr }

// Explain words an error of the library.
func (c *Client) Explain(err error, what string) error { return c.explain(err, what) }

func (c *Client) explain(err error, what string) error {
	var said *sr.ResponseError
	var op *net.OpError
	switch {
	case errors.As(err, &said) && said.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%s: %w: %s", c, connect.ErrNoSchema, what)
	case errors.As(err, &said) && (said.StatusCode == http.StatusUnauthorized || said.StatusCode == http.StatusForbidden):
		return fmt.Errorf("%s: %w: it answers %d; check user and password", c, connect.ErrDenied, said.StatusCode)
	case errors.As(err, &said) && said.StatusCode < 500:
		return fmt.Errorf("%s: %s: %s", c, what, said.Message)
	case errors.As(err, &said):
		return fmt.Errorf("%s %w: it answers %d", c, connect.ErrUnreachable, said.StatusCode)
	case secure.Why(err) != "":
		return fmt.Errorf("%s: %w: %s", c, connect.ErrDenied, secure.Why(err))
	case errors.As(err, &op) && op.Err != nil:
		return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", c, connect.ErrUnreachable, op.Err)
	case errors.Is(err, context.Canceled):
		return err
	}
	return fmt.Errorf("%s %w: %w", c, connect.ErrUnreachable, err)
}
