package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/access"
	"undertide/api"
	"undertide/store"
)

// people are those who may sign in, with the codes that let them in, in memory: whoever is signed in stays so while the database
// is away. The service is the only one that changes the records. Safe for concurrent use.
type people struct {
	db    *store.Store
	tries access.Tries

	changing sync.Mutex // held by whoever changes something, so that what is checked still holds as it is stored

	mu      sync.Mutex // guards all below
	byID    map[int64]store.Person
	codes   map[access.Digest]store.Code
	first   access.Digest // of the code that makes the first keeper, while there is none; zero for none
	noted   map[int64]time.Time
	changed chan struct{} // closed when somebody may do less than before, and made anew
}

// codeFor is for how long a code lets somebody in.
const codeFor = 3 * 24 * time.Hour

func openPeople(ctx context.Context, db *store.Store) (*people, error) {
	p := &people{db: db, byID: map[int64]store.Person{}, codes: map[access.Digest]store.Code{}, noted: map[int64]time.Time{}, changed: make(chan struct{})}
	return p, p.read(ctx)
}

// read takes in what the records have: at the start, and after another node has changed them. Whoever may do less then is told.
func (p *people) read(ctx context.Context) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	list, err := p.db.People(ctx)
	if err != nil {
		return err
	}
	codes, err := p.db.Codes(ctx)
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.byID)
	clear(p.codes)
	for _, one := range list {
		p.byID[one.ID] = one
	}
	for _, c := range codes {
		p.codes[access.Digest(c.Digest)] = c
	}
	p.tellLocked()
	return nil
}

// all gives everybody by name.
func (p *people) all() []store.Person {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.SortedFunc(maps.Values(p.byID), func(a, b store.Person) int { return strings.Compare(a.Name, b.Name) })
}

func (p *people) any() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.byID) > 0
}

// of gives somebody by number.
func (p *people) of(id int64) (store.Person, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one, ok := p.byID[id]
	return one, ok
}

// named gives somebody by name, whatever its case.
func (p *people) named(name string) (store.Person, bool) {
	return p.where(func(x store.Person) bool { return strings.EqualFold(x.Name, name) })
}

// mailed gives somebody by their mail address.
func (p *people) mailed(email string) (store.Person, bool) {
	return p.where(func(x store.Person) bool { return x.Email != "" && strings.EqualFold(x.Email, email) })
}

func (p *people) where(is func(store.Person) bool) (store.Person, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.byID {
		if is(one) {
			return one, true
		}
	}
	return store.Person{}, false
}

// keepers names those who may do everything: whoever lacks a right may ask them.
func (p *people) keepers() (out []string) {
	for _, one := range p.all() {
		if access.Role(one.Role) == access.Keeper {
			out = append(out, one.Name)
		}
	}
	return out
}

// seen notes that somebody is here.
func (p *people) seen(id int64) {
	now := time.Now().UTC()
	p.mu.Lock()
	defer p.mu.Unlock()
	one, ok := p.byID[id]
	if !ok || now.Sub(p.noted[id]) < usedEvery {
		return
	}
	p.noted[id], one.SeenAt = now, &now
	p.byID[id] = one
	p.db.PersonSeen(id, now)
}

// news is closed when somebody may do less than before.
func (p *people) news() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
}

// tell wakes those who listen to [people.news].
func (p *people) tell() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tellLocked()
}

func (p *people) tellLocked() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// firstCode makes a code by which somebody becomes the first keeper, in place of the one of before.
func (p *people) firstCode() string {
	code := access.NewCode()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.first = access.DigestOf(code)
	return code
}

// personNames are names of people: as they are written in commands and the trail.
var personNames = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._@+-]{0,63}$`)

func checkName(name string) error {
	if !personNames.MatchString(name) {
		return api.WrongRequest.With(cut(name)+" is not a name for a person", "use letters, digits, ., _, @, + and -, beginning with a letter or digit")
	}
	return nil
}

// newCode makes a code, and its record for a person.
func newCode(person int64) (text string, rec store.Code) {
	text = access.NewCode()
	digest := access.DigestOf(text)
	return text, store.Code{Digest: digest[:], PersonID: person, EndsAt: time.Now().UTC().Add(codeFor)}
}

// add notes somebody, and gives the code that lets them in.
func (p *people) add(ctx context.Context, name, role, email string) (one store.Person, code string, err error) {
	p.changing.Lock()
	defer p.changing.Unlock()
	if _, there := p.named(name); there {
		return one, "", api.PersonExists.With("there is somebody named "+name+" already", "")
	}
	if err := p.freeMail(email, 0); err != nil {
		return one, "", err
	}
	one = store.Person{Name: name, Role: role, Email: email, MadeAt: time.Now().UTC()}
	code, rec := newCode(0)
	if err := p.db.AddPerson(ctx, &one, &rec); err != nil {
		return one, "", err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.byID[one.ID], p.codes[access.Digest(rec.Digest)] = one, rec
	return one, code, nil
}

// addFirst notes the first keeper, by the code that was made for whoever comes.
func (p *people) addFirst(ctx context.Context, code, name, hash string) (one store.Person, err error) {
	if err := checkName(name); err != nil {
		return one, err
	}
	p.changing.Lock()
	defer p.changing.Unlock()
	if _, first, err := p.code(code); err != nil || !first { // somebody else was faster
		return one, cmp.Or(err, error(api.WrongCode.With("", "")))
	}
	one = store.Person{Name: name, Role: string(access.Keeper), Password: hash, MadeAt: time.Now().UTC()}
	if err := p.db.AddPerson(ctx, &one, nil); err != nil {
		return one, err
	}
	p.mu.Lock()
	p.byID[one.ID], p.first = one, access.Digest{}
	p.mu.Unlock()
	p.tell()
	return one, nil
}

func (p *people) freeMail(email string, but int64) error {
	if email == "" {
		return nil
	}
	if other, there := p.mailed(email); there && other.ID != but {
		return api.PersonExists.With(other.Name+" has the mail address "+email+" already", "")
	}
	return nil
}

// update changes somebody. With renew they get a code, which is given, and lose those of before; used: their codes are gone. Sessions
// of before end where the generation changes.
func (p *people) update(ctx context.Context, id int64, renew, used bool, change func(*store.Person) error) (one store.Person, code string, err error) {
	p.changing.Lock()
	defer p.changing.Unlock()
	one, ok := p.of(id)
	if !ok {
		return one, "", api.NoSuchPerson.With("", "")
	}
	before := one
	if err := change(&one); err != nil {
		return one, "", err
	}
	if err := p.freeMail(one.Email, id); err != nil {
		return one, "", err
	}
	if err := p.keeperStays(before, access.Role(one.Role)); err != nil {
		return one, "", err
	}
	var rec *store.Code
	if renew {
		var made store.Code
		code, made = newCode(id)
		rec = &made
	}
	if err := p.db.UpdatePerson(ctx, one, rec, used); err != nil {
		return one, "", err
	}
	p.mu.Lock()
	one.SeenAt = p.byID[id].SeenAt
	p.byID[id] = one
	if renew || used {
		p.forgetCodesLocked(id)
	}
	if rec != nil {
		p.codes[access.Digest(rec.Digest)] = *rec
	}
	p.mu.Unlock()
	p.tell()
	return one, code, nil
}

// keeperStays refuses to leave the service without a keeper, of whom nobody could make another.
func (p *people) keeperStays(before store.Person, role access.Role) error {
	if k := p.keepers(); access.Role(before.Role) == access.Keeper && role != access.Keeper && len(k) == 1 {
		return api.LastKeeper.With(before.Name+" is the only keeper", "")
	}
	return nil
}

func (p *people) forgetCodesLocked(id int64) {
	maps.DeleteFunc(p.codes, func(_ access.Digest, c store.Code) bool { return c.PersonID == id })
}

// remove removes somebody.
func (p *people) remove(ctx context.Context, id int64) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	one, ok := p.of(id)
	if !ok {
		return api.NoSuchPerson.With("", "")
	}
	if err := p.keeperStays(one, access.Nobody); err != nil {
		return err
	}
	if err := p.db.DeletePerson(ctx, id); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.byID, id)
	delete(p.noted, id)
	p.forgetCodesLocked(id)
	p.mu.Unlock()
	p.tell()
	return nil
}

// code says whom a code lets in: somebody, or whoever comes as the first keeper.
func (p *people) code(text string) (one store.Person, first bool, err error) {
	digest, kept := access.DigestOf(text), len(p.keepers()) > 0
	p.mu.Lock()
	defer p.mu.Unlock()
	if digest == p.first && !kept {
		return one, true, nil
	}
	c, ok := p.codes[digest]
	if !ok || time.Now().After(c.EndsAt) {
		return one, false, api.WrongCode.With("", "")
	}
	return p.byID[c.PersonID], false, nil
}

// enter lets somebody in by a code, once, with the password that they choose. name is that of the first keeper.
func (p *people) enter(ctx context.Context, text, name, password string) (store.Person, error) {
	one, first, err := p.code(text)
	if err != nil {
		return one, err
	}
	if err := access.CheckPassword(password); err != nil {
		return one, api.WrongRequest.With(halves(err))
	}
	hash, err := access.HashPassword(ctx, password)
	if err != nil {
		return one, err
	}
	if first {
		return p.addFirst(ctx, text, name, hash)
	}
	one, _, err = p.update(ctx, one.ID, false, true, func(x *store.Person) error {
		if _, _, err := p.code(text); err != nil { // somebody else was faster
			return err
		}
		x.Password = hash
		x.Generation++
		return nil
	})
	return one, err
}

// signIn says who a name and a password are. Wrong ones cost as much time whoever they name.
func (p *people) signIn(ctx context.Context, name, password, from string) (store.Person, error) {
	if wait := p.tries.Try(name, from, time.Now()); wait > 0 {
		return store.Person{}, &slow{wait}
	}
	one, _ := p.named(name)
	same, err := access.SamePassword(ctx, password, one.Password)
	if err != nil {
		return store.Person{}, err
	}
	if !same {
		return store.Person{}, api.WrongPassword.With("", "")
	}
	return one, nil
}

// slow is the error of whoever tries too often.
type slow struct{ wait time.Duration }

func (e *slow) Error() string { return fmt.Sprintf("wait %s", e.wait) }

// changePassword lets somebody choose another password; their other sessions end.
func (p *people) changePassword(ctx context.Context, id int64, old, password, from string) (store.Person, error) {
	one, ok := p.of(id)
	if !ok {
		return one, api.NoSuchPerson.With("", "")
	}
	if _, err := p.signIn(ctx, one.Name, old, from); err != nil {
		return one, err
	}
	if err := access.CheckPassword(password); err != nil {
		return one, api.WrongRequest.With(halves(err))
	}
	hash, err := access.HashPassword(ctx, password)
	if err != nil {
		return one, err
	}
	one, _, err = p.update(ctx, id, false, true, func(x *store.Person) error {
		x.Password = hash
		x.Generation++
		return nil
	})
	return one, err
}

// roleOf reads a role of a request.
func roleOf(text string) (string, error) {
	r, err := access.ParseRole(cmp.Or(text, string(access.Reader)))
	if err != nil {
		return "", api.WrongRequest.With(halves(err))
	}
	return string(r), nil
}
