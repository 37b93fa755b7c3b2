// Package access says who may do what (docs/security.md, "People and rights"): the roles and what each may do, passwords, the
// texts of tokens and one-time codes, and how often somebody may try. It touches neither the network nor the database.
package access

import (
	"fmt"
	"net"
	"slices"
	"strings"
)

// Role is what somebody may do. Each may do what the one before it may: reader, engineer, keeper. Poster stands aside: a token of
// this role may send events to one source, and do nothing else.
type Role string

const (
	Nobody   Role = "nobody"   // who is not known; of an address: everybody may ask it
	Poster   Role = "poster"   // posts events to one source
	Reader   Role = "reader"   // figures, maps and states of jobs
	Engineer Role = "engineer" // rows, events, documents, runs, state
	Keeper   Role = "keeper"   // connections, secrets, notices, people, settings
)

// ranks are the roles that hold one another.
var ranks = []Role{Nobody, Reader, Engineer, Keeper}

// Covers says whether who has role r may do what need is needed for. A poster covers nothing but what needs nobody.
//
//	Engineer.Covers(Reader) // true
//	Engineer.Covers(Keeper) // false
func (r Role) Covers(need Role) bool {
	if need == Nobody {
		return true
	}
	return slices.Index(ranks, r) >= slices.Index(ranks, need) && slices.Contains(ranks, need)
}

// Least gives the lesser of two roles: a token may do what both its own role and that of the person who made it allow.
func Least(a, b Role) Role {
	if a.Covers(b) {
		return b
	}
	return a
}

// ParseRole reads a role that a person may have.
func ParseRole(text string) (Role, error) {
	switch r := Role(text); r {
	case Reader, Engineer, Keeper:
		return r, nil
	}
	return Nobody, fmt.Errorf("%.40q is not a role; give reader, engineer or keeper", text)
}

// A gives a role behind its article, as sentences have it: "a reader", "an engineer".
func (r Role) A() string {
	if r == Engineer {
		return "an " + string(r)
	}
	return "a " + string(r)
}

// Who is somebody from whom a request comes. The zero value is nobody.
type Who struct {
	// Name is the person's. Of somebody on this machine, where nobody has to sign in, it is empty.
	Name string
	Role Role
	// Means is how they are known: by a session, a token, or by being on this machine.
	Means Means
	// Token is the token's name, with Means ByToken.
	Token string
	// Job bounds a token to one job; 0 for all.
	Job int64
}

// Means is how somebody is known.
type Means string

const (
	Unknown   Means = ""
	BySession Means = "session" // a person who signed in
	ByToken   Means = "token"   // a program, or the command line
	ByMachine Means = "machine" // whoever is on this machine, where nobody has to sign in; or holds its token
)

// Known says whether it is somebody at all.
func (w Who) Known() bool { return w.Means != Unknown }

// String names them for people: "ann", "ann (token laptop)", "this machine".
func (w Who) String() string {
	switch w.Means {
	case ByMachine:
		return "this machine"
	case ByToken:
		return strings.TrimSpace(w.Name + " (token " + w.Token + ")")
	case BySession:
		return w.Name
	}
	return "nobody"
}

// OnLoopback says whether a host, as addresses name it, is this machine, reached from itself.
func OnLoopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return strings.EqualFold(host, "localhost") || ip != nil && ip.IsLoopback()
}
