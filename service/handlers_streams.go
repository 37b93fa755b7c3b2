package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/look"
	"undertide/store"
	"undertide/try"
)

// looker reaches what the connection in the address names.
func (s *Service) looker(c *gin.Context) (connect.Looker, *connect.Connection, error) {
	conn, err := s.vault.reach(c.Param("connection"))
	if err != nil {
		return nil, nil, err
	}
	l, err := conn.Look()
	if err != nil {
		return nil, nil, api.WrongConnection.With(err.Error(), "")
	}
	return l, conn, nil
}

// stream gives the source of the stream in the address.
func (s *Service) stream(c *gin.Context) (connect.Source, error) {
	conn, err := s.vault.reach(c.Param("connection"))
	if err != nil {
		return nil, err
	}
	return conn.At(c.Param("topic"))
}

func (s *Service) getKinds(c *gin.Context) error { return answer(c, http.StatusOK, api.KindsOf()) }

func (s *Service) testConnection(c *gin.Context) error {
	l, _, err := s.looker(c)
	if err != nil {
		return err
	}
	defer l.Close()
	return answer(c, http.StatusOK, api.TriedOf(l.Try(c.Request.Context(), c.Query("topic"))))
}

// use is a topic that the newest version of a job reads or writes.
type use struct {
	job, source, sink, connection, topic string
	described                            string   // what the source names its description by
	secrets                              []string // that the document names itself, with none of the others
}

// uses gives the topics of all jobs' newest versions. A job whose version does not read is left out.
func (s *Service) uses(ctx context.Context) []use {
	s.mu.Lock()
	byID := map[int64]*entry{}
	var unread []int64
	for _, e := range s.jobs {
		byID[e.rec.ID] = e
		if e.usesOf != e.newest.Number {
			unread = append(unread, e.rec.ID)
		}
	}
	s.mu.Unlock()
	var out []use
	if len(unread) > 0 {
		versions, err := s.db.Newest(ctx, true, unread...)
		if err != nil {
			s.opt.Log.Warn("what jobs use is not known", "error", err)
		}
		for _, v := range versions {
			if e := byID[v.JobID]; e != nil {
				out = append(out, s.usesIn(ctx, e, v)...)
				delete(byID, v.JobID)
			}
		}
	}
	s.mu.Lock()
	for _, e := range byID {
		out = append(out, e.uses...)
	}
	s.mu.Unlock()
	slices.SortFunc(out, func(a, b use) int {
		return cmp.Or(cmp.Compare(a.job, b.job), cmp.Compare(a.source, b.source), cmp.Compare(a.sink, b.sink))
	})
	return out
}

// usesIn gives the topics of a job's newest version, and notes them: each version is read once.
func (s *Service) usesIn(ctx context.Context, e *entry, v store.Version) (out []use) {
	doc := job.Read(ctx, e.rec.Name+".yaml", v.Document)
	j, err := doc.Job(ctx, s.options(nil, false))
	if err != nil { // it may name a connection that is gone
		return []use{{job: e.rec.Name, secrets: doc.Secrets()}}
	}
	described := doc.DescribedBy()
	for i := range j.Sources {
		one := use{job: e.rec.Name, source: j.Sources[i].Name, described: described[j.Sources[i].Name]}
		if of, stream, ok := connect.Through(j.Sources[i].With); ok {
			one.connection, one.topic = of.Name, stream
		} else if one.described == "" {
			continue
		}
		out = append(out, one)
	}
	for i := range j.Sinks {
		if of, stream, ok := connect.Through(j.Sinks[i].With); ok {
			out = append(out, use{job: e.rec.Name, sink: j.Sinks[i].Name, connection: of.Name, topic: stream})
		}
	}
	if named := doc.Secrets(); len(named) > 0 {
		out = append(out, use{job: e.rec.Name, secrets: named})
	}
	s.mu.Lock()
	e.uses, e.usesOf = out, v.Number
	s.mu.Unlock()
	return out
}

// getUses gives what all jobs read and write, by job.
func (s *Service) getUses(c *gin.Context) error {
	out := api.List[api.Use]{Items: []api.Use{}}
	for _, u := range s.uses(c.Request.Context()) {
		if u.topic != "" {
			out.Items = append(out.Items, api.Use{Job: u.job, Part: u.source + u.sink, Writes: u.sink != "", Connection: u.connection, Stream: u.topic})
		}
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) getTopics(c *gin.Context) error {
	l, conn, err := s.looker(c)
	if err != nil {
		return err
	}
	defer l.Close()
	lister, err := connect.Can[connect.Lister](conn, l, "list what it has")
	if err != nil {
		return err
	}
	found, err := lister.Streams(c.Request.Context())
	if err != nil {
		return err
	}
	uses := s.uses(c.Request.Context())
	out := api.List[api.Topic]{Items: []api.Topic{}}
	for _, t := range found {
		v := api.TopicOf(t)
		for _, u := range uses {
			if u.connection != c.Param("connection") || u.topic != t.Name {
				continue
			}
			if u.source != "" && !slices.Contains(v.Readers, u.job) {
				v.Readers = append(v.Readers, u.job)
			} else if u.sink != "" && !slices.Contains(v.Writers, u.job) {
				v.Writers = append(v.Writers, u.job)
			}
		}
		out.Items = append(out.Items, v)
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) postTopic(c *gin.Context) error {
	var in api.NewTopic
	if err := body(c, &in); err != nil {
		return err
	}
	if !regexp.MustCompile(`^[A-Za-z0-9._-]{1,249}$`).MatchString(in.Name) || in.Name == "." || in.Name == ".." {
		return api.WrongRequest.With(fmt.Sprintf("%q is not a name of a topic", cut(in.Name)), "use letters, digits, dots, _ and -")
	}
	if in.Partitions < 0 || in.Partitions > 10_000 {
		return api.WrongRequest.With(fmt.Sprintf("%d partitions", in.Partitions), "give 1 to 10000, or none for what the broker holds right")
	}
	l, conn, err := s.looker(c)
	if err != nil {
		return err
	}
	defer l.Close()
	maker, err := connect.Can[connect.Maker](conn, l, "make a "+conn.Kind.Noun)
	if err != nil {
		return err
	}
	err = maker.Make(c.Request.Context(), in.Name, int32(in.Partitions))
	if errors.Is(err, connect.ErrStreamExists) {
		return api.TopicExists.With(err.Error(), "")
	}
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, in)
}

// schematic reaches a connection's registry; end leaves it.
func (s *Service) schematic(c *gin.Context) (of connect.Schematic, end func(), err error) {
	l, conn, err := s.looker(c)
	if err != nil {
		return nil, nil, err
	}
	if of, err = connect.Can[connect.Schematic](conn, l, "show schemas"); err != nil {
		l.Close()
		return nil, nil, err
	}
	return of, l.Close, nil
}

func (s *Service) getSchemas(c *gin.Context) error {
	of, end, err := s.schematic(c)
	if err != nil {
		return err
	}
	defer end()
	found, err := of.Schemas(c.Request.Context(), c.Query("subject"))
	if err != nil {
		return err
	}
	out := api.List[api.Schema]{Items: []api.Schema{}}
	for _, v := range found {
		out.Items = append(out.Items, api.SchemaOf(v))
	}
	return answer(c, http.StatusOK, out)
}

// onSchema does something with a schema that is given for a subject.
func (s *Service) onSchema(c *gin.Context, do func(of connect.Schematic, in api.NewSchema) error) error {
	var in api.NewSchema
	if err := body(c, &in); err != nil {
		return err
	}
	if in.Subject == "" || len(in.Subject) > 512 {
		return api.WrongRequest.With("the subject is not named", "give subject: TOPIC-value")
	}
	of, end, err := s.schematic(c)
	if err != nil {
		return err
	}
	defer end()
	return do(of, in)
}

func (s *Service) postSchema(c *gin.Context) error {
	return s.onSchema(c, func(of connect.Schematic, in api.NewSchema) error {
		made, err := of.Register(c.Request.Context(), in.Subject, in.Text)
		if err != nil {
			return err
		}
		return answer(c, http.StatusCreated, api.SchemaOf(made))
	})
}

func (s *Service) checkSchema(c *gin.Context) error {
	return s.onSchema(c, func(of connect.Schematic, in api.NewSchema) error {
		why, err := of.Fits(c.Request.Context(), in.Subject, in.Text)
		if err != nil {
			return err
		}
		return answer(c, http.StatusOK, api.FitsOf(why))
	})
}

// sampling reads which events are asked for.
func sampling(c *gin.Context, rows int64) (connect.Sampling, error) {
	var out connect.Sampling
	limit, err1 := number(c, "limit", rows, 1, 10_000)
	at, err2 := moments(c, "at", time.Time{})
	if err := cmp.Or(err1, err2); err != nil {
		return out, err
	}
	out.Rows, out.At, out.Partition = int(limit), at, c.Query("partition")
	switch from := c.Query("from"); {
	case from == "oldest":
		out.From = connect.Oldest
	case from == "time" || from == "" && !at.IsZero():
		if out.From = connect.Since; at.IsZero() {
			return out, api.WrongRequest.With("from=time needs a time", "add at=15m, or at=2026-03-01T00:00:00Z")
		}
	case from == "" || from == "newest":
	default:
		return out, api.WrongRequest.With("from="+cut(from)+" is not a place to look at", "give newest, oldest or time")
	}
	return out, nil
}

func (s *Service) getEvents(c *gin.Context) error {
	o, err := sampling(c, 100)
	if err != nil {
		return err
	}
	source, err := s.stream(c)
	if err != nil {
		return err
	}
	q := question(c, o)
	if wantsStream(c) {
		asker, err := askTopic(c.Request.Context(), source, q)
		if err != nil {
			return err
		}
		return s.followEvents(c, source, asker)
	}
	sample, err := source.Sample(c.Request.Context(), connect.Opening{}, q.Sampled(o))
	if err != nil { // nothing is written before it is known: an answer that had begun hid a topic that is not there
		return err
	}
	if !q.Asked() {
		return answer(c, http.StatusOK, api.PeekOf(sample))
	}
	asker, err := try.AskSample(q, sample)
	if err != nil {
		return wrongQuestion(err)
	}
	return answer(c, http.StatusOK, api.Answered(asker, sample, api.PeekOf))
}

// question reads what is asked of the events that are looked at.
func question(c *gin.Context, o connect.Sampling) try.Question {
	return try.Question{Where: c.Query("where"), Only: c.QueryArray("only"), Rows: o.Rows, First: o.From != connect.Newest}
}

// askTopic makes ready to ask about the events of a topic that are to come, by the fields of its newest; nil where nothing is asked.
func askTopic(ctx context.Context, source connect.Source, q try.Question) (*try.Asker, error) {
	if !q.Asked() {
		return nil, nil
	}
	sample, err := source.Sample(ctx, connect.Opening{}, connect.Sampling{Rows: 200})
	if err != nil {
		return nil, err
	}
	asker, err := try.AskSample(q, sample)
	return asker, wrongQuestion(err)
}

// followEvents gives events as they are stored. When there are none for a while, it says so, and where
// the newest are.
func (s *Service) followEvents(c *gin.Context, source connect.Source, asker *try.Asker) error {
	follower, ok := source.(connect.Follower)
	if !ok {
		return fmt.Errorf("%w: events of this connection cannot be followed", connect.ErrCannot)
	}
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	news := make(chan struct{}, 1)
	batches := make(chan []connect.Event)
	var failure error
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		failure = follower.Follow(ctx, func(list []connect.Event) error {
			select {
			case batches <- list:
			case <-ctx.Done():
			}
			return nil
		})
	}()
	quiet := try.Quiet{Source: source, Since: time.Now()}
	out := make(chan api.RawEvent, 1000)
	notes := make(chan string, 10)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-ended:
				if failure != nil {
					select {
					case notes <- failure.Error():
					default:
					}
				}
				select {
				case news <- struct{}{}:
				default:
				}
				return
			case list := <-batches:
				for _, e := range eventsOf(list, asker) {
					select {
					case out <- e:
					default: // whoever looks is too slow: the newest count
						select {
						case <-out:
						default:
						}
						out <- e // there is room: nobody else adds any
					}
				}
				if note := quiet.Note(ctx, len(list)); note != "" {
					select {
					case notes <- note:
					default:
					}
				}
				select {
				case news <- struct{}{}:
				default:
				}
			}
		}
	}()
	err := s.sendEvents(c, news, func(send func(event, id string, v any)) bool {
		for {
			select {
			case e := <-out:
				send("event", "", e)
			case n := <-notes:
				send("note", "", n)
			default:
				select {
				case <-ended:
					return false
				default:
					return true
				}
			}
		}
	})
	cancel()
	<-ended
	return err
}

// eventsOf gives events as the API does: those that were asked for, where something was.
func eventsOf(list []connect.Event, asker *try.Asker) (out []api.RawEvent) {
	if asker != nil {
		return api.Answered(asker, connect.Sample{Events: list}, api.PeekOf).Events
	}
	for _, e := range list {
		out = append(out, api.EventOf(e))
	}
	return out
}

func (s *Service) postEvents(c *gin.Context) error {
	var in api.Sent
	if err := body(c, &in); err != nil {
		return err
	}
	l, conn, err := s.looker(c)
	if err != nil {
		return err
	}
	defer l.Close()
	opener, err := connect.Can[connect.Opener](conn, l, "take events")
	if err != nil {
		return err
	}
	w, err := opener.OpenToSend(c.Request.Context(), c.Param("topic"))
	if err != nil {
		return err
	}
	defer w.Close()
	for _, e := range in.Events {
		var key []byte
		if e.Key != nil {
			key = []byte(*e.Key)
		}
		if err := w.Send(c.Request.Context(), key, []byte(e.Text)); err != nil {
			return err
		}
	}
	if err := w.Flush(c.Request.Context()); err != nil {
		return err
	}
	return answer(c, http.StatusOK, api.SentCount{Count: len(in.Events)})
}

// getBeginning writes a document to begin with over a topic.
func (s *Service) getBeginning(c *gin.Context) error {
	o, err := sampling(c, 1000)
	if err != nil {
		return err
	}
	source, err := s.stream(c)
	if err != nil {
		return err
	}
	of, ok := source.(connect.Beginning)
	if !ok {
		return fmt.Errorf("%w: no document is written over this connection", connect.ErrCannot)
	}
	sample, err := source.Sample(c.Request.Context(), connect.Opening{}, o)
	if err != nil {
		return err
	}
	_, inf, err := look.Infer(sample)
	if err != nil {
		return api.NoEvents.With(strings.Join(sample.Notes, "; "), "")
	}
	origin := of.Document()
	if c.Query("purpose") == "source" {
		return answer(c, http.StatusOK, api.Document{Document: look.SourceOf(origin, inf)})
	}
	text, err := look.Begin(c.Query("purpose"), origin, inf)
	if err != nil {
		return api.WrongRequest.With(err.Error(), "")
	}
	return answer(c, http.StatusOK, api.Document{Document: text})
}

func (s *Service) getPurposes(c *gin.Context) error {
	return answer(c, http.StatusOK, api.Purposes{Items: look.Purposes})
}

func (s *Service) getSources(c *gin.Context) error {
	all, err := s.db.Sources(c.Request.Context())
	if err != nil {
		return err
	}
	ctx := c.Request.Context()
	uses := s.uses(ctx)
	readers := make([][]use, len(all))
	own := make([]*job.Source, len(all))
	var of []string // the jobs that read one of them
	for i, d := range all {
		if own[i], err = s.described(ctx, d.Text); err != nil {
			continue
		}
		for _, u := range uses {
			if u.source != "" && (u.described == d.Name || reads(own[i].With, u)) {
				readers[i] = append(readers[i], u)
				of = append(of, u.job)
			}
		}
	}
	jobs, err := s.newestOf(ctx, of)
	if err != nil {
		return err
	}
	out := api.List[api.Described]{Items: []api.Described{}}
	for i, d := range all {
		v := api.Described{Name: d.Name, About: d.About, Text: d.Text, UpdatedAt: d.UpdatedAt, Jobs: []api.DescribedUse{}}
		for _, u := range readers[i] {
			one := api.DescribedUse{Job: u.job, Source: u.source, Described: u.described == d.Name, Differs: []string{}}
			if v := jobs[u.job]; v.job != nil {
				if other, err := v.job.SourceNamed(u.source); err == nil {
					one.Same = job.SameSource(own[i], other)
				}
				if one.Described {
					one.Differs = append(one.Differs, v.doc.DifferFrom(u.source, d.Text)...)
				}
			}
			v.Jobs = append(v.Jobs, one)
		}
		out.Items = append(out.Items, v)
	}
	return answer(c, http.StatusOK, out)
}

// newestOf reads the newest versions of some jobs, by name; those that cannot be read are left out.
func (s *Service) newestOf(ctx context.Context, names []string) (map[string]readVersion, error) {
	out := map[string]readVersion{}
	byID := map[int64]store.Job{}
	s.mu.Lock()
	for _, name := range names {
		if e := s.jobs[name]; e != nil {
			byID[e.rec.ID] = e.rec
		}
	}
	s.mu.Unlock()
	if len(byID) == 0 {
		return out, nil
	}
	versions, err := s.db.Newest(ctx, true, slices.Collect(maps.Keys(byID))...)
	if err != nil {
		return nil, err
	}
	for _, v := range versions {
		rec := byID[v.JobID]
		doc := job.Read(ctx, rec.Name+".yaml", v.Document)
		if j, err := doc.Job(ctx, over(rec, s.options(nil, false))); err == nil {
			out[rec.Name] = readVersion{doc, j}
		}
	}
	return out, nil
}

// readVersion is a version that was read.
type readVersion struct {
	doc *job.Document
	job *job.Job
}

// describedText finds a described source for whoever reads documents.
func (s *Service) describedText(ctx context.Context, name string) (text string, known []string) {
	all, err := s.db.Sources(ctx)
	if err != nil {
		s.opt.Log.Warn("described sources cannot be read", "error", err)
	}
	for _, d := range all {
		if d.Name == name {
			text = d.Text
		}
		known = append(known, d.Name)
	}
	return text, known
}

// reads says whether a source is of the stream that a job uses.
func reads(of any, u use) bool {
	c, stream, ok := connect.Through(of)
	return ok && u.connection == c.Name && u.topic == stream
}

// described reads a described source, by a document around it.
func (s *Service) described(ctx context.Context, text string) (*job.Source, error) {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	name, _, _ := strings.Cut(strings.TrimSpace(lines[0]), ":")
	j, err := s.parse(ctx, "described", "undertide: 1\njob: described\nsources:\n"+text+"\nsinks: {nowhere: {from: "+name+", via: kafka, with: {connection: nowhere, topic: nowhere}}}\nconnections: {nowhere: {via: kafka, brokers: ['127.0.0.1:1']}}\n", nil, false)
	if err != nil {
		return nil, err
	}
	if len(j.Sources) != 1 {
		return nil, errors.New("give one source, as it stands below sources:")
	}
	return &j.Sources[0], nil
}

func (s *Service) putDescribed(c *gin.Context) error {
	name := c.Param("source")
	var in api.DescribedText
	if err := body(c, &in); err != nil {
		return err
	}
	if !plainName(name) {
		return api.WrongRequest.With(fmt.Sprintf("%q is not a name for a described source", cut(name)), "use letters, digits, _ and -, beginning with a letter")
	}
	in.Text = strings.TrimRight(in.Text, "\n") + "\n"
	if _, err := s.described(c.Request.Context(), in.Text); err != nil {
		var faults job.Faults
		if errors.As(err, &faults) {
			for i := range faults {
				faults[i].Line = max(1, faults[i].Line-3)
			}
			return wrongDocument(faults)
		}
		return api.WrongRequest.With(err.Error(), "")
	}
	d := store.Described{Name: name, About: in.About, Text: in.Text, UpdatedAt: time.Now().UTC()}
	if err := store.Put(c.Request.Context(), s.db, d); err != nil {
		return err
	}
	return answer(c, http.StatusOK, api.Described{Name: name, About: d.About, Text: d.Text, UpdatedAt: d.UpdatedAt, Jobs: []api.DescribedUse{}})
}

func (s *Service) deleteDescribed(c *gin.Context) error {
	err := store.Remove[store.Described](c.Request.Context(), s.db, c.Param("source"))
	if errors.Is(err, store.ErrNotFound) {
		return api.NoSuchDescribed.With("there is no described source "+cut(c.Param("source")), "")
	}
	if err != nil {
		return err
	}
	return nothing(c)
}
