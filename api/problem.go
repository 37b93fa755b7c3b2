package api

import (
	"net/http"
	"slices"
)

// Problem is an RFC 9457 problem document. Code is permanent; Detail tells of this case.
type Problem struct {
	Type   string   `json:"type"` // urn:undertide:problem:CODE
	Code   string   `json:"code"`
	Title  string   `json:"title"`  // the problem only
	Status int      `json:"status"` // of HTTP
	Detail string   `json:"detail"`
	Fix    string   `json:"fix"`              // the remedy only
	Faults []string `json:"faults,omitempty"` // of a document: place, fault, remedy each
	// Request is the number of the request, which lines of the service's log have too.
	Request string `json:"request,omitempty"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	if p.Fix != "" {
		text += "; " + p.Fix
	}
	return text
}

// With gives the problem for one case. An empty fix keeps that of the list.
func (p Problem) With(detail, fix string) *Problem {
	p.Detail = detail
	if fix != "" {
		p.Fix = fix
	}
	return &p
}

// problems are all that were declared: docs/problems.md has them.
var problems []Problem

func problem(code string, status int, title, fix string) Problem {
	p := Problem{Type: "urn:undertide:problem:" + code, Code: code, Title: title, Status: status, Fix: fix}
	problems = append(problems, p)
	return p
}

// The problems. Codes are permanent: clients may depend on them.
var (
	NoSuchJob           = problem("no-such-job", http.StatusNotFound, "there is no such job", "see undertide jobs, or save its document first")
	NoSuchRun           = problem("no-such-run", http.StatusNotFound, "there is no such run", "see the job's history")
	NoSuchVersion       = problem("no-such-version", http.StatusNotFound, "the job has no such version", "see undertide versions")
	NoSuchStep          = problem("no-such-step", http.StatusNotFound, "the run has no such source, step or output", "see undertide show")
	NoSuchCheckpoint    = problem("no-such-checkpoint", http.StatusNotFound, "the job has no such checkpoint", "see undertide checkpoints")
	NoSuchNotice        = problem("no-such-notice", http.StatusNotFound, "there is no such notice", "see undertide notices")
	NoSuchAlarm         = problem("no-such-alarm", http.StatusNotFound, "there is no such alarm", "see undertide alarms")
	NoSuchFigure        = problem("no-such-figure", http.StatusNotFound, "the job has no such figure", "see undertide figures JOB --names")
	NoSuchPin           = problem("no-such-pin", http.StatusNotFound, "the job has no such pin", "see undertide pins")
	PinExists           = problem("pin-exists", http.StatusConflict, "the job has a pin of this name already", "choose another name")
	NoSuchToken         = problem("no-such-token", http.StatusNotFound, "there is no such token", "see undertide tokens")
	TokenExists         = problem("token-exists", http.StatusConflict, "there is a token of this name already", "revoke it, or choose another name")
	NoSuchAddress       = problem("no-such-address", http.StatusNotFound, "there is nothing at this address", "see /api/v1/openapi.json")
	WrongRequest        = problem("wrong-request", http.StatusBadRequest, "the request is wrong", "see /api/v1/openapi.json")
	TooLarge            = problem("too-large", http.StatusRequestEntityTooLarge, "the request is too large", "requests have at most 4 MiB, and documents 1 MiB")
	WrongDocument       = problem("wrong-document", http.StatusUnprocessableEntity, "the document has mistakes; nothing was saved", "put them right and save again")
	Moved               = problem("version-moved", http.StatusPreconditionFailed, "somebody has saved another version meanwhile; nothing was saved", "look at what changed, and save again")
	Busy                = problem("job-busy", http.StatusConflict, "another request changes the job", "wait for it, then try again")
	TooMany             = problem("too-many", http.StatusTooManyRequests, "too much is asked for at once", "try again in a moment")
	AlreadyRunning      = problem("already-running", http.StatusConflict, "the job is running", "stop it first, or restart it")
	NotRunning          = problem("not-running", http.StatusConflict, "the job is not running", "start it first")
	StillRunning        = problem("still-running", http.StatusConflict, "the job is running", "stop it first")
	StartFailed         = problem("start-failed", http.StatusUnprocessableEntity, "the run could not start", "put the cause right and start again")
	OldCheckpoints      = problem("old-checkpoints", http.StatusUnprocessableEntity, "another version of Under Tide made the job's checkpoints", "start it with --fresh, or with the version that made them")
	Unreachable         = problem("connection-unreachable", http.StatusServiceUnavailable, "a source or sink cannot be reached", "check that it runs, then start again")
	DatabaseUnreachable = problem("database-unreachable", http.StatusServiceUnavailable, "the database cannot be reached; running jobs go on", "check PostgreSQL, then try again")
	ForeignHost         = problem("foreign-host", http.StatusForbidden, "the request names a host that this service is not", "use http://127.0.0.1 or http://localhost with the service's port")
	ForeignOrigin       = problem("foreign-origin", http.StatusForbidden, "the request comes from a page of another site", "use the service's own console, or its API from a program")
	NoSuchConnection    = problem("no-such-connection", http.StatusNotFound, "there is no such connection", "see undertide connections, or add it")
	ConnectionFromFile  = problem("connection-from-file", http.StatusConflict, "the connection stands in the undertide.yaml that the service read", "change it there, and start the service again")
	ConnectionInUse     = problem("connection-in-use", http.StatusConflict, "jobs use the connection", "change or delete the jobs first")
	WrongConnection     = problem("wrong-connection", http.StatusUnprocessableEntity, "the connection is wrong", "put it right and store it again")
	AccessDenied        = problem("access-denied", http.StatusUnprocessableEntity, "the broker answers and does not let this service in", "check the sign-in of the connection, or ask for the right")
	NoSuchTopic         = problem("no-such-topic", http.StatusNotFound, "the broker has no such topic", "see undertide topics")
	NoSuchSchema        = problem("no-such-schema", http.StatusNotFound, "the registry has no such schema", "see undertide schemas")
	TopicExists         = problem("topic-exists", http.StatusConflict, "the topic is there already", "take it as it is, or choose another name")
	NoSuchSecret        = problem("no-such-secret", http.StatusNotFound, "there is no such secret", "see undertide secrets")
	SecretInUse         = problem("secret-in-use", http.StatusConflict, "connections or jobs use the secret", "change or remove them first")
	NoSuchDescribed     = problem("no-such-description", http.StatusNotFound, "there is no such described source", "see undertide sources")
	NoEvents            = problem("no-events", http.StatusUnprocessableEntity, "there are no events to look at", "send some first, or look at another topic")
	CannotRead          = problem("cannot-read", http.StatusUnprocessableEntity, "the events cannot be read or written", "put the cause right, and ask again")
	NotTaking           = problem("not-taking", http.StatusServiceUnavailable, "nothing takes what is posted there", "try again in some seconds")
	NotSignedIn         = problem("not-signed-in", http.StatusUnauthorized, "the service wants to know who asks", "sign in: at the console, or by undertide sign-in NAME; a program brings a token, in UNDERTIDE_TOKEN")
	NotAllowed          = problem("not-allowed", http.StatusForbidden, "this is not yours to do", "ask a keeper of the service")
	WrongPassword       = problem("wrong-password", http.StatusUnauthorized, "name and password do not belong together", "try again, or ask a keeper for a code to choose another password")
	WrongCode           = problem("wrong-code", http.StatusUnauthorized, "the code is wrong, was used, or has ended", "ask a keeper for another one")
	NoSuchPerson        = problem("no-such-person", http.StatusNotFound, "there is no such person", "see undertide people")
	PersonExists        = problem("person-exists", http.StatusConflict, "there is such a person already", "choose another name")
	LastKeeper          = problem("last-keeper", http.StatusConflict, "the service would have no keeper", "make somebody else a keeper first")
	NoSuchNode          = problem("no-such-node", http.StatusNotFound, "there is no such node", "see undertide nodes")
	NodeLives           = problem("node-lives", http.StatusConflict, "the node is at work", "stop its service first, or drain it: undertide nodes drain NAME")
	Moving              = problem("job-moving", http.StatusServiceUnavailable, "the job is moving from one node to another", "try again in some seconds")
	Stopping            = problem("service-stopping", http.StatusServiceUnavailable, "the service is stopping", "start it again")
	Internal            = problem("internal", http.StatusInternalServerError, "the service has a fault of its own", "see the service's log, and report it")
)

// Problems lists all problems.
func Problems() []Problem { return slices.Clone(problems) }
