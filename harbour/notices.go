package harbour

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"undertide/connect/mail/inbox"
)

//go:embed notices.html
var noticesText string

var noticesPage = template.Must(template.New("notices").Parse(noticesText))

// Notices is a stand-in for whoever is told: it takes mails and posts, and shows the newest on a page. Nothing is sent on.
type Notices struct {
	Addr  string // of the page and of posts, host:port
	Mails string // of mails

	inbox  *inbox.Inbox
	server *http.Server
	ended  chan struct{}

	mu    sync.Mutex // guards posts
	posts []post
}

type post struct {
	At   time.Time
	Text string
}

// mostNotices is how many of each are shown and kept.
const mostNotices = 20

// StartNotices starts one at an address of this machine, which takes mails at the port behind; port 0 for free ones.
func StartNotices(listen string) (*Notices, error) {
	host, text, err := net.SplitHostPort(listen)
	port, e := strconv.Atoi(text)
	if err = errors.Join(err, e); err != nil {
		return nil, fmt.Errorf("%q is not an address; write it as 127.0.0.1:7401", listen)
	}
	if port > 0 {
		port++
	}
	box, err := inbox.Start(net.JoinHostPort(host, strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		box.Close()
		return nil, err
	}
	n := &Notices{Addr: l.Addr().String(), Mails: box.Addr, inbox: box, ended: make(chan struct{})}
	m := http.NewServeMux()
	m.HandleFunc("GET /{$}", n.show)
	m.HandleFunc("POST /notices", n.take)
	m.HandleFunc("POST /slow", func(w http.ResponseWriter, r *http.Request) { // to practise with
		select {
		case <-time.After(500 * time.Millisecond):
		case <-r.Context().Done():
		}
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /refuse", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "there is no crane C9", http.StatusUnprocessableEntity)
	})
	n.server = &http.Server{Handler: http.NewCrossOriginProtection().Handler(m), ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second}
	go func() {
		defer close(n.ended)
		_ = n.server.Serve(l) // it ends with Close
	}()
	return n, nil
}

// Close ends it.
func (n *Notices) Close() {
	_ = n.server.Close() // whoever posts just now has to do it again
	<-n.ended
	n.inbox.Close()
}

func (n *Notices) take(w http.ResponseWriter, r *http.Request) {
	var p post
	text, err := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	if err = errors.Join(err, json.Unmarshal(text, &p)); err != nil || p.Text == "" {
		http.Error(w, `post {"text": "…"}`, http.StatusBadRequest)
		return
	}
	p.At = time.Now()
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.posts = append(n.posts, p); len(n.posts) > mostNotices {
		n.posts = n.posts[1:]
	}
	w.WriteHeader(http.StatusNoContent)
}

func (n *Notices) show(w http.ResponseWriter, _ *http.Request) {
	n.mu.Lock()
	posts := slices.Clone(n.posts)
	n.mu.Unlock()
	slices.Reverse(posts)
	mails := n.inbox.Mails()
	slices.Reverse(mails)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	_ = noticesPage.Execute(w, map[string]any{"Posts": posts, "Mails": mails[:min(len(mails), mostNotices)]}) // who has gone does not see it
}
