package service

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	pace "golang.org/x/time/rate"

	"undertide/access"
	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/store"
)

// tokens are those of all jobs, in memory: posts are judged also while the database is away. Safe for concurrent use.
type tokens struct {
	db *store.Store

	mu  sync.Mutex // guards all below
	all map[access.Digest]*token
}

// token is one, and what it may do just now.
type token struct {
	store.Token
	// left lets so many events through; a post of more than it has leaves a debt that later posts wait for. nil for no limit.
	left  *pace.Limiter
	noted time.Time // when its use was noted last
	added time.Time // here
}

func openTokens(ctx context.Context, db *store.Store) (*tokens, error) {
	t := &tokens{db: db, all: map[access.Digest]*token{}}
	return t, t.read(ctx)
}

// read takes in what the records have: at the start, and after another node has changed them.
func (t *tokens) read(ctx context.Context) error {
	begun := time.Now()
	list, err := t.db.Tokens(ctx)
	if err != nil {
		return err
	}
	there := map[access.Digest]bool{}
	for _, rec := range list {
		digest := access.Digest(rec.Digest)
		there[digest] = true
		if _, known := t.find(digest); !known {
			t.add(rec)
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for digest, one := range t.all {
		if !there[digest] && one.added.Before(begun) {
			delete(t.all, digest)
		}
	}
	return nil
}

// bursts is how many seconds' worth of events may come at once.
const bursts = 5

func (t *tokens) add(rec store.Token) {
	one := &token{Token: rec, added: time.Now()}
	if rec.Rate > 0 {
		one.left = pace.NewLimiter(pace.Limit(rec.Rate), int(min(rec.Rate*bursts, math.MaxInt32)))
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.all[access.Digest(rec.Digest)] = one
}

// of lists the tokens of a job by name.
func (t *tokens) of(job int64) (out []store.Token) {
	out = t.where(func(one *store.Token) bool { return one.OfJob(job) })
	slices.SortFunc(out, func(a, b store.Token) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (t *tokens) where(is func(*store.Token) bool) (out []store.Token) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range t.all {
		if is(&one.Token) {
			out = append(out, one.Token)
		}
	}
	return out
}

// ofPeople lists the tokens of all people.
func (t *tokens) ofPeople() []store.Token {
	return t.where(func(one *store.Token) bool { return one.PersonID != nil })
}

// named gives somebody's token by its name.
func (t *tokens) named(person int64, name string) (one store.Token, there bool) {
	list := t.where(func(one *store.Token) bool {
		return one.PersonID != nil && *one.PersonID == person && one.Name == name
	})
	if len(list) == 0 {
		return one, false
	}
	return list[0], true
}

// find gives a token by the digest of its text.
func (t *tokens) find(digest access.Digest) (store.Token, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if one := t.all[digest]; one != nil {
		return one.Token, true
	}
	return store.Token{}, false
}

// use notes that a token was used.
func (t *tokens) use(digest access.Digest) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if one := t.all[digest]; one != nil {
		t.usedLocked(one)
	}
}

func (t *tokens) usedLocked(one *token) (now time.Time) {
	now = time.Now()
	at := now.UTC()
	one.UsedAt = &at
	if now.Sub(one.noted) >= usedEvery {
		one.noted = now
		t.db.TokenUsed(one.ID, at)
	}
	return now
}

// revoke makes a token count no more, whatever becomes of its record.
func (t *tokens) revoke(ctx context.Context, one store.Token) error {
	t.remove(one.ID)
	err := t.db.DeleteToken(ctx, one.ID)
	if err != nil {
		t.add(one)
	}
	return err
}

// forgetPerson removes those of somebody who is removed; their records go with the person's.
func (t *tokens) forgetPerson(id int64) {
	for _, one := range t.ofPeople() {
		if *one.PersonID == id {
			t.remove(one.ID)
		}
	}
}

func (t *tokens) remove(id int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for digest, one := range t.all {
		if one.ID == id {
			delete(t.all, digest)
		}
	}
}

// forget removes those of and for a job that is deleted; their records go with the job's.
func (t *tokens) forget(job int64) {
	for _, one := range t.where(func(one *store.Token) bool { return one.JobID != nil && *one.JobID == job }) {
		t.remove(one.ID)
	}
}

// usedEvery bounds how often the use of a token is noted.
const usedEvery = time.Minute

// admit says whether a text is a token for a source, and how long its poster has to wait; spend takes what a post had.
func (t *tokens) admit(job int64, source, text string) (ok bool, wait time.Duration, spend func(events int)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	one := t.all[access.DigestOf(text)]
	if one == nil || !one.OfJob(job) || one.Source != source || one.EndsAt != nil && time.Now().After(*one.EndsAt) {
		return false, 0, nil
	}
	now := t.usedLocked(one)
	if one.left == nil {
		return true, 0, func(int) {}
	}
	if wait := access.Wait(one.left, now); wait > 0 {
		return true, wait, nil
	}
	return true, 0, func(events int) {
		for burst := one.left.Burst(); events > 0; events -= burst {
			one.left.ReserveN(time.Now(), min(events, burst))
		}
	}
}

// bearer gives the token that a request bears (RFC 6750, section 2.1).
func bearer(r *http.Request) string {
	kind, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(kind, "Bearer") {
		return ""
	}
	return strings.TrimSpace(text)
}

// getTokens lists a job's tokens.
func (s *Service) getTokens(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	out := api.List[api.Token]{Items: []api.Token{}}
	for _, t := range s.tokens.of(s.record(e).ID) {
		out.Items = append(out.Items, viewToken(t))
	}
	return answer(c, http.StatusOK, out)
}

func viewToken(t store.Token) api.Token {
	return api.Token{Name: t.Name, Source: t.Source, Rate: t.Rate, MadeAt: t.MadeAt, UsedAt: t.UsedAt}
}

// postToken makes a token; its text is in this answer and nowhere else.
func (s *Service) postToken(c *gin.Context) error {
	var ask api.NewToken
	if err := body(c, &ask); err != nil {
		return err
	}
	switch {
	case !pinNames.MatchString(ask.Name):
		return api.WrongRequest.With(cut(ask.Name)+" is not a name for a token", "use letters, digits, ., _ and -, beginning with a letter or digit")
	case ask.Rate < 0:
		return api.WrongRequest.With(fmt.Sprintf("%d events a second are none", ask.Rate), "give a rate of 1 and more, or none for as many as come")
	}
	ctx := c.Request.Context()
	made, err := holding(ctx, s, c.Param("job"), func(e *entry) (api.MadeToken, error) { return s.makeToken(ctx, e, ask) })
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, made)
}

// makeToken makes a token for a source that the job's newest version has.
func (s *Service) makeToken(ctx context.Context, e *entry, ask api.NewToken) (made api.MadeToken, err error) {
	rec := s.record(e)
	if ask.Source, err = s.postedSource(ctx, e, ask.Source); err != nil {
		return made, err
	}
	if slices.ContainsFunc(s.tokens.of(rec.ID), func(t store.Token) bool { return t.Name == ask.Name }) {
		return made, api.TokenExists.With("job "+rec.Name+" has a token "+ask.Name+" already", "")
	}
	made.Text = access.NewToken()
	digest := access.DigestOf(made.Text)
	t := store.Token{JobID: &rec.ID, Source: ask.Source, Role: string(access.Poster), Name: ask.Name, Digest: digest[:], Rate: ask.Rate, MadeAt: time.Now().UTC()}
	if err := s.db.AddToken(ctx, &t); err != nil {
		return made, err
	}
	s.tokens.add(t)
	made.Token = viewToken(t)
	return made, nil
}

// postedSource finds the source that takes posts: the one that is named, or the only one.
func (s *Service) postedSource(ctx context.Context, e *entry, named string) (string, error) {
	rec := s.record(e)
	versions, err := s.db.Newest(ctx, true, rec.ID)
	if err != nil || len(versions) == 0 {
		return "", err
	}
	j, err := job.Read(ctx, rec.Name+".yaml", versions[0].Document).Job(ctx, s.options(nil, false))
	if err != nil {
		return "", api.WrongDocument.With("the newest version of job "+rec.Name+" cannot be read, so nobody knows its sources", "")
	}
	var takes []string
	for i := range j.Sources {
		if _, ok := j.Sources[i].With.(connect.Posted); ok {
			takes = append(takes, j.Sources[i].Name)
		}
	}
	switch {
	case len(takes) == 0:
		return "", api.WrongRequest.With("job "+rec.Name+" has no source that takes posts", "add one of via: http")
	case named == "" && len(takes) == 1:
		return takes[0], nil
	case !slices.Contains(takes, named):
		return "", api.WrongRequest.With(cut(named)+" is not a source that takes posts", "name one of "+strings.Join(takes, ", "))
	}
	return named, nil
}

// deleteToken revokes a token.
func (s *Service) deleteToken(c *gin.Context) error {
	ctx := c.Request.Context()
	_, err := holding(ctx, s, c.Param("job"), func(e *entry) (struct{}, error) {
		rec := s.record(e)
		for _, t := range s.tokens.of(rec.ID) {
			if t.Name == c.Param("token") {
				return struct{}{}, s.tokens.revoke(ctx, t)
			}
		}
		return struct{}{}, api.NoSuchToken.With("job "+rec.Name+" has no token "+cut(c.Param("token")), "")
	})
	if err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
