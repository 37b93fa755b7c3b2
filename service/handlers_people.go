package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/access"
	"undertide/api"
	"undertide/job"
	"undertide/store"
)

// getMe says who asks.
func (s *Service) getMe(c *gin.Context) error {
	if !askerOf(c).Known() {
		s.nameToken(c)
	}
	return answer(c, http.StatusOK, s.viewMe(askerOf(c)))
}

func (s *Service) viewMe(who asker) api.Me {
	out := api.Me{SignedIn: who.Known(), Name: who.Name, Role: string(who.Role), Means: string(who.Means), Asks: s.asksWho(), Keepers: []string{}}
	if s.signOn != nil {
		out.SingleSignOn = cmp.Or(s.signOn.of.Name, s.signOn.of.Issuer)
	}
	if who.Known() {
		out.Keepers = append(out.Keepers, s.people.keepers()...)
	}
	return out
}

// meNow answers with somebody who has just begun a session.
func (s *Service) meNow(c *gin.Context, one store.Person) error {
	return answer(c, http.StatusOK, s.viewMe(asker{Who: access.Who{Name: one.Name, Role: access.Role(one.Role), Means: access.BySession}, person: one.ID}))
}

// paced answers whoever tries too often, with when they may try again.
func paced(c *gin.Context, err error) error {
	var wait *slow
	if !errors.As(err, &wait) {
		return err
	}
	c.Header("Retry-After", strconv.Itoa(int(math.Ceil(wait.wait.Seconds()))))
	return api.TooMany.With("it was tried too often", fmt.Sprintf("try again in %s", wait.wait.Round(time.Second)+time.Second))
}

// actOn names what the request's line of the trail is about, where its path does not.
func actOn(c *gin.Context, target string) {
	if act := store.ActOf(c.Request.Context()); act != nil {
		act.Target = cut(target)
	}
}

// actBy names who signs in, who was not known before, in the request's line of the trail.
func actBy(c *gin.Context, name string) {
	actOn(c, name)
	if act := store.ActOf(c.Request.Context()); act != nil && !askerOf(c).Known() {
		act.Who = cut(name)
	}
}

func (s *Service) postSignIn(c *gin.Context) error {
	var ask api.SignIn
	if err := body(c, &ask); err != nil {
		return err
	}
	if len(ask.Password) > 4*access.MostPassword || len(ask.Name) > 256 {
		return api.WrongRequest.With("nobody has so long a name or password", "")
	}
	actOn(c, ask.Name)
	one, err := s.people.signIn(c.Request.Context(), ask.Name, ask.Password, s.addressOf(c))
	if err != nil {
		return paced(c, err)
	}
	actBy(c, one.Name)
	if err := s.beginSession(c, one); err != nil {
		return err
	}
	s.people.seen(one.ID)
	return s.meNow(c, one)
}

func (s *Service) postSignOut(c *gin.Context) error {
	if err := s.endSession(c); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Service) postPassword(c *gin.Context) error {
	var ask api.NewPassword
	if err := body(c, &ask); err != nil {
		return err
	}
	who := askerOf(c)
	if who.Means != access.BySession {
		return api.WrongRequest.With("a password is changed by the person, who has signed in with it", "sign in at the console")
	}
	one, err := s.people.changePassword(c.Request.Context(), who.person, ask.Old, ask.New, s.addressOf(c))
	if err != nil {
		return paced(c, err)
	}
	if err := s.beginSession(c, one); err != nil {
		return err
	}
	return s.meNow(c, one)
}

func (s *Service) lookAtCode(c *gin.Context) error {
	var ask api.Code
	if err := body(c, &ask); err != nil {
		return err
	}
	if wait := s.people.tries.From(s.addressOf(c), time.Now()); wait > 0 {
		return paced(c, &slow{wait})
	}
	one, first, err := s.people.code(ask.Code)
	if err != nil {
		return err
	}
	out := api.CodeFor{Name: one.Name, Role: one.Role, First: first}
	if first {
		out.Role = string(access.Keeper)
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) postEnter(c *gin.Context) error {
	var ask api.Enter
	if err := body(c, &ask); err != nil {
		return err
	}
	if wait := s.people.tries.From(s.addressOf(c), time.Now()); wait > 0 {
		return paced(c, &slow{wait})
	}
	if one, first, err := s.people.code(ask.Code); err == nil {
		if first {
			one.Name = ask.Name
		}
		actBy(c, one.Name)
	}
	one, err := s.people.enter(c.Request.Context(), ask.Code, ask.Name, ask.Password)
	if err != nil {
		return err
	}
	if err := s.beginSession(c, one); err != nil {
		return err
	}
	return s.meNow(c, one)
}

func (s *Service) viewPerson(one store.Person) api.Person {
	out := api.Person{Name: one.Name, Role: one.Role, Email: one.Email, MadeAt: one.MadeAt, SeenAt: one.SeenAt, Waits: one.Password == "" && one.SeenAt == nil, Owns: []string{}}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.jobs {
		if slices.ContainsFunc(e.rec.Owners, func(n string) bool { return strings.EqualFold(n, one.Name) }) {
			out.Owns = append(out.Owns, e.rec.Name)
		}
	}
	slices.Sort(out.Owns)
	return out
}

func (s *Service) getPeople(c *gin.Context) error {
	out := api.List[api.Person]{Items: []api.Person{}}
	for _, one := range s.people.all() {
		out.Items = append(out.Items, s.viewPerson(one))
	}
	return answer(c, http.StatusOK, out)
}

// enterPath is the console's place where codes are used. The code stands behind the hash, which browsers send to nobody.
const enterPath = "/enter#"

func (s *Service) viewMade(one store.Person, code string) api.MadePerson {
	return api.MadePerson{Person: s.viewPerson(one), Code: code, Path: enterPath + code, EndsAt: time.Now().UTC().Add(codeFor)}
}

func (s *Service) postPerson(c *gin.Context) error {
	var ask api.NewPerson
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := checkName(ask.Name); err != nil {
		return err
	}
	role, err := roleOf(ask.Role)
	if err != nil {
		return err
	}
	if err := checkMail(ask.Email); err != nil {
		return err
	}
	if !s.people.any() && role != string(access.Keeper) {
		return api.LastKeeper.With("nobody is a keeper yet: once there are people, whoever asks has to sign in", "make the first person a keeper")
	}
	actOn(c, ask.Name)
	one, code, err := s.people.add(c.Request.Context(), ask.Name, role, ask.Email)
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, s.viewMade(one, code))
}

func checkMail(text string) error {
	if name, host, ok := strings.Cut(text, "@"); text != "" && (!ok || name == "" || host == "" || len(text) > 254 || strings.ContainsAny(text, " \t\n<>,;")) {
		return api.WrongRequest.With(cut(text)+" is not a mail address", "write it as ann@example.org, or leave it out")
	}
	return nil
}

// person finds the one that a path names.
func (s *Service) person(c *gin.Context) (store.Person, error) {
	return s.personNamed(c.Param("person"))
}

func (s *Service) personNamed(name string) (store.Person, error) {
	if one, ok := s.people.named(name); ok {
		return one, nil
	}
	var names []string
	for _, one := range s.people.all() {
		names = append(names, one.Name)
	}
	fix := ""
	if n := job.Nearest(name, names); n != "" {
		fix = "did you mean " + n + "?"
	}
	return store.Person{}, api.NoSuchPerson.With("there is nobody named "+cut(name), fix)
}

func (s *Service) putPerson(c *gin.Context) error {
	var ask api.ChangedPerson
	if err := body(c, &ask); err != nil {
		return err
	}
	one, err := s.person(c)
	if err != nil {
		return err
	}
	if ask.Email != nil {
		if err := checkMail(*ask.Email); err != nil {
			return err
		}
	}
	one, _, err = s.people.update(c.Request.Context(), one.ID, false, false, func(x *store.Person) error {
		if ask.Role != nil {
			role, err := roleOf(*ask.Role)
			if err != nil {
				return err
			}
			x.Role = role
		}
		if ask.Email != nil {
			x.Email = *ask.Email
		}
		return nil
	})
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, s.viewPerson(one))
}

func (s *Service) deletePerson(c *gin.Context) error {
	one, err := s.person(c)
	if err != nil {
		return err
	}
	if err := s.people.remove(c.Request.Context(), one.ID); err != nil {
		return err
	}
	s.tokens.forgetPerson(one.ID)
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Service) renewPerson(c *gin.Context) error {
	one, err := s.person(c)
	if err != nil {
		return err
	}
	one, code, err := s.people.update(c.Request.Context(), one.ID, true, false, func(x *store.Person) error {
		x.Generation++
		return nil
	})
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, s.viewMade(one, code))
}

func (s *Service) viewPersonToken(t store.Token) api.PersonToken {
	out := api.PersonToken{Name: t.Name, Role: t.Role, MadeAt: t.MadeAt, EndsAt: t.EndsAt, UsedAt: t.UsedAt}
	if t.PersonID != nil {
		one, _ := s.people.of(*t.PersonID)
		out.Person = one.Name
	}
	if t.JobID != nil {
		out.Job = s.nameOf(*t.JobID)
	}
	return out
}

// getPersonTokens lists one's own tokens, and a keeper's those of all people.
func (s *Service) getPersonTokens(c *gin.Context) error {
	who := askerOf(c)
	out := api.List[api.PersonToken]{Items: []api.PersonToken{}}
	for _, t := range s.tokens.ofPeople() {
		if who.Role == access.Keeper || t.PersonID != nil && *t.PersonID == who.person {
			out.Items = append(out.Items, s.viewPersonToken(t))
		}
	}
	slices.SortStableFunc(out.Items, func(a, b api.PersonToken) int {
		return cmp.Or(strings.Compare(a.Person, b.Person), strings.Compare(a.Name, b.Name))
	})
	return answer(c, http.StatusOK, out)
}

func (s *Service) postPersonToken(c *gin.Context) error {
	var ask api.NewPersonToken
	if err := body(c, &ask); err != nil {
		return err
	}
	actOn(c, strings.TrimSpace(ask.Person+" "+ask.Name))
	made, err := s.makePersonToken(c.Request.Context(), askerOf(c), ask)
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, made)
}

func (s *Service) makePersonToken(ctx context.Context, who asker, ask api.NewPersonToken) (out api.MadePersonToken, err error) {
	if !pinNames.MatchString(ask.Name) {
		return out, api.WrongRequest.With(cut(ask.Name)+" is not a name for a token", "use letters, digits, ., _ and -, beginning with a letter or digit")
	}
	of, err := s.ownerOf(who, ask.Person)
	if err != nil {
		return out, err
	}
	role, err := roleOf(cmp.Or(ask.Role, of.Role))
	if err != nil {
		return out, err
	}
	if !access.Role(of.Role).Covers(access.Role(role)) {
		return out, api.NotAllowed.With(fmt.Sprintf("%s is %s, and a token may do no more than its person", of.Name, access.Role(of.Role).A()), "leave out the role, or name a lesser one")
	}
	now := time.Now().UTC()
	t := store.Token{PersonID: &of.ID, Role: role, Name: ask.Name, MadeAt: now}
	if ask.Job != "" {
		e, err := s.find(ask.Job)
		if err != nil {
			return out, err
		}
		id := s.record(e).ID
		t.JobID = &id
	}
	if ask.For != "" {
		d, err := job.ParseDuration(ask.For)
		if err != nil || d <= 0 {
			return out, api.WrongRequest.With(cut(ask.For)+" is not how long a token lasts", "write 90d, 12h, or leave it out for one that does not end")
		}
		ends := now.Add(d)
		t.EndsAt = &ends
	}
	s.people.changing.Lock() // whose it is stays, and its name is free until it is there
	defer s.people.changing.Unlock()
	if _, ok := s.people.of(of.ID); !ok {
		return out, api.NoSuchPerson.With("", "")
	}
	if _, there := s.tokens.named(of.ID, ask.Name); there {
		return out, api.TokenExists.With(of.Name+" has a token "+ask.Name+" already", "")
	}
	out.Text = access.NewToken()
	digest := access.DigestOf(out.Text)
	t.Digest = digest[:]
	if err := s.db.AddToken(ctx, &t); err != nil {
		return out, err
	}
	s.tokens.add(t)
	out.Token = s.viewPersonToken(t)
	return out, nil
}

// ownerOf gives whose token is meant: one's own, or that of somebody whom a keeper names.
func (s *Service) ownerOf(who asker, name string) (store.Person, error) {
	if name == "" {
		one, ok := s.people.of(who.person)
		if !ok {
			return one, api.WrongRequest.With("nobody has signed in, so it is not known whose token it is", "name a person")
		}
		return one, nil
	}
	if who.Role != access.Keeper && !strings.EqualFold(name, who.Name) {
		return store.Person{}, api.NotAllowed.With("tokens of other people are the keepers' to change", s.whomToAsk())
	}
	return s.personNamed(name)
}

func (s *Service) deletePersonToken(c *gin.Context) error {
	of, err := s.ownerOf(askerOf(c), c.Query("person"))
	if err != nil {
		return err
	}
	actOn(c, of.Name+" "+c.Param("token"))
	t, there := s.tokens.named(of.ID, c.Param("token"))
	if !there {
		return api.NoSuchToken.With(of.Name+" has no token "+cut(c.Param("token")), "")
	}
	if err := s.tokens.revoke(c.Request.Context(), t); err != nil {
		return err
	}
	s.people.tell()
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Service) getTrail(c *gin.Context) error {
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	before, err := number(c, "after", 0, 1, 1<<62)
	if err != nil {
		return err
	}
	since, err := moments(c, "since", time.Time{})
	if err != nil {
		return err
	}
	lines, err := s.db.Lines(c.Request.Context(), store.LineQuery{Who: c.Query("who"), Target: c.Query("on"), Since: since, Before: before, Limit: int(limit) + 1})
	if err != nil {
		return err
	}
	out := api.Page[api.TrailLine]{Items: []api.TrailLine{}}
	if len(lines) > int(limit) {
		lines = lines[:limit]
		out.Next = strconv.FormatInt(lines[limit-1].ID, 10)
	}
	for _, l := range lines {
		out.Items = append(out.Items, api.TrailLine{ID: l.ID, At: l.At, Who: l.Who, Means: l.Means, Address: l.Address, Action: l.Action, Target: l.Target, Version: l.Version, Outcome: l.Outcome, Request: l.Request})
	}
	return answer(c, http.StatusOK, out)
}

// putOwners says who may change a job.
func (s *Service) putOwners(c *gin.Context) error {
	var ask api.Owners
	if err := body(c, &ask); err != nil {
		return err
	}
	owners := []string{}
	for _, name := range ask.Owners {
		one, err := s.personNamed(name)
		if err != nil {
			return err
		}
		if !access.Role(one.Role).Covers(access.Engineer) {
			return api.WrongRequest.With(one.Name+" is a reader, who may change nothing", "name engineers and keepers")
		}
		if !slices.Contains(owners, one.Name) {
			owners = append(owners, one.Name)
		}
	}
	ctx := c.Request.Context()
	e, err := holding(ctx, s, c.Param("job"), func(e *entry) (*entry, error) {
		s.reread.Lock()
		defer s.reread.Unlock()
		if err := s.db.PutOwners(ctx, s.record(e).ID, owners); err != nil {
			return nil, err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		e.rec.Owners = owners
		return e, nil
	})
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, s.viewJob(e))
}
