// Package service keeps jobs running: it starts and looks after runs, keeps their records in
// PostgreSQL, and serves the API and the console (docs/service.md). Runs do not depend on the
// database once they have started: their checkpoints are in folders, and records wait until it
// answers. Callers fill [Options] and call [Serve].
package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/alexedwards/scs/v2"

	"undertide/access"
	"undertide/api"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/disk"
	"undertide/figures"
	"undertide/job"
	"undertide/lease"
	"undertide/postgres"
	"undertide/run"
	"undertide/store"
)

// Options are how a service is run. Zero values mean the defaults.
type Options struct {
	// Listen is the address; default DefaultListen. Port 0 takes a free one. Beyond loopback TLSCert and TLSKey must be given, and whoever asks has to
	// sign in.
	Listen string
	// TLSCert and TLSKey are paths of PEM files; both or none. They are read again as they change.
	TLSCert, TLSKey string
	// Behind are the addresses of the proxies that have the certificate in place of the service: connections of others are not taken. None where people reach it
	// directly.
	Behind []string
	// PublicName is a name of this machine for which an authority gives the certificate by itself (RFC 8555), in place of TLSCert: the one at ACME, or Let's Encrypt's where that
	// is empty. Empty for none.
	PublicName, ACME string
	// Hosts are names by which the service may be called, beside its address.
	Hosts []string
	// SecretKeyFrom are where the key of secrets comes from, as secret.NewKeys takes them; none for a file in Data.
	SecretKeyFrom []string
	// SignOn is a provider by which people may sign in, too; nil for none.
	SignOn *SignOn
	// SignIn: whoever asks has to sign in on loopback, too, also before there are people.
	SignIn bool
	// Data keeps checkpoints, logs and the private database; must be given.
	Data string
	// Database is the address of a PostgreSQL; empty for a private one in Data.
	Database string
	// Node is the name of this service among those that share Database; empty where it has the database alone. Store is then where all of them keep checkpoints: a folder
	// that they have mounted, or s3://BUCKET/PREFIX, which the connection StoreVia reaches (docs/nodes.md).
	Node, Store, StoreVia string
	// KeepRows is how many rows of each step are kept for looking; default 10000.
	KeepRows int
	// Connections are those that every job may name.
	Connections map[string]*connect.Connection
	// Guest is a database of the private server beside the service's own, of a role of its own; empty for none. GuestAt is
	// told where it is reached, with the password, before jobs are read, and gives the connection that they may name.
	Guest   string
	GuestAt func(address string) (*connect.Connection, error)
	// Files are the folders whose files documents, connections and peeks may name; none by default. They are absolute, and
	// none holds Data or lies in it.
	Files []string
	// Env are the environment variables that documents and connections may name; none by default.
	Env []string
	// Console are the files of the console; nil for none.
	Console fs.FS
	// Version is what the service says of itself.
	Version string
	Log     *slog.Logger // nil: nowhere
	// Ready is told the service's address once it serves; may be nil.
	Ready func(address string)
	// Enter is told before Ready where somebody can become the first keeper, once: where they have to sign in and there is none yet. May be nil.
	Enter func(address string)

	graph     func(job string, g *engine.Graph) // for tests: changes the graph of a run
	patience  time.Duration                     // for tests: in place of answerWithin
	evenAfter time.Duration                     // for tests: in place of unevenFor
}

// LockFile is a file of each service's data folder: who holds its lock serves.
const LockFile = "lock"

// DefaultListen is where a service listens unless told otherwise.
const DefaultListen = "127.0.0.1:7400"

// Service is a running service.
type Service struct {
	opt     Options
	db      *store.Store
	started time.Time
	runs    context.Context // ends with the service, after the runs were stopped

	vault     *vault // connections and secrets
	tokens    *tokens
	people    *people
	sessions  *scs.SessionManager
	signOn    *signOns      // nil for none
	beyond    bool          // it is reached from beyond loopback
	secure    bool          // over TLS: its own, or that of a proxy
	machine   access.Digest // of the token that lies in tokenFile; zero for none
	tokenFile string
	files     *disk.Files

	hide    hider
	boot    string // tells this service's marks of rows from those of services before
	kept    budget // rows to look at, of all jobs
	holds   holds
	reading gate          // documents that are read at once
	streams gate          // streams of events at once
	closing chan struct{} // closed when streams are to end
	rules   *rules
	notices *notices
	nodes   *nodes   // nil where there are no others
	alarms  sync.Map // by the job's number: its *alarms
	pasts   sync.Map // by the job's number: its *past
	taking  sync.Map // by JOB/SOURCE: the connect.Taker of posts, while a run is there

	reread   sync.Mutex // held while jobs are read from the records, and while their owners are changed: what was read before does not come behind it
	mu       sync.Mutex // guards all below; taken before a runner's, never after
	jobs     map[string]*entry
	stopping bool // nothing is changed any more
}

// entry is a job as the service knows it, also while the database is away.
type entry struct {
	rec    store.Job
	newest store.Version // without its document
	last   *store.Run    // of before the service started; nil for none
	run    *runner       // the newest of this service's; nil for none
	uses   []use         // topics of version usesOf; guarded by Service.mu
	usesOf int
	epoch  int64 // the greatest used; guarded by Service.mu
	// portions are those of a spread job, in their order; guarded by Service.mu.
	portions []*entry
}

// take takes in a job's record. What never changes of it is written once, so that it is read without the lock. Called with Service.mu held.
func (e *entry) take(rec store.Job) {
	if e.rec.ID == 0 {
		e.rec = rec
		return
	}
	if rec.Generation >= e.rec.Generation { // else one has begun since it was read
		e.rec.Generation, e.rec.Division = rec.Generation, rec.Division
	}
	e.rec.LastEpoch, e.rec.Owners = rec.LastEpoch, rec.Owners
}

// guest makes the guest's database, and adds its connection to those that jobs may name.
func (o *Options) guest(ctx context.Context, server *postgres.Server) error {
	address, err := server.Guest(ctx, o.Guest)
	if err != nil {
		return err
	}
	c, err := o.GuestAt(address)
	if err != nil {
		return err
	}
	all := maps.Clone(o.Connections)
	if all == nil {
		all = map[string]*connect.Connection{}
	}
	all[c.Name] = c
	o.Connections = all
	return nil
}

// Serve runs a service until ctx is done; then it stops all runs with a checkpoint, to go on with them
// when it is started again.
func Serve(ctx context.Context, opt Options) (err error) {
	if opt.Listen == "" {
		opt.Listen = DefaultListen
	}
	if opt.KeepRows <= 0 {
		opt.KeepRows = 10_000
	}
	if opt.patience == 0 {
		opt.patience = answerWithin
	}
	if opt.evenAfter == 0 {
		opt.evenAfter = unevenFor
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	hide := newHider(opt.Env)
	opt.Log = slog.New(hidingLog{opt.Log.Handler(), hide})
	boundMemory(opt.Log)
	if err := opt.checkNode(); err != nil {
		return err
	}
	listener, beyond, err := listen(ctx, &opt)
	if err != nil {
		return err
	}
	defer listener.Close()
	secure, err := secured(&opt)
	if err != nil {
		return err
	}
	unlock, err := lockData(opt.Data)
	if err != nil {
		return err
	}
	defer unlock()
	database := opt.Database
	if database == "" {
		server, err := postgres.Start(ctx, filepath.Join(opt.Data, "postgres"), store.TrailSQL, opt.Log)
		if err != nil {
			return err
		}
		defer server.Stop()
		database = server.URL()
		if opt.Guest != "" {
			if err := opt.guest(ctx, server); err != nil {
				return fmt.Errorf("the database %s: %w", opt.Guest, err)
			}
		}
		opt.Log.Info("the private PostgreSQL is up", "at", server.Where())
	}
	openStore := store.Open
	if opt.Node != "" {
		openStore = store.OpenShared
	}
	db, err := openStore(ctx, database, filepath.Join(opt.Data, "records.waiting"), opt.Log)
	if err != nil {
		return err
	}
	defer db.Close()
	runs, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	s := &Service{opt: opt, db: db, beyond: beyond, secure: secure != nil || len(opt.Behind) > 0, started: time.Now().UTC(), runs: runs, jobs: map[string]*entry{}, hide: hide.and(opt.Data+"/", "DATA/"), boot: strings.ToLower(rand.Text()[:8]), reading: make(gate, mostReading), streams: make(gate, mostStreams), closing: make(chan struct{})}
	if s.files, err = disk.Within(opt.Files, []string{opt.Data}); err != nil {
		return fmt.Errorf("--files: %w", err)
	}
	defer s.files.Close()
	if s.vault, err = openVault(ctx, db, opt, s.files); err != nil {
		return err
	}
	if s.tokens, err = openTokens(ctx, db); err != nil {
		return err
	}
	if s.people, err = openPeople(ctx, db); err != nil {
		return err
	}
	if s.sessions, err = newSessions(ctx, db, cookieName(listener, len(opt.Behind) > 0 || opt.Node != ""), s.secure); err != nil {
		return err
	}
	if opt.SignOn != nil {
		s.signOn = &signOns{of: *opt.SignOn}
	}
	if s.rules, err = openRules(ctx, db); err != nil {
		return err
	}
	if err := s.openNotices(ctx); err != nil {
		return err
	}
	if err := errors.Join(s.readJobs(ctx), s.resumeAlarms(ctx)); err != nil {
		return err
	}
	if opt.Node != "" {
		if s.nodes, err = newNodes(s); err != nil {
			return err
		}
	} else {
		if err := s.wasNeverNode(ctx); err != nil {
			return err
		}
		s.resume(ctx)
	}
	requests, cut := context.WithCancelCause(context.WithoutCancel(ctx))
	defer cut(nil)
	server := &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: readRequestWithin, WriteTimeout: answerRequestWithin, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return requests }, ErrorLog: slog.NewLogLogger(opt.Log.Handler(), slog.LevelDebug), TLSConfig: secure}
	address := s.address(listener, secure != nil)
	remove, err := s.layToken(address)
	if err != nil {
		return err
	}
	defer remove()
	s.lookAtTrail(ctx)
	ended := make(chan error, 1)
	go func() {
		if secure != nil {
			ended <- server.ServeTLS(listener, "", "")
		} else {
			ended <- server.Serve(listener)
		}
	}()
	go s.thin(ctx)
	if s.nodes != nil {
		if err := s.nodes.join(ctx, address, pinned(secure)); err != nil {
			return err
		}
		defer s.nodes.leave(ctx)
	}
	opt.Log.Info("serving", "address", address, "data", opt.Data)
	if opt.Enter != nil && s.asksWho() && len(s.people.keepers()) == 0 {
		opt.Enter(address + enterPath + s.people.firstCode())
	}
	if opt.Ready != nil {
		opt.Ready(address)
	}
	select {
	case err = <-ended:
		err = fmt.Errorf("serve %s: %w", opt.Listen, err)
	case err = <-s.replaced():
	case <-ctx.Done():
	}
	opt.Log.Info("stopping all runs with a checkpoint")
	s.haltAll() // what is only looked at is answered meanwhile
	close(s.closing)
	late := time.AfterFunc(finishWithin, func() { cut(errStopping) })
	defer late.Stop()
	limited, end := context.WithTimeout(context.WithoutCancel(ctx), finishWithin+2*time.Second)
	defer end()
	if server.Shutdown(limited) != nil {
		_ = server.Close() // whoever still listens is cut off
	}
	return err
}

// cookieName is what the cookie of a session is called: with the port at which browsers come, which those behind a proxy do not know. On nodes it is the same everywhere, as the
// session is.
func cookieName(l net.Listener, plain bool) string {
	if _, port, err := net.SplitHostPort(l.Addr().String()); err == nil && !plain {
		return "undertide-" + port
	}
	return "undertide"
}

// address is how the service is called.
func (s *Service) address(l net.Listener, secure bool) string {
	at := l.Addr().String()
	if len(s.opt.Behind) > 0 {
		return "https://" + s.opt.Hosts[0]
	}
	if len(s.opt.Hosts) > 0 {
		if _, port, err := net.SplitHostPort(at); err == nil {
			at = net.JoinHostPort(s.opt.Hosts[0], port)
		}
	}
	if secure {
		return "https://" + at
	}
	return "http://" + at
}

// TokenFile is a file of each service's data folder while it serves: a token by which its user, and root, may do everything, and the address that it is
// for. It is another one with each start.
const TokenFile = "token"

// layToken writes the token of this machine, and gives what removes it.
func (s *Service) layToken(address string) (remove func(), err error) {
	path := filepath.Join(s.opt.Data, TokenFile)
	text := access.NewToken()
	_ = os.Remove(path) // of a service that was killed
	if err := os.WriteFile(path, []byte(text+"\n"+address+"\n"), 0o600); err != nil {
		return nil, fmt.Errorf("write the token of this machine: %w", err)
	}
	s.machine, s.tokenFile = access.DigestOf(text), path
	return func() { _ = os.Remove(path) }, nil
}

// lookAtTrail warns where what the service did could be changed by the service itself.
func (s *Service) lookAtTrail(ctx context.Context) {
	safe, err := s.db.TrailIsSafe(ctx)
	switch {
	case err != nil:
		s.opt.Log.Warn("the rights on the trail are not known", "error", err)
	case !safe:
		s.opt.Log.Warn("the trail belongs to the role of the service, which could change it; docs/operations.md says how to give it to another one")
	}
}

// Deadlines of requests (docs/service.md, "Bounds"). Streams have none, but each of their events has.
const (
	readRequestWithin   = 30 * time.Second
	answerRequestWithin = 90 * time.Second
	writeWithin         = 15 * time.Second // an event of a stream
	finishWithin        = 3 * time.Second  // requests under way when the service ends; then they answer 503
)

// boundMemory tells the runtime how much memory there is.
func boundMemory(log *slog.Logger) {
	most, err := run.BoundMemory(0)
	if err != nil {
		log.Warn("the size of the machine's memory is not known; set GOMEMLIMIT", "error", err)
		return
	}
	log.Debug("memory", "limit_mib", most>>20)
}

// lockData keeps other services from a data folder.
func lockData(dir string) (func(), error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w; choose another with --data", err)
	}
	rights := os.FileMode(0o700)
	if os.Geteuid() == 0 {
		rights = 0o711 // PostgreSQL runs as another user then, and has to pass
	}
	if err := os.Chmod(dir, rights); err != nil { // one of before, which others could read
		return nil, fmt.Errorf("the data folder is not this user's: %w; choose another with --data", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, LockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("write into the data folder: %w; choose another with --data", err)
	}
	if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		f.Close()
		return nil, fmt.Errorf("the data folder %s is in use by another service; stop that one, or choose another with --data", dir)
	}
	return func() { f.Close() }, nil
}

// readJobs takes in what the records have of jobs: at the start, and after another node has changed them. What this service's own runs say is newer than
// their records.
func (s *Service) readJobs(ctx context.Context) error {
	s.reread.Lock()
	defer s.reread.Unlock()
	s.mu.Lock()
	known := map[string]*entry{}
	for name, e := range s.jobs {
		known[name] = e
	}
	s.mu.Unlock()
	jobs, err := s.db.Jobs(ctx)
	if err != nil {
		return err
	}
	versions, err := s.db.Newest(ctx, false)
	if err != nil {
		return err
	}
	runs, err := s.db.LastRuns(ctx)
	if err != nil {
		return err
	}
	if s.nodes != nil {
		if err := s.nodes.readLeases(ctx); err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	byID := map[int64]*entry{}
	for _, j := range jobs {
		e := s.jobs[j.Name]
		if e == nil || e.rec.ID != j.ID {
			e = &entry{}
			s.jobs[j.Name] = e
		}
		e.take(j)
		e.epoch = max(e.epoch, j.LastEpoch)
		byID[j.ID] = e
	}
	for name, e := range known { // not one that was made since
		if s.jobs[name] == e && byID[e.rec.ID] != e && (e.run == nil || !e.run.goingOn()) {
			delete(s.jobs, name)
		}
	}
	for _, v := range versions {
		if e := byID[v.JobID]; e != nil && v.Number >= e.newest.Number {
			e.newest = v
		}
	}
	for _, r := range runs {
		e := byID[r.JobID]
		if e == nil {
			continue
		}
		e.last = &r
		if e.run != nil && !e.run.goingOn() && r.ID > e.run.rec.ID { // another node has run it since
			e.run = nil
		}
	}
	s.tiePortions()
	return nil
}

// replaced tells once that this service is not among the nodes any more.
func (s *Service) replaced() <-chan error {
	if s.nodes == nil {
		return nil
	}
	return s.nodes.replaced
}

// resume goes on with the runs that went on when the service ended, however it did.
func (s *Service) resume(ctx context.Context) {
	for _, e := range s.jobs {
		if e.last == nil || !e.last.Wanted {
			continue
		}
		s.goOn(ctx, e, *e.last, nil, "the service has started; the run goes on from its newest checkpoint")
	}
}

// goOn goes on with a run that went on before this service had it, on a node by its lease; false where it cannot.
func (s *Service) goOn(ctx context.Context, e *entry, rec store.Run, held *lease.Held, why string) bool {
	v, err := s.db.Version(ctx, rec.JobID, rec.Version)
	var j *job.Job
	if err == nil {
		j, err = s.parseOf(ctx, s.record(e), v.Document, rec.SetValues, true)
	}
	var becomes division
	if err == nil {
		becomes, err = divisionOf(s.record(e))
	}
	if err != nil {
		s.park(ctx, e, rec, err.Error())
		return false
	}
	if rec.Crashes = crashes(rec); rec.Crashes >= mostCrashes {
		s.park(ctx, e, rec, fmt.Sprintf("the service crashed %d times while this run was at work, before it had made a checkpoint; it is not gone on with. Look at the log of the service, then start the job again", rec.Crashes))
		return false
	}
	rec.Status, rec.Node = resuming, s.opt.Node
	rec.Restarts++
	s.db.UpdateRun(rec)
	s.db.AddEvent(store.Event{JobID: rec.JobID, RunID: &rec.ID, At: time.Now().UTC(), Kind: resuming, Text: why})
	r, _ := s.begin(j, rec, held, becomes.Rest, true)
	s.mu.Lock()
	e.run = r
	s.mu.Unlock()
	return true
}

// mostCrashes is how many boots of the service may crash with a run at work before the run is left alone: it may
// be what makes the service crash.
const mostCrashes = 3

// crashes counts the boots in a row that crashed while the run was at work: a service that ends by itself stops its
// runs first. A checkpoint begins the count anew, since the run then gets further.
func crashes(rec store.Run) int {
	switch rec.Status {
	case starting, running, resuming, stopping, draining:
		return rec.Crashes + 1
	}
	return 0
}

// park notes that a run of before is not gone on with.
func (s *Service) park(ctx context.Context, e *entry, rec store.Run, why string) {
	s.opt.Log.Error("a run cannot go on", "job", e.rec.Name, "run", rec.ID, "error", why)
	s.noteEnd(ctx, e, rec, failed, why)
}

// noteEnd notes how a run has ended that is not at work.
func (s *Service) noteEnd(ctx context.Context, e *entry, rec store.Run, status, why string) store.Run {
	now := time.Now().UTC()
	rec.Status, rec.Error, rec.Wanted, rec.EndedAt = status, why, false, &now
	s.mu.Lock()
	e.last = &rec
	s.mu.Unlock()
	s.db.UpdateRun(rec)
	s.db.AddEventOf(ctx, store.Event{JobID: rec.JobID, RunID: &rec.ID, At: now, Kind: status, Text: why})
	return rec
}

// parse reads a job's document for the service.
func (s *Service) parse(ctx context.Context, name, document string, set map[string]string, run bool) (*job.Job, error) {
	return job.Read(ctx, name+".yaml", document).Job(ctx, s.options(set, run))
}

// parseAside is parse of a document of which only the sources are opened.
func (s *Service) parseAside(ctx context.Context, document string, set map[string]string) (*job.Job, error) {
	o := s.options(set, true)
	o.SinksAside = true
	return job.Read(ctx, "document.yaml", document).Job(ctx, o)
}

// options are how the service reads documents. run: the document is about to run, and needs all that it
// names.
func (s *Service) options(set map[string]string, run bool) job.Options {
	o := s.vault.options(run)
	o.Set, o.Connections, o.Described = set, s.vault.connections(run), s.describedText
	return o
}

func (s *Service) haltAll() {
	s.mu.Lock()
	s.stopping = true
	var going []*runner
	for _, e := range s.jobs {
		if e.run != nil && e.run.goingOn() {
			going = append(going, e.run)
		}
	}
	s.mu.Unlock()
	var all sync.WaitGroup
	for _, r := range going {
		all.Go(func() {
			if err := r.halt(true); err != nil {
				s.opt.Log.Error("a run does not stop", "job", r.name, "error", err)
			}
		})
	}
	all.Wait()
}

// thinEvery is how often old records are removed: the finest figures are kept for some minutes alone.
const thinEvery = 10 * time.Minute

// thin keeps the records of the past small.
func (s *Service) thin(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(thinEvery):
		}
		var kept []store.Kept
		for n, t := range figures.Tiers {
			kept = append(kept, store.Kept{Tier: n, For: t.Keep})
		}
		if err := s.db.ThinPoints(ctx, kept); err != nil && ctx.Err() == nil {
			s.opt.Log.Warn("old figures were not thinned", "error", err)
		}
		if err := s.db.Thin(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Warn("old records were not thinned", "error", err)
		}
	}
}

// nextEpoch is the least epoch that a job's runs have not used.
func (s *Service) nextEpoch(name string) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.jobs[name]; e != nil {
		return e.epoch + 1
	}
	return 1
}

func (s *Service) noteEpoch(name string, epoch int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.jobs[name]; e != nil {
		e.epoch = max(e.epoch, epoch)
	}
}

// find gives a job's entry; the problem names the nearest where there is none.
func (s *Service) find(name string) (*entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.jobs[name]; e != nil {
		return e, nil
	}
	var known []string
	for n := range s.jobs {
		known = append(known, n)
	}
	fix := ""
	if n := job.Nearest(name, known); n != "" {
		fix = "did you mean " + n + "?"
	}
	return nil, api.NoSuchJob.With("there is no job "+name, fix)
}

// newestRun gives a job's newest run of this service, or the record of an earlier one.
func (s *Service) newestRun(e *entry) (*runner, *store.Run) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return e.run, e.last
}
