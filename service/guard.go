package service

import (
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/api"
)

// guard keeps pages of other sites from the service. It listens on loopback, so whoever is on this
// machine may use it; but a browser would also carry requests of foreign pages here. Their Origin
// tells, and where a foreign name was made to point here (rebinding), the Host does
// (docs/service.md, "Who may ask").
func (s *Service) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	r := c.Request
	if !loopbackHost(r.Host) {
		s.fail(c, api.ForeignHost.With("the request names the host "+cut(r.Host), ""))
		return
	}
	if s.pagePosts(r) {
		c.Next()
		return
	}
	if origin := r.Header.Get("Origin"); origin != "" && !sameOrigin(origin, r.Host) {
		s.fail(c, api.ForeignOrigin.With("the request comes from a page of "+cut(origin), ""))
		return
	}
	site := r.Header.Get("Sec-Fetch-Site")
	if (site == "cross-site" || site == "same-site") && !(r.Method == http.MethodGet && r.Header.Get("Sec-Fetch-Mode") == "navigate") {
		s.fail(c, api.ForeignOrigin.With("the request comes from a page of another site", ""))
		return
	}
	c.Next()
}

func loopbackHost(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.Trim(name, "[]")
	ip := net.ParseIP(name)
	return strings.EqualFold(name, "localhost") || ip != nil && ip.IsLoopback()
}

func sameOrigin(origin, host string) bool {
	u, err := url.Parse(origin)
	return err == nil && u.Scheme == "http" && strings.EqualFold(u.Host, host)
}

func cut(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}
