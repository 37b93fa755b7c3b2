package service

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
	"undertide/store"
)

// asker is who a request comes from, as far as it is known.
type asker struct {
	access.Who
	person int64 // 0 for none
	// why says what is wrong with what the request brought, for somebody who is not known.
	why string
	// ends is when it ends by itself; zero for not.
	ends time.Time
	// passed: another node passed the request on, which came from address.
	passed  bool
	address string
	// node: a node asks by itself.
	node bool
}

const askerKey = "asker"

func askerOf(c *gin.Context) asker {
	v, _ := c.Get(askerKey)
	who, _ := v.(asker)
	return who
}

type whoKey struct{}

// whoIn gives who a context's request comes from; false for what the service does by itself.
func whoIn(ctx context.Context) (asker, bool) {
	who, ok := ctx.Value(whoKey{}).(asker)
	return who, ok
}

// asksWho says whether somebody has to say who they are: always beyond loopback; on loopback where it was asked for, or since
// there are people (docs/security.md, "People and rights").
func (s *Service) asksWho() bool { return s.opt.SignIn || s.beyond || s.people.any() }

// known finds out who a request comes from. Posts into sources and the console's files, which ask nobody, go without.
func (s *Service) known(c *gin.Context) {
	who := s.whoAsks(c)
	c.Set(askerKey, who)
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), whoKey{}, who))
	c.Next()
}

func (s *Service) whoAsks(c *gin.Context) asker {
	if who, there := s.byNode(c); there {
		return who
	}
	if text := bearer(c.Request); text != "" {
		return s.byToken(text)
	}
	if c.GetHeader("Authorization") != "" {
		return asker{why: "the request's Authorization is not a Bearer token"}
	}
	if who, there := s.bySession(c); there {
		return who
	}
	if !s.asksWho() {
		return asker{Who: access.Who{Role: access.Keeper, Means: access.ByMachine}}
	}
	return asker{}
}

// byToken says who has a token. It may do what both its own role and its owner's of now allow.
func (s *Service) byToken(text string) asker {
	digest := access.DigestOf(text)
	if s.machine != (access.Digest{}) && digest == s.machine {
		return asker{Who: access.Who{Role: access.Keeper, Means: access.ByMachine}}
	}
	t, ok := s.tokens.find(digest)
	switch {
	case !ok:
		return asker{why: "the token is not known; it may have been revoked"}
	case t.EndsAt != nil && time.Now().After(*t.EndsAt):
		return asker{why: "the token " + t.Name + " ended " + t.EndsAt.Format(time.RFC3339)}
	}
	who := asker{Who: access.Who{Role: access.Role(t.Role), Means: access.ByToken, Token: t.Name}}
	if t.PersonID != nil {
		one, ok := s.people.of(*t.PersonID)
		if !ok {
			return asker{why: "whose token it was is gone"}
		}
		who.Name, who.person, who.Role = one.Name, one.ID, access.Least(access.Role(t.Role), access.Role(one.Role))
	}
	if t.JobID != nil {
		who.Job = *t.JobID
	}
	if t.EndsAt != nil {
		who.ends = *t.EndsAt
	}
	s.tokens.use(digest)
	return who
}

// bySession says who has a session, where the request bears its cookie.
func (s *Service) bySession(c *gin.Context) (who asker, there bool) {
	cookie, err := c.Cookie(s.sessions.Cookie.Name)
	if err != nil || cookie == "" {
		return who, false
	}
	ctx, err := s.sessions.Load(c.Request.Context(), cookie)
	if err != nil {
		return asker{why: "the session cannot be read"}, true
	}
	one, ok := s.people.of(s.sessions.GetInt64(ctx, ofPerson))
	if !ok || one.Generation != s.sessions.GetInt(ctx, ofGeneration) {
		return asker{why: "the session has ended"}, s.asksWho()
	}
	s.people.seen(one.ID)
	if time.Since(time.Unix(s.sessions.GetInt64(ctx, ofTouch), 0)) > usedEvery && !wantsStream(c) {
		s.sessions.Put(ctx, ofTouch, time.Now().Unix())
		if text, ends, err := s.sessions.Commit(ctx); err == nil { // without the database it does not last longer, and counts all the same
			s.sessions.WriteSessionCookie(ctx, c.Writer, text, ends)
		}
	}
	return asker{Who: access.Who{Name: one.Name, Role: access.Role(one.Role), Means: access.BySession}, person: one.ID, ends: s.sessions.Deadline(ctx)}, true
}

// still says whether who a request came from is so still, and may do as much. A stream asks from time to time.
func (s *Service) still(c *gin.Context) bool {
	was := askerOf(c)
	now := s.whoAsks(c)
	return now.Means == was.Means && now.person == was.person && now.Role.Covers(was.Role) && (was.ends.IsZero() || time.Now().Before(was.ends))
}

// may lets a request pass that its sender may make.
func (s *Service) may(c *gin.Context, need access.Role) error {
	who := askerOf(c)
	if who.Role.Covers(need) {
		return nil
	}
	if !who.Known() {
		return s.notSignedIn(c, who.why)
	}
	detail := fmt.Sprintf("%s may do what %s may; this needs a right of the %s", who, who.Role.A(), need)
	if who.Role == access.Poster {
		detail = fmt.Sprintf("the token %s may post to its source, and do nothing else", who.Token)
	}
	return api.NotAllowed.With(detail, s.whomToAsk())
}

func (s *Service) whomToAsk() string {
	k := s.people.keepers()
	if len(k) == 0 {
		return ""
	}
	return "ask " + strings.Join(k[:min(len(k), 5)], ", ")
}

// TokenFileHeader names the file of the machine's token in an answer to whoever asks from this machine and is not signed in.
const TokenFileHeader = "Undertide-Token-File"

func (s *Service) notSignedIn(c *gin.Context, why string) error {
	c.Header("WWW-Authenticate", `Bearer realm="undertide"`)
	s.nameToken(c)
	return api.NotSignedIn.With(why, "")
}

func (s *Service) nameToken(c *gin.Context) {
	if s.tokenFile != "" && len(s.opt.Behind) == 0 && access.OnLoopback(hostOf(c.Request.RemoteAddr)) {
		c.Header(TokenFileHeader, s.tokenFile)
	}
}

// mayOf lets a request pass whose token is for one job alone, where it is about this job.
func (s *Service) mayOf(c *gin.Context, o *operations.Operation) error {
	who := askerOf(c)
	if who.Job == 0 || o.Needs == access.Nobody || o.OfNoJob {
		return nil
	}
	if name := c.Param("job"); name != "" {
		if e, err := s.find(name); err == nil && s.isOfJob(s.record(e), who.Job) {
			return nil
		}
	} else if run := c.Param("run"); run != "" {
		if s.runOf(c, who.Job) {
			return nil
		}
	} else if o.ID == "save" { // its document says of which job; the save asks
		return nil
	}
	return api.NotAllowed.With(fmt.Sprintf("the token %s is for the job %s alone", who.Token, s.nameOf(who.Job)), "")
}

// runOf says whether the run that is named in a request is one of a job.
func (s *Service) runOf(c *gin.Context, job int64) bool {
	r, rec, err := s.runner(c)
	of := rec.JobID
	if r != nil {
		of, err = r.rec.JobID, nil
	}
	return err == nil && s.isOfJob(s.recordNamed(s.nameOf(of)), job)
}

// isOfJob says whether a record is that of a job, or of one of its portions.
func (s *Service) isOfJob(rec store.Job, job int64) bool {
	return rec.ID == job || rec.PortionOf != "" && s.recordNamed(rec.PortionOf).ID == job
}

// mayChange says whether who a context's request comes from may change a job: keepers, and those whom it names as its owners; every engineer
// where it names none.
func (s *Service) mayChange(ctx context.Context, e *entry) error {
	who, asked := whoIn(ctx)
	if !asked {
		return nil
	}
	rec := s.record(e)
	if rec.PortionOf != "" && !who.node {
		return s.ofPortion(rec)
	}
	if rec.SpanOf != "" { // it is changed by whoever may change the job whose document it reads
		if of, err := s.find(rec.SpanOf); err == nil {
			rec = s.record(of)
		}
	}
	if who.Job != 0 && who.Job != rec.ID {
		return api.NotAllowed.With(fmt.Sprintf("the token %s is for the job %s alone", who.Token, s.nameOf(who.Job)), "")
	}
	if len(rec.Owners) == 0 || who.Role == access.Keeper {
		return nil
	}
	for _, name := range rec.Owners {
		if who.Name != "" && strings.EqualFold(name, who.Name) {
			return nil
		}
	}
	return api.NotAllowed.With(fmt.Sprintf("job %s may be changed by %s, and by keepers", rec.Name, strings.Join(rec.Owners, ", ")), "ask one of them")
}

// maySave says whether a job of a name may be saved, which need not be there yet.
func (s *Service) maySave(ctx context.Context, name string) error {
	e, err := s.find(name)
	if err == nil {
		return s.mayChange(ctx, e)
	}
	if who, _ := whoIn(ctx); who.Job != 0 {
		return api.NotAllowed.With(fmt.Sprintf("the token %s is for the job %s alone", who.Token, s.nameOf(who.Job)), "")
	}
	return nil
}

// acts lets a change be told of in the trail: with the records that it changes, or, where it changes none or is refused, behind it.
func (s *Service) acts(c *gin.Context, o *operations.Operation, do func() error) error {
	if !o.Changes() || askerOf(c).node { // whoever asked for what a node does by itself is in the trail for that
		return do()
	}
	who := askerOf(c)
	act := &store.Act{Line: store.Line{At: time.Now().UTC().Truncate(time.Microsecond), Who: who.String(), Means: string(who.Means), Address: s.addressOf(c), Action: o.ID, Target: targetOf(c), Request: c.Writer.Header().Get(requestID)}}
	c.Request = c.Request.WithContext(store.WithAct(c.Request.Context(), act))
	err := do()
	if act.Written() && err == nil {
		return nil
	}
	line := act.Line
	if line.Outcome = store.Done; err != nil {
		p := problemOf(err)
		if p == nil {
			p = &api.Internal
		}
		line.Outcome, line.At = p.Code, time.Now().UTC().Truncate(time.Microsecond)
	}
	// Whoever knocks fills no record that is never emptied: of who is not known it has what was tried, which is bounded (access.Tries). The log has all.
	if who.Known() || slices.Contains([]string{api.WrongPassword.Code, api.WrongCode.Code}, line.Outcome) || line.Who != who.String() {
		s.db.AddLine(line)
	}
	return err
}

// targetOf says what a request is about: the names in its path, the first of them first.
func targetOf(c *gin.Context) string {
	var names []string
	for _, p := range c.Params {
		names = append(names, p.Value)
	}
	return cut(strings.Join(names, " "))
}

// addressOf gives where a request came from, without the port: behind a proxy what it says, which is the last that the header names.
func (s *Service) addressOf(c *gin.Context) string {
	if who := askerOf(c); who.passed {
		return who.address
	}
	if len(s.opt.Behind) > 0 {
		all := strings.Split(strings.Join(c.Request.Header.Values("X-Forwarded-For"), ","), ",")
		if last := strings.TrimSpace(all[len(all)-1]); net.ParseIP(last) != nil {
			return last
		}
	}
	return hostOf(c.Request.RemoteAddr)
}

func hostOf(address string) string {
	if h, _, err := net.SplitHostPort(address); err == nil {
		return h
	}
	return address
}

// beginSession makes a session for somebody, in place of the one that the request brought, and gives the browser its cookie.
func (s *Service) beginSession(c *gin.Context, one store.Person) error {
	old, _ := c.Cookie(s.sessions.Cookie.Name)
	ctx, err := s.sessions.Load(c.Request.Context(), old)
	if err != nil {
		return err
	}
	if err := s.sessions.RenewToken(ctx); err != nil { // one that somebody else gave the browser is not taken over
		return err
	}
	s.sessions.Put(ctx, ofPerson, one.ID)
	s.sessions.Put(ctx, ofGeneration, one.Generation)
	s.sessions.Put(ctx, ofTouch, time.Now().Unix())
	text, ends, err := s.sessions.Commit(ctx)
	if err != nil {
		return err
	}
	s.sessions.WriteSessionCookie(ctx, c.Writer, text, ends)
	return nil
}

// endSession ends the session that the request brought.
func (s *Service) endSession(c *gin.Context) error {
	text, _ := c.Cookie(s.sessions.Cookie.Name)
	if text == "" {
		return nil
	}
	ctx, err := s.sessions.Load(c.Request.Context(), text)
	if err != nil {
		return err
	}
	err = s.sessions.Destroy(ctx)
	s.sessions.WriteSessionCookie(ctx, c.Writer, "", time.Time{})
	s.people.tell()
	return err
}
