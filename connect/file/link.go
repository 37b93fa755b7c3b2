package file

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"undertide/connect"
	"undertide/connect/file/objects"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/disk"
)

// Link are the settings of a connection to a store of objects (docs/connectors.md, "Object stores").
type Link struct {
	_        struct{}            `later:"brokers,sasl,registry,address"`
	URL      string              `set:"url,required" missing:"the store is not named" fix:"add url: https://s3.example.org" hint:"https://s3.example.org" about:"Where the store is."`
	Region   string              `set:"region" hint:"us-east-1" about:"Of the buckets, where the store has regions."`
	User     string              `set:"user" about:"The access key; nobody signs in where it is left out."`
	Password settings.SecretText `set:"password" about:"The secret key: ${secret.NAME} or ${env.NAME}."`
	TLS      *secure.Settings    `set:"tls" label:"TLS" about:"TLS beyond what the address says."`

	files *disk.Files
}

// Check asks for TLS wherever others could listen.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	u, err := url.Parse(l.URL)
	switch {
	case l.URL == "":
		return
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "":
		c.Fault(fmt.Sprintf("%q is not an address of a store", l.URL), "write url: https://s3.example.org; buckets stand in paths, s3://bucket/key", "url")
	case u.Scheme == "http" && !connect.OfThisMachine(u.Hostname()):
		c.Fault("objects would go in the clear to "+u.Hostname(), "write https://", "url")
	}
	if c.Has("user") != c.Has("password") {
		c.Fault("user and password belong together", "give both or none", "user")
	}
	l.TLS.Check(c.Has, c.Fault)
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	w := connect.LinkWords{Way: "in the clear", SignIn: "nobody signs in"}
	if u, err := url.Parse(l.URL); err == nil {
		if w.Reaches = u.Host; u.Scheme == "https" {
			w.Way = "TLS"
		}
	}
	if l.User != "" {
		w.SignIn = l.User
	}
	return w
}

func (l *Link) store(name string) (*objects.Store, error) {
	c := objects.Config{Name: name, URL: l.URL, Region: l.Region, User: l.User, Password: string(l.Password)}
	if u, err := url.Parse(l.URL); err == nil && u.Scheme == "https" {
		var err error
		if c.TLS, err = l.TLS.Config(l.files, u.Hostname()); err != nil {
			return nil, err
		}
	}
	return objects.New(c)
}

// reach gives the store of a connection.
func reach(c *connect.Connection) (*objects.Store, error) {
	if c == nil {
		return nil, errNoStore
	}
	if c.Unready != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, c.Unready)
	}
	s, err := c.Link.(*Link).store(c.Name) // the kind was checked as the document was read
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, err)
	}
	return s, nil
}

// Look makes a looker.
func (l *Link) Look(name string) (connect.Looker, error) {
	s, err := l.store(name)
	if err != nil {
		return nil, err
	}
	return &Looker{s}, nil
}

// Looker asks a store. Safe for concurrent use.
type Looker struct{ store *objects.Store }

// Close implements [connect.Looker].
func (l *Looker) Close() {}

// steps of trying a store.
const (
	reached = iota
	signedIn
	bucketSeen
	mayRead
	mayWrite
)

// Try implements [connect.Looker]. The stream is a path: a bucket, and how keys begin. Whether objects may be written is tried by beginning to
// send one, and giving it up.
func (l *Looker) Try(ctx context.Context, stream string) []connect.Step {
	t := connect.NewTrial(connect.Step{Name: "reached"}, connect.Step{Name: "signed in"}, connect.Step{Name: "bucket seen", Needs: connect.ByReading | connect.ByWriting},
		connect.Step{Name: "may read", Needs: connect.ByReading}, connect.Step{Name: "may write", Needs: connect.ByWriting})
	bucket, key, err := objects.Split(stream)
	if stream == "" {
		_, err := l.store.Buckets(ctx)
		if t.Say(reached, !errors.Is(err, connect.ErrUnreachable), "%s", orText(err, "it answers")) {
			t.Say(signedIn, err == nil || !errors.Is(err, connect.ErrDenied), "%s", orText(err, "it shows its buckets"))
		}
		return t
	}
	if err != nil {
		t.Say(reached, false, "%s", err)
		return t
	}
	prefix := key
	if i := strings.IndexAny(key, `*?[\{`); i >= 0 {
		prefix = key[:i]
	}
	found, err := l.store.List(ctx, bucket, prefix, 1)
	if !t.Say(reached, !errors.Is(err, connect.ErrUnreachable), "%s", orText(err, "it answers")) {
		return t
	}
	if !t.Say(signedIn, !errors.Is(err, connect.ErrDenied), "%s", orText(err, "it lets us see bucket "+bucket)) {
		return t
	}
	if !t.Say(bucketSeen, err == nil, "%s", orText(err, "bucket "+bucket)) {
		return t
	}
	if len(found) == 0 {
		t.Say(mayRead, true, "no object begins with %s yet", prefix)
	} else {
		_, err = l.store.Stat(ctx, bucket, found[0].Key)
		t.Say(mayRead, err == nil, "%s", orText(err, "such as "+found[0].Key))
	}
	err = l.store.MayWrite(ctx, bucket, prefix[:strings.LastIndex(prefix, "/")+1]+"undertide")
	t.Say(mayWrite, err == nil, "%s", orText(err, "an upload was begun, and given up"))
	return t
}

func orText(err error, good string) string {
	if err != nil {
		return err.Error()
	}
	return good
}
