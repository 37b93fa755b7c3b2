package service

import (
	"cmp"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/access"
	"undertide/api"
)

// crossOrigin keeps pages of other sites from changing anything here: a browser would carry their requests, with the session of
// whoever looks at them.
var crossOrigin = http.NewCrossOriginProtection()

// guard keeps pages of other sites from the service (docs/service.md, "Who may ask"): by what browsers say of where a request comes from, and by the
// Host, where a foreign name was made to point here (rebinding).
func (s *Service) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	r := c.Request
	if s.secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if err := s.forwarded(r); err != nil {
		s.fail(c, err)
		return
	}
	if !s.isHost(r) {
		s.fail(c, api.ForeignHost.With("the request names the host "+cut(r.Host), s.hostFix()))
		return
	}
	if s.pagePosts(r) {
		c.Next()
		return
	}
	// A page of another site could not see what is only read; but it would cost what it costs. So that is judged as a change is, unless somebody follows a
	// link to here.
	judged := *r
	if r.Header.Get("Sec-Fetch-Mode") != "navigate" {
		judged.Method = http.MethodPost
	}
	if crossOrigin.Check(&judged) != nil {
		s.fail(c, api.ForeignOrigin.With("the request comes from a page of "+cut(cmp.Or(r.Header.Get("Origin"), "another site")), ""))
		return
	}
	c.Next()
}

// forwarded judges what a proxy says of a request: one that is named has to say that it came over TLS; one that nobody has named must not stand before a service that
// trusts whoever reaches it.
func (s *Service) forwarded(r *http.Request) error {
	switch {
	case len(s.opt.Behind) > 0 && !strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https"):
		return api.ForeignHost.With("the proxy does not say that the request came over TLS (X-Forwarded-Proto: https)", "let the proxy set it, and take no requests in the clear")
	case len(s.opt.Behind) == 0 && !s.asksWho() && (r.Header.Get("X-Forwarded-For") != "" || r.Header.Get("Forwarded") != ""):
		return api.ForeignHost.With("a proxy forwards the request, and the service trusts whoever reaches it", "start the service with --behind and the proxy's address; then people sign in")
	}
	return nil
}

// isHost says whether a request calls the service by a name that it has: one of --host, the address that it was reached at, or on loopback those of
// loopback.
func (s *Service) isHost(r *http.Request) bool {
	name := strings.TrimSuffix(strings.Trim(hostOf(r.Host), "[]"), ".")
	if slices.ContainsFunc(s.opt.Hosts, func(h string) bool { return strings.EqualFold(h, name) }) {
		return true
	}
	at, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if at == nil {
		return access.OnLoopback(name)
	}
	own := net.ParseIP(hostOf(at.String()))
	if own.IsLoopback() {
		return access.OnLoopback(name)
	}
	ip := net.ParseIP(name)
	return ip != nil && ip.Equal(own)
}

func (s *Service) hostFix() string {
	if !s.beyond {
		return ""
	}
	if len(s.opt.Hosts) > 0 {
		return "call it by " + strings.Join(s.opt.Hosts, " or ")
	}
	return "call it by its address, or start it with --host and the name"
}

func cut(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}
