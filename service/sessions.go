package service

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"

	"undertide/store"
)

// How long a session lasts at most, and without a request.
const (
	sessionFor  = 7 * 24 * time.Hour
	sessionIdle = 12 * time.Hour
)

// What a session holds.
const (
	ofPerson     = "person"     // its number
	ofGeneration = "generation" // the person's as it began
	ofTouch      = "touched"    // when it was stored last, in seconds since 1970: that is not done for each request
)

// newSessions makes the keeper of sessions. Over TLS the cookie is bound to this host and never sent in the clear; on loopback without TLS some
// browsers would not take such a one.
//
// Browsers send cookies to all ports of a host: name tells this service's from those of its neighbours.
func newSessions(ctx context.Context, db *store.Store, name string, secure bool) (*scs.SessionManager, error) {
	keep := &sessionStore{db: db, all: map[string]store.Session{}}
	if err := keep.read(ctx); err != nil {
		return nil, err
	}
	// Not scs.New, which begins to look after sessions in a store of its own.
	m := &scs.SessionManager{Store: keep, HashTokenInStore: true, Lifetime: sessionFor, IdleTimeout: sessionIdle, Codec: scs.GobCodec{},
		Cookie: scs.SessionCookie{Name: name, Path: "/", HttpOnly: true, Secure: secure, SameSite: http.SameSiteStrictMode, Persist: true}}
	if secure {
		m.Cookie.Name = "__Host-" + name
	}
	return m, nil
}

// readSessions takes in the sessions that began or ended on other nodes; streams look whether theirs goes on.
func (s *Service) readSessions(ctx context.Context) error {
	keep, ok := s.sessions.Store.(*sessionStore)
	if !ok {
		return nil
	}
	err := keep.read(ctx)
	s.people.tell()
	return err
}

// sessionStore keeps sessions in memory and in the records. While the database is away those that began before are known still; none begins, and one
// that ends is only forgotten for good once it can be. Safe for concurrent use.
type sessionStore struct {
	db *store.Store

	changing sync.Mutex // held while records are changed, and while they are read: what was read before a change does not come behind it
	mu       sync.Mutex // guards all
	all      map[string]store.Session
}

// read takes in what the records have: at the start, and after another node has changed them.
func (s *sessionStore) read(ctx context.Context) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	list, err := s.db.Sessions(ctx)
	if err != nil {
		return err
	}
	all := map[string]store.Session{}
	for _, one := range list {
		all[one.Digest] = one
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = all
	return nil
}

func (s *sessionStore) Find(digest string) (data []byte, found bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	one, ok := s.all[digest]
	if !ok || time.Now().After(one.EndsAt) {
		return nil, false, nil
	}
	return one.Data, true, nil
}

func (s *sessionStore) CommitCtx(ctx context.Context, digest string, data []byte, ends time.Time) error {
	one := store.Session{Digest: digest, Data: data, EndsAt: ends.UTC()}
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.db.PutSession(ctx, one); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for d, x := range s.all {
		if time.Now().After(x.EndsAt) {
			delete(s.all, d)
		}
	}
	s.all[digest] = one
	return nil
}

func (s *sessionStore) DeleteCtx(ctx context.Context, digest string) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	delete(s.all, digest) // it counts no more, whatever becomes of its record
	s.mu.Unlock()
	return s.db.DeleteSession(ctx, digest)
}

func (s *sessionStore) FindCtx(_ context.Context, digest string) ([]byte, bool, error) {
	return s.Find(digest)
}

func (s *sessionStore) Commit(digest string, data []byte, ends time.Time) error {
	return s.CommitCtx(context.Background(), digest, data, ends)
}

func (s *sessionStore) Delete(digest string) error { return s.DeleteCtx(context.Background(), digest) }
