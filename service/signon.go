package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gin-gonic/gin"
	"golang.org/x/oauth2"

	"undertide/access"
	"undertide/api"
	"undertide/store"
)

// SignOn is a provider by which people may sign in (OpenID Connect Core 1.0, 3.1: by a code, with PKCE of RFC 7636).
type SignOn struct {
	Issuer string // its address
	Client string // what this service is called there
	Secret string // what it proves that by
	Name   string // of the provider, for people
	// Newcomers is the role of whoever comes the first time; empty: keepers add them before.
	Newcomers string
}

// signOns are those who are away at the provider. Safe for concurrent use.
type signOns struct {
	of SignOn

	mu       sync.Mutex // guards all below
	provider *oidc.Provider
	away     map[string]leaving // by state
}

// leaving is what is remembered of somebody who was sent to the provider.
type leaving struct {
	nonce, verifier string
	until           time.Time
}

const (
	awayFor  = 10 * time.Minute
	mostAway = 1000
	// askProviderIn is how long the provider may take to answer the service.
	askProviderIn = 10 * time.Second
)

// providerClient asks the provider: nothing of the machine's environment has a say in where that is.
var providerClient = &http.Client{Timeout: askProviderIn, Transport: &http.Transport{Proxy: nil, TLSHandshakeTimeout: askProviderIn}}

// config is how the provider is asked; it is looked for with the first who comes, so that the service does not wait for it to start.
func (x *signOns) config(c *gin.Context, secure bool) (*oauth2.Config, *oidc.IDTokenVerifier, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.provider == nil {
		p, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(c.Request.Context()), providerClient), x.of.Issuer)
		if err != nil {
			return nil, nil, err
		}
		x.provider = p
	}
	scheme := "http"
	if secure {
		scheme = "https"
	}
	return &oauth2.Config{ClientID: x.of.Client, ClientSecret: x.of.Secret, Endpoint: x.provider.Endpoint(), Scopes: []string{oidc.ScopeOpenID, "email", "profile"},
		RedirectURL: scheme + "://" + c.Request.Host + "/api/v1/single-sign-on/back"}, x.provider.Verifier(&oidc.Config{ClientID: x.of.Client}), nil
}

// leave remembers somebody until they are back.
func (x *signOns) leave(state string, l leaving) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.away == nil {
		x.away = map[string]leaving{}
	}
	for s, l := range x.away {
		if time.Now().After(l.until) {
			delete(x.away, s)
		}
	}
	if len(x.away) >= mostAway {
		return false
	}
	x.away[state] = l
	return true
}

// back gives what was remembered, once.
func (x *signOns) back(state string) (leaving, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	l, ok := x.away[state]
	delete(x.away, state)
	return l, ok && time.Now().Before(l.until)
}

// signOnCookie ties whoever comes back to the browser that left. The session's own cookie is not sent by a browser that comes from another site.
func (s *Service) signOnCookie(value string, age int) *http.Cookie {
	c := &http.Cookie{Name: "undertide-sign-on", Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.sessions.Cookie.Secure, SameSite: http.SameSiteLaxMode}
	if c.Secure {
		c.Name = "__Host-" + c.Name
	}
	return c
}

var noSignOn = api.NoSuchAddress.With("people do not sign in by another service here", "sign in with a password")

// getSignOn sends a browser to the provider.
func (s *Service) getSignOn(c *gin.Context) error {
	if s.signOn == nil {
		return noSignOn
	}
	conf, _, err := s.signOn.config(c, s.secure)
	if err != nil {
		s.logOf(c).Warn("the provider of single sign-on cannot be asked", "issuer", s.signOn.of.Issuer, "error", err)
		s.refuseSignOn(c, "away")
		return nil
	}
	state, l := rand.Text(), leaving{nonce: rand.Text(), verifier: oauth2.GenerateVerifier(), until: time.Now().Add(awayFor)}
	if !s.signOn.leave(state, l) {
		return tooMany(c, "people are signing in", 5)
	}
	http.SetCookie(c.Writer, s.signOnCookie(state, int(awayFor.Seconds())))
	c.Redirect(http.StatusFound, conf.AuthCodeURL(state, oidc.Nonce(l.nonce), oauth2.S256ChallengeOption(l.verifier)))
	return nil
}

// refuseSignOn sends a browser back to where one signs in, with the reason as a word, which the console words.
func (s *Service) refuseSignOn(c *gin.Context, why string) {
	c.Redirect(http.StatusFound, "/jobs#sign-on="+why)
}

// The reasons why somebody who comes from the provider is not let in.
var (
	errNotVerified = errors.New("unverified")
	errNotKnown    = errors.New("unknown")
)

// getSignOnBack lets somebody in who comes back from the provider.
func (s *Service) getSignOnBack(c *gin.Context) error {
	if s.signOn == nil {
		return noSignOn
	}
	one, err := s.fromProvider(c)
	http.SetCookie(c.Writer, s.signOnCookie("", -1))
	line := store.Line{At: time.Now().UTC().Truncate(time.Microsecond), Who: one.Name, Means: string(access.BySession), Address: s.addressOf(c), Action: "signOn", Target: cut(one.Name + one.Email), Outcome: store.Done, Request: c.Writer.Header().Get(requestID)}
	switch {
	case errors.Is(err, errNotVerified), errors.Is(err, errNotKnown):
		line.Who, line.Means, line.Target, line.Outcome = access.Who{}.String(), "", cut(one.Email), err.Error()
		s.db.AddLine(line)
		s.refuseSignOn(c, err.Error())
		return nil
	case err != nil:
		s.logOf(c).Warn("somebody who comes from the provider of single sign-on is not let in", "error", err)
		s.refuseSignOn(c, "failed")
		return nil
	}
	if err := s.beginSession(c, one); err != nil {
		return err
	}
	line.Target = one.Name
	s.db.AddLine(line)
	s.people.seen(one.ID)
	c.Redirect(http.StatusFound, "/")
	return nil
}

// fromProvider says who comes back: what they bring is exchanged for the provider's word, which is checked.
func (s *Service) fromProvider(c *gin.Context) (one store.Person, err error) {
	state := c.Query("state")
	cookie, err := c.Cookie(s.signOnCookie("", 0).Name)
	if err != nil || state == "" || subtle.ConstantTimeCompare([]byte(cookie), []byte(state)) != 1 {
		return one, errors.New("they come back in another browser than the one that left, or too late")
	}
	l, ok := s.signOn.back(state)
	if !ok {
		return one, errors.New("they come back too late, or again")
	}
	if why := c.Query("error"); why != "" {
		return one, fmt.Errorf("the provider says %s", cut(why))
	}
	conf, verifier, err := s.signOn.config(c, s.secure)
	if err != nil {
		return one, err
	}
	ctx := oidc.ClientContext(c.Request.Context(), providerClient)
	token, err := conf.Exchange(ctx, c.Query("code"), oauth2.VerifierOption(l.verifier))
	if err != nil {
		return one, fmt.Errorf("the provider does not take the code: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := verifier.Verify(ctx, raw)
	if err != nil {
		return one, fmt.Errorf("what the provider says of them does not hold: %w", err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(l.nonce)) != 1 {
		return one, errors.New("what the provider says was said to somebody else")
	}
	var claims struct {
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
	}
	if err := id.Claims(&claims); err != nil {
		return one, err
	}
	one.Email = claims.Email
	if claims.Email == "" || !claims.Verified || checkMail(claims.Email) != nil {
		return one, errNotVerified
	}
	if known, there := s.people.mailed(claims.Email); there {
		return known, nil
	}
	return s.newcomer(c.Request.Context(), claims.Email)
}

// newcomer adds somebody who comes the first time, where they may: under the name of their mail address.
func (s *Service) newcomer(ctx context.Context, email string) (one store.Person, err error) {
	one.Email = email
	if s.signOn.of.Newcomers == "" {
		return one, errNotKnown
	}
	made, _, err := s.people.add(ctx, strings.ToLower(email), s.signOn.of.Newcomers, email)
	var taken *api.Problem
	if errors.As(err, &taken) {
		return one, errNotKnown // the name is of somebody whom the provider knows by another address
	}
	return made, err
}
