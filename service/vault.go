package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/disk"
	"undertide/job"
	"undertide/secret"
	"undertide/store"
)

// vault holds the connections and secrets of the service in memory, so that a run can start again while
// the database is away. The service is the only one that changes the records. Safe for concurrent use.
type vault struct {
	db    *store.Store
	keys  *secret.Keys
	files *disk.Files
	env   []string                       // variables that may be named; never nil
	file  map[string]*connect.Connection // of the undertide.yaml that the service read

	rotating sync.Mutex // held while secrets are sealed anew, and while one is sealed
	// changing is held while records are changed, and while they are read: what was read before a change does not come behind it. Taken after rotating, before mu.
	changing sync.Mutex

	mu      sync.Mutex // guards all below
	box     *secret.Box
	others  []*secret.Box // that open what was sealed before
	named   map[string]store.Connection
	secrets map[string]store.Secret
}

func openVault(ctx context.Context, db *store.Store, opt Options, files *disk.Files) (*vault, error) {
	v := &vault{db: db, files: files, env: append([]string{}, opt.Env...), file: opt.Connections, named: map[string]store.Connection{}, secrets: map[string]store.Secret{}}
	var err error
	if v.keys, err = secret.NewKeys(filepath.Join(opt.Data, "secrets.key"), opt.SecretKeyFrom); err != nil {
		return nil, err
	}
	if v.box, v.others, err = v.keys.Boxes(); err != nil {
		return nil, err
	}
	if err := v.read(ctx); err != nil {
		return nil, err
	}
	for _, s := range v.secrets {
		if _, err := v.open(s); err != nil {
			opt.Log.Warn("a secret cannot be read; store it again, or give the right key back", "secret", s.Name, "error", err)
		}
	}
	if n := v.sealedBefore(); n > 0 {
		opt.Log.Warn("secrets are sealed with a key of before; undertide secrets rotate seals them anew", "secrets", n)
	}
	return v, v.settle(opt.SecretKeyFrom)
}

// read takes in what the records have: at the start, and after another node has changed them.
func (v *vault) read(ctx context.Context) error {
	v.rotating.Lock()
	defer v.rotating.Unlock()
	v.changing.Lock()
	defer v.changing.Unlock()
	connections, err := v.db.Connections(ctx)
	if err != nil {
		return err
	}
	secrets, err := v.db.Secrets(ctx)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	clear(v.named)
	clear(v.secrets)
	for _, c := range connections {
		v.named[c.Name] = c
	}
	for _, s := range secrets {
		v.secrets[s.Name] = s
	}
	return v.keysAnewLocked()
}

// keysAnewLocked asks for the keys again where a secret opens with none that is known: another node has sealed it anew. Called with mu and rotating held.
func (v *vault) keysAnewLocked() error {
	if v.box == nil {
		return nil
	}
	known := append([]*secret.Box{v.box}, v.others...)
	for _, s := range v.secrets {
		if slices.ContainsFunc(known, func(b *secret.Box) bool { _, err := b.Open(s.Name, s.Sealed); return err == nil }) {
			continue
		}
		now, others, err := v.keys.Boxes()
		if err != nil {
			return err
		}
		v.box, v.others = now, append(others, known...)
		return nil
	}
	return nil
}

// open opens a secret by whichever key it was sealed with.
func (v *vault) open(s store.Secret) (text string, err error) {
	v.mu.Lock()
	boxes := append([]*secret.Box{v.box}, v.others...)
	v.mu.Unlock()
	for _, b := range boxes {
		if text, err = b.Open(s.Name, s.Sealed); err == nil {
			return text, nil
		}
	}
	return "", err
}

// sealedBefore counts the secrets that the key of now does not open, and another does.
func (v *vault) sealedBefore() (n int) {
	for _, s := range v.secrets {
		if _, err := v.box.Open(s.Name, s.Sealed); err == nil {
			continue
		}
		if _, err := v.open(s); err == nil {
			n++
		}
	}
	return n
}

// settle ends a change of the own key that was cut off: all secrets are sealed with the next one, or none is.
func (v *vault) settle(from []string) error {
	if len(from) > 0 || len(v.others) == 0 {
		return nil
	}
	next := v.others[0]
	if v.sealedBefore() == 0 {
		v.others = nil
		return v.keys.Drop()
	}
	if err := v.keys.Last(); err != nil {
		return err
	}
	v.box, v.others = next, nil
	return nil
}

// rotate seals all secrets anew: with another key in the own file, or with the one that the operator's first source gives now. All of them are, or none is.
func (v *vault) rotate(ctx context.Context) (n int, err error) {
	v.rotating.Lock()
	defer v.rotating.Unlock()
	next, last, err := v.keys.Change()
	if err != nil {
		return 0, api.WrongRequest.With(halves(err))
	}
	v.mu.Lock()
	all := slices.Collect(maps.Values(v.secrets))
	v.mu.Unlock()
	for i, s := range all {
		text, err := v.open(s)
		if err != nil {
			return 0, api.WrongRequest.With("secret "+s.Name+" cannot be read, so that it cannot be sealed anew; nothing was changed", "store it again, or remove it")
		}
		all[i].Sealed = next.Seal(s.Name, text)
	}
	if err := v.db.PutSecrets(ctx, all); err != nil {
		return 0, err
	}
	v.mu.Lock()
	for _, s := range all {
		v.secrets[s.Name] = s
	}
	v.box, v.others = next, nil
	v.mu.Unlock()
	return len(all), last()
}

// secret gives a secret's text.
func (v *vault) secret(name string) (string, error) {
	v.mu.Lock()
	s, ok := v.secrets[name]
	v.mu.Unlock()
	if !ok {
		return "", fmt.Errorf("there is no secret %s", name)
	}
	text, err := v.open(s)
	if err != nil {
		return "", fmt.Errorf("secret %s cannot be read: %w", name, err)
	}
	return text, nil
}

// options are how the service reads what others wrote: without a folder, and with the files, variables and secrets that
// it may use.
func (v *vault) options(run bool) job.Options {
	o := job.Options{NeedEnv: run, Secret: v.secret, SecretFor: v.mayGo, Absolute: true, Files: v.files, EnvNames: v.env}
	if !run { // what is only looked at holds no secrets
		o.SecretFor, o.Secret = nil, func(name string) (string, error) {
			_, err := v.secret(name)
			return "", err
		}
	}
	return o
}

// mayGo says whether a secret may be sent to addresses: those that it was stored for. One that was not used since it was
// stored is for whoever uses it first.
func (v *vault) mayGo(name string, addresses []string) error {
	v.mu.Lock()
	s, ok := v.secrets[name]
	v.mu.Unlock()
	if !ok {
		return nil // said by whoever reads it
	}
	if len(s.Addresses) == 0 {
		return v.bind(s, addresses)
	}
	for _, a := range addresses {
		if !slices.Contains(s.Addresses, a) {
			return fmt.Errorf("secret %s was stored for %s and would be sent to %s; store it again for the new address: undertide secrets set %s --for %s", name, strings.Join(s.Addresses, ", "), a, name, strings.Join(addresses, ","))
		}
	}
	return nil
}

// bind notes the addresses of a secret.
func (v *vault) bind(s store.Secret, addresses []string) error {
	s.Addresses = addresses
	v.changing.Lock()
	defer v.changing.Unlock()
	if err := store.Put(context.Background(), v.db, s); err != nil {
		return fmt.Errorf("the addresses of secret %s cannot be noted: %w; try again", s.Name, err)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.secrets[s.Name] = s
	return nil
}

// keep seals a secret's text and stores it for addresses; none for whoever uses it first.
func (v *vault) keep(ctx context.Context, name, text string, addresses []string) (store.Secret, error) {
	v.rotating.Lock()
	defer v.rotating.Unlock()
	v.mu.Lock()
	box := v.box
	v.mu.Unlock()
	rec := store.Secret{Name: name, Sealed: box.Seal(name, text), UpdatedAt: time.Now().UTC(), Addresses: addresses}
	if rec.Addresses == nil {
		rec.Addresses = []string{}
	}
	v.changing.Lock()
	defer v.changing.Unlock()
	if err := store.Put(ctx, v.db, rec); err != nil {
		return rec, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.secrets[name] = rec
	return rec, nil
}

// addressesOf gives where the connections lead that name a secret.
func (v *vault) addressesOf(name string) (out []string) {
	for _, user := range v.secretUsers(name) {
		v.mu.Lock()
		rec := v.named[user]
		v.mu.Unlock()
		if spec, err := specOf(rec); err == nil {
			if c, _ := v.parse(user, spec, false); c != nil {
				out = append(out, c.Link.Words().Addresses()...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// connections gives all that jobs may name. The service's own win over those of its file.
func (v *vault) connections(run bool) map[string]*connect.Connection {
	out := maps.Clone(v.file)
	if out == nil {
		out = map[string]*connect.Connection{}
	}
	v.mu.Lock()
	named := maps.Clone(v.named)
	v.mu.Unlock()
	for name, c := range named {
		spec, err := specOf(c)
		if err != nil {
			continue
		}
		if parsed, err := v.parse(name, spec, run); err == nil {
			out[name] = parsed
		} else if shown, e := v.parse(name, spec, false); e == nil {
			shown.Unready = err // said where a document names it
			out[name] = shown
		}
	}
	return out
}

// specOf reads a record. Older ones hold the settings beside `via`, as documents do.
func specOf(c store.Connection) (api.ConnectionSpec, error) {
	var spec api.ConnectionSpec
	if err := json.Unmarshal([]byte(c.Definition), &spec); err != nil || spec.Settings != nil {
		return spec, err
	}
	if err := json.Unmarshal([]byte(c.Definition), &spec.Settings); err != nil {
		return spec, err
	}
	maps.DeleteFunc(spec.Settings, func(name string, v any) bool { return name == "via" || v == nil })
	return spec, nil
}

func (v *vault) parse(name string, spec api.ConnectionSpec, run bool) (*connect.Connection, error) {
	fields := maps.Clone(spec.Settings)
	if fields == nil {
		fields = map[string]any{}
	}
	fields["via"] = spec.Via
	text, err := json.Marshal(map[string]any{"connections": map[string]any{name: fields}})
	if err != nil {
		return nil, err
	}
	all, err := job.ParseConnections(name, string(text), v.options(run))
	return all[name], err
}

// reach gives a connection, ready to be used.
func (v *vault) reach(name string) (*connect.Connection, error) {
	v.mu.Lock()
	c, ok := v.named[name]
	v.mu.Unlock()
	if ok {
		spec, err := specOf(c)
		if err != nil {
			return nil, err
		}
		out, err := v.parse(name, spec, true)
		if err != nil {
			return out, wrongConnection(err)
		}
		return out, nil
	}
	if c, ok := v.file[name]; ok {
		return c, nil
	}
	var known []string
	for _, c := range v.list() {
		known = append(known, c.Name)
	}
	fix := ""
	if n := job.Nearest(name, known); n != "" {
		fix = "did you mean " + n + "?"
	} else if len(known) > 0 {
		fix = "there are " + strings.Join(known, ", ")
	}
	return nil, api.NoSuchConnection.With("there is no connection "+cut(name), fix)
}

// wrongConnection words the faults of a connection without the lines of a text that nobody wrote.
func wrongConnection(err error) error {
	var faults job.Faults
	if !errors.As(err, &faults) {
		return err
	}
	p := api.WrongConnection.With(faults[0].Message, faults[0].Remedy)
	for _, f := range faults {
		p.Faults = append(p.Faults, strings.TrimPrefix(f.Place, "connections.")+": "+f.Message+"; "+f.Remedy)
	}
	return p
}

// told gives a connection of the service's own as the API does.
func (v *vault) told(name string, spec api.ConnectionSpec) api.Connection {
	out := api.Connection{Name: name, From: "service", ConnectionSpec: spec}
	if c, _ := v.parse(name, spec, false); c != nil { // with what could be read of it
		out.LinkWords, out.Registry = c.Link.Words(), hasRegistry(c.Link)
	}
	return out
}

// hasRegistry says whether a connection has a schema registry.
func hasRegistry(l connect.Link) bool {
	of, ok := l.(connect.Registered)
	if !ok {
		return false
	}
	r, err := of.Registry()
	return err == nil && r != nil
}

// list gives all connections by name, as they are written.
func (v *vault) list() []api.Connection {
	out := []api.Connection{}
	v.mu.Lock()
	named := maps.Clone(v.named)
	v.mu.Unlock()
	for name, c := range named {
		if spec, err := specOf(c); err == nil {
			out = append(out, v.told(name, spec))
		}
	}
	for name, c := range v.file {
		if _, hidden := named[name]; !hidden {
			out = append(out, api.Connection{Name: name, From: "file", Registry: hasRegistry(c.Link), LinkWords: c.Link.Words(), ConnectionSpec: api.ConnectionSpec{Via: c.Kind.Name, Settings: map[string]any{}}})
		}
	}
	slices.SortFunc(out, func(a, b api.Connection) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (s *Service) getConnections(c *gin.Context) error {
	return answer(c, 200, api.List[api.Connection]{Items: s.vault.list()})
}

func (s *Service) putConnection(c *gin.Context) error {
	name := c.Param("connection")
	var spec api.ConnectionSpec
	if err := body(c, &spec); err != nil {
		return err
	}
	if !plainName(name) {
		return api.WrongConnection.With(fmt.Sprintf("%q is not a name for a connection", cut(name)), "use letters, digits, _ and -, beginning with a letter")
	}
	given := spec.Secrets
	spec.Secrets = nil
	parsed, err := s.vault.parse(name, spec, false)
	if err != nil {
		return wrongConnection(err)
	}
	if err := s.secretsOf(c.Request.Context(), spec, parsed, given); err != nil {
		return err
	}
	text, err := json.Marshal(spec)
	if err != nil {
		return err
	}
	rec := store.Connection{Name: name, Definition: string(text), UpdatedAt: time.Now().UTC()}
	s.vault.changing.Lock()
	defer s.vault.changing.Unlock()
	if err := store.Put(c.Request.Context(), s.db, rec); err != nil {
		return err
	}
	s.vault.mu.Lock()
	s.vault.named[name] = rec
	s.vault.mu.Unlock()
	return answer(c, 200, s.vault.told(name, spec))
}

// secretsOf stores the secrets that come with a connection, for its addresses, and refuses one of before that was stored
// for others.
func (s *Service) secretsOf(ctx context.Context, spec api.ConnectionSpec, of *connect.Connection, given map[string]string) error {
	addresses := of.Link.Words().Addresses()
	for name, text := range given {
		if !plainName(name) || text == "" {
			return api.WrongRequest.With("a secret that comes with the connection has no name, or no text", "give {\"secrets\": {NAME: TEXT}}, with letters, digits, _ and -")
		}
		if _, err := s.vault.keep(ctx, name, text, union(addresses, s.vault.addressesOf(name))); err != nil {
			return err
		}
	}
	for _, name := range s.vault.namedIn(spec) {
		if err := s.vault.mayGo(name, addresses); err != nil {
			return api.WrongConnection.With(halves(err))
		}
	}
	return nil
}

// namedIn gives the secrets that a connection names.
func (v *vault) namedIn(spec api.ConnectionSpec) (out []string) {
	text, err := json.Marshal(spec.Settings)
	if err != nil {
		return nil // it came as JSON
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for name := range v.secrets {
		if strings.Contains(string(text), "${secret."+name+"}") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func union(a, b []string) []string {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

func plainName(s string) bool {
	for i, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && (r >= '0' && r <= '9' || r == '_' || r == '-')) {
			return false
		}
	}
	return s != "" && len(s) <= 100
}

func (s *Service) deleteConnection(c *gin.Context) error {
	name := c.Param("connection")
	if _, err := s.vault.reach(name); err != nil {
		var p *api.Problem
		if errors.As(err, &p) && p.Code == api.NoSuchConnection.Code {
			return err
		}
	}
	s.vault.mu.Lock()
	_, own := s.vault.named[name]
	s.vault.mu.Unlock()
	if !own {
		return api.ConnectionFromFile.With("", "")
	}
	var users []string
	for _, u := range s.uses(c.Request.Context()) {
		if u.connection == name && !slices.Contains(users, u.job) {
			users = append(users, u.job)
		}
	}
	if _, other := s.vault.file[name]; len(users) > 0 && !other {
		return api.ConnectionInUse.With("connection "+name+" is used by "+strings.Join(users, ", "), "")
	}
	s.vault.changing.Lock()
	defer s.vault.changing.Unlock()
	if err := store.Remove[store.Connection](c.Request.Context(), s.db, name); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	s.vault.mu.Lock()
	delete(s.vault.named, name)
	s.vault.mu.Unlock()
	return nothing(c)
}

func nothing(c *gin.Context) error {
	c.Status(204)
	c.Writer.WriteHeaderNow()
	return nil
}

// secretUsers names the connections that name a secret.
func (v *vault) secretUsers(name string) []string {
	out := []string{}
	v.mu.Lock()
	defer v.mu.Unlock()
	for c, rec := range v.named {
		if strings.Contains(rec.Definition, "${secret."+name+"}") {
			out = append(out, c)
		}
	}
	slices.Sort(out)
	return out
}

func (s *Service) getSecrets(c *gin.Context) error {
	out := api.List[api.Secret]{Items: []api.Secret{}}
	s.vault.mu.Lock()
	all := slices.Collect(maps.Values(s.vault.secrets))
	s.vault.mu.Unlock()
	slices.SortFunc(all, func(a, b store.Secret) int { return strings.Compare(a.Name, b.Name) })
	for _, x := range all {
		out.Items = append(out.Items, s.viewSecret(c.Request.Context(), x))
	}
	return answer(c, 200, out)
}

func (s *Service) viewSecret(ctx context.Context, x store.Secret) api.Secret {
	_, err := s.vault.secret(x.Name)
	return api.Secret{Name: x.Name, UpdatedAt: x.UpdatedAt, Readable: err == nil, UsedBy: s.vault.secretUsers(x.Name), Jobs: s.secretJobs(ctx, x.Name), For: append([]string{}, x.Addresses...)}
}

// secretJobs names the jobs whose newest versions name a secret in their own connections.
func (s *Service) secretJobs(ctx context.Context, name string) []string {
	out := []string{}
	for _, u := range s.uses(ctx) {
		if slices.Contains(u.secrets, name) && !slices.Contains(out, u.job) {
			out = append(out, u.job)
		}
	}
	return out
}

func (s *Service) putSecret(c *gin.Context) error {
	name := c.Param("secret")
	var in api.SecretText
	if err := body(c, &in); err != nil {
		if p := problemOf(err); p != nil && p.Code == api.TooLarge.Code {
			return err
		}
		return api.WrongRequest.With("the request is not JSON {\"text\": …}", "") // what was sent is not repeated: it may be the secret
	}
	if !plainName(name) {
		return api.WrongRequest.With("that is not a name for a secret", "use letters, digits, _ and -, beginning with a letter")
	}
	if in.Text == "" {
		return api.WrongRequest.With("the secret is empty", "give its text")
	}
	addresses := in.For
	if len(addresses) == 0 {
		addresses = s.vault.addressesOf(name)
	}
	rec, err := s.vault.keep(c.Request.Context(), name, in.Text, addresses)
	if err != nil {
		return err
	}
	return answer(c, 200, s.viewSecret(c.Request.Context(), rec))
}

func (s *Service) deleteSecret(c *gin.Context) error {
	name := c.Param("secret")
	if users := s.vault.secretUsers(name); len(users) > 0 {
		return api.SecretInUse.With("secret "+cut(name)+" is used by connection "+strings.Join(users, ", "), "")
	}
	if users := s.secretJobs(c.Request.Context(), name); len(users) > 0 {
		return api.SecretInUse.With("secret "+cut(name)+" is named by the documents of "+strings.Join(users, ", "), "change or delete these jobs first")
	}
	s.vault.changing.Lock()
	defer s.vault.changing.Unlock()
	err := store.Remove[store.Secret](c.Request.Context(), s.db, name)
	if errors.Is(err, store.ErrNotFound) {
		return api.NoSuchSecret.With("there is no secret "+cut(name), "")
	}
	if err != nil {
		return err
	}
	s.vault.mu.Lock()
	delete(s.vault.secrets, name)
	s.vault.mu.Unlock()
	return nothing(c)
}

// rotateSecrets seals all secrets anew.
func (s *Service) rotateSecrets(c *gin.Context) error {
	n, err := s.vault.rotate(c.Request.Context())
	if err != nil {
		return err
	}
	return answer(c, 200, api.Rotated{Secrets: n})
}
