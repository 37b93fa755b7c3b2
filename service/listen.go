package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"undertide/access"
)

// listen takes the address. Beyond loopback it is served over TLS alone (docs/security.md, "Beyond loopback").
func listen(ctx context.Context, opt *Options) (l net.Listener, beyond bool, err error) {
	host, port, err := net.SplitHostPort(opt.Listen)
	if err != nil {
		return nil, false, fmt.Errorf("--listen %s is not an address; write it as %s", opt.Listen, DefaultListen)
	}
	if (opt.TLSCert == "") != (opt.TLSKey == "") {
		return nil, false, errors.New("--tls-cert and --tls-key belong together; give both")
	}
	if opt.PublicName != "" {
		if opt.TLSCert != "" || len(opt.Behind) > 0 {
			return nil, false, errors.New("--public-name is of a service that is given its certificate by an authority; leave out --tls-cert and --behind, or it")
		}
		if !slices.Contains(opt.Hosts, opt.PublicName) {
			opt.Hosts = append([]string{opt.PublicName}, opt.Hosts...)
		}
	}
	for _, at := range opt.Behind {
		if net.ParseIP(at) == nil {
			return nil, false, fmt.Errorf("--behind %s is not the address of a proxy; give it as a number, such as 10.0.0.2", at)
		}
	}
	switch proxied := len(opt.Behind) > 0; {
	case proxied && opt.TLSCert != "":
		return nil, false, errors.New("--behind is of a proxy that has the certificate, and --tls-cert of a service that has it; give one of them")
	case proxied && len(opt.Hosts) == 0:
		return nil, false, errors.New("--behind needs the name by which people call the proxy: --host NAME")
	case proxied:
		beyond = true
	default:
		beyond = !access.OnLoopback(host)
	}
	if beyond && opt.TLSCert == "" && opt.PublicName == "" && len(opt.Behind) == 0 {
		return nil, false, fmt.Errorf("--listen %s is refused: beyond loopback whoever listens on the way would read passwords and rows; give a certificate with --tls-cert and --tls-key, or --public-name, or use 127.0.0.1:%s with a tunnel", opt.Listen, port)
	}
	var c net.ListenConfig
	l, err = c.Listen(ctx, "tcp", opt.Listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, false, fmt.Errorf("%s is taken by another program, perhaps another service; stop that one, or choose another address with --listen", opt.Listen)
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return nil, false, fmt.Errorf("%s is not an address of this machine; choose another with --listen", opt.Listen)
	case err != nil:
		return nil, false, fmt.Errorf("listen on %s: %w", opt.Listen, err)
	}
	if len(opt.Behind) > 0 {
		l = onlyFrom{l, opt.Behind, opt.Log}
	}
	return l, beyond, nil
}

// onlyFrom takes connections from some addresses alone: others could say what they like of where they come from, and would be read in the clear.
type onlyFrom struct {
	net.Listener
	addresses []string
	log       *slog.Logger
}

func (l onlyFrom) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from := net.ParseIP(hostOf(c.RemoteAddr().String()))
		if slices.ContainsFunc(l.addresses, func(a string) bool { return net.ParseIP(a).Equal(from) }) {
			return c, nil
		}
		l.log.Info("a connection that is not the proxy's is not taken", "from", from)
		_ = c.Close() // nothing is owed to it
	}
}

// secured is how a service speaks TLS by itself; nil where it does not.
func secured(opt *Options) (*tls.Config, error) {
	switch {
	case opt.PublicName != "":
		return certified(opt), nil
	case opt.TLSCert != "":
		cert, err := newCertificate(opt.TLSCert, opt.TLSKey, opt.Log)
		if err != nil {
			return nil, err
		}
		return &tls.Config{GetCertificate: cert.get, MinVersion: tls.VersionTLS12}, nil
	}
	return nil, nil
}

// certified is how a service is reached that an authority gives its certificate: it proves at the address itself that the name is its (RFC 8737), and
// gets another one in time. What it got lies in DATA/certificates.
func certified(opt *Options) *tls.Config {
	m := &autocert.Manager{Prompt: autocert.AcceptTOS, HostPolicy: autocert.HostWhitelist(opt.PublicName), Cache: autocert.DirCache(filepath.Join(opt.Data, "certificates"))}
	if opt.ACME != "" {
		m.Client = &acme.Client{DirectoryURL: opt.ACME}
	}
	c := m.TLSConfig()
	c.MinVersion = tls.VersionTLS12
	return c
}

// certificate is that of the service: it is read again as its files change, so that a renewed one counts without a restart. Safe for
// concurrent use.
type certificate struct {
	cert, key string // paths
	log       *slog.Logger

	mu     sync.Mutex // guards all below
	now    *tls.Certificate
	stamps [2]stamp
	looked time.Time
}

// stamp tells whether a file is as it was.
type stamp struct {
	at   time.Time
	size int64
}

func newCertificate(cert, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{cert: cert, key: key, log: log}
	stamps, err := c.look()
	if err == nil {
		err = c.read(stamps)
	}
	if err != nil {
		return nil, fmt.Errorf("--tls-cert and --tls-key: %w", err)
	}
	return c, nil
}

func (c *certificate) look() (out [2]stamp, err error) {
	for i, path := range []string{c.cert, c.key} {
		st, err := os.Stat(path)
		if err != nil {
			return out, err
		}
		out[i] = stamp{st.ModTime(), st.Size()}
	}
	return out, nil
}

func (c *certificate) read(stamps [2]stamp) error {
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	if now := time.Now(); pair.Leaf != nil && now.After(pair.Leaf.NotAfter) {
		return fmt.Errorf("the certificate in %s ended %s", c.cert, pair.Leaf.NotAfter.Format(time.RFC3339))
	}
	c.now, c.stamps = &pair, stamps
	return nil
}

// get gives the certificate of now. The files are looked at once a second at most; while they cannot be read, as between the writing of
// the one and the other, that of before counts.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < time.Second {
		return c.now, nil
	}
	c.looked = time.Now()
	stamps, err := c.look()
	if err == nil && stamps == c.stamps {
		return c.now, nil
	}
	if err == nil {
		err = c.read(stamps)
	}
	if err != nil {
		c.log.Warn("the certificate has changed and cannot be read; that of before counts", "error", err)
	} else {
		c.log.Info("the certificate was read anew", "ends", c.now.Leaf.NotAfter)
	}
	return c.now, nil
}
