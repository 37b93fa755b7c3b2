// Package operations has the addresses of the API in one table: what the service answers is told from it (package service), and so is the
// OpenAPI page (api/generate). Who adds an address adds it here.
package operations

import (
	"undertide/access"
	"undertide/api"
	"undertide/inside"
	"undertide/job"
	"undertide/try"
)

// Operation is one address of the API: what it is asked, and what it answers.
type Operation struct {
	Method, Path string // names within the path stand in braces
	// ID is its name in the OpenAPI page, and the service's for who answers it.
	ID, Summary string
	// Needs is the role that may ask it.
	Needs access.Role
	// Looks: it changes nothing, though its method is not GET.
	Looks bool
	// OfNoJob: it tells nothing of any job, so that a token of one job may ask it too.
	OfNoJob bool
	Query   []Parameter
	Body    any // nil for none
	// Document says that the body is a job document as it is.
	Document bool
	Status   int
	Answer   any // nil for an empty one
	// Stream are the server-sent events that it gives where they are accepted; nil for none.
	Stream   []Event
	Problems []api.Problem
}

// Changes says whether it changes something, so that the trail tells of it.
func (o *Operation) Changes() bool { return o.Method != "GET" && !o.Looks }

// Beside are the addresses beside the API, as the router names them, and who may ask them.
var Beside = []struct {
	Method, Path string
	Needs        access.Role
	// OnLoopback: from this machine nobody has to say who they are.
	OnLoopback bool
}{
	{Method: "GET", Path: "/healthz", Needs: access.Nobody},
	{Method: "GET", Path: "/readyz", Needs: access.Reader, OnLoopback: true},
	{Method: "GET", Path: "/metrics", Needs: access.Reader, OnLoopback: true},
	{Method: "POST", Path: "/in/:job/:source", Needs: access.Poster, OnLoopback: true},
	{Method: "OPTIONS", Path: "/in/:job/:source", Needs: access.Nobody},
}

// Event is a kind of server-sent event, and what its data are.
type Event struct {
	Name, About string
	Data        any
}

// Parameter is one of a Query: string, integer or boolean.
type Parameter struct{ Name, Kind, About string }

var (
	after        = Parameter{"after", "string", "The `next` of the part before: the list goes on behind it."}
	limit        = Parameter{"limit", "integer", "At most so many."}
	source       = Parameter{"source", "string", "A source of the document; may be left out where there is one."}
	rows         = Parameter{"rows", "integer", "How many events are sampled at most."}
	place        = Parameter{"from", "string", "Which are sampled: newest (default) or oldest."}
	where        = Parameter{"from", "string", "Which are wanted: newest (default), oldest or time."}
	ofCheckpoint = Parameter{"checkpoint", "string", "The epoch of a checkpoint, pin:NAME, or last; the newest by default."}
	ofTable      = Parameter{"table", "string", "One of the step's tables (`waiting`, `shown`); its own by default."}
	ofKey        = Parameter{"key", "string", "Only rows of this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}
	asks         = Parameter{"where", "string", "Only events for which this CEL condition over their fields holds; 20,000 are looked through."}
	only         = Parameter{"only", "string", "A field that is given; all by default. May be repeated."}
	since        = Parameter{"since", "string", "A time (RFC 3339), or a duration before now such as 15m."}
)

var stateProblems = []api.Problem{api.NoSuchJob, api.NoSuchStep, api.NoSuchCheckpoint, api.NoSuchPin, api.NotRunning, api.WrongRequest}

// AnyJSON is an answer that is described elsewhere.
type AnyJSON struct{}

// All are the addresses of the API, below /api/v1: what the service answers, and what the OpenAPI page describes.
var All = []Operation{
	{Method: "GET", Path: "/openapi.json", ID: "openapi", Needs: access.Nobody, OfNoJob: true, Summary: "This page.", Status: 200, Answer: AnyJSON{}},
	{Method: "GET", Path: "/schema/job.json", ID: "schema", Needs: access.Nobody, OfNoJob: true, Summary: "The JSON Schema of job documents.", Status: 200, Answer: AnyJSON{}},
	{Method: "GET", Path: "/status", ID: "status", Needs: access.Reader, OfNoJob: true, Summary: "How the service is, and what it needs.", Status: 200, Answer: api.Status{}},
	{Method: "GET", Path: "/jobs", ID: "jobs", Needs: access.Reader, Summary: "All jobs by name.", Query: []Parameter{after, limit, {"run", "integer", "Of a stream: also give this run's figures."}}, Status: 200, Answer: api.Page[api.Job]{}, Stream: []Event{{"jobs", "every second: all jobs, and how the service is", api.Overview{}}, {"metrics", "the figures of the run that was asked for", api.Figures{}}}},
	{Method: "POST", Path: "/jobs", ID: "save", Needs: access.Engineer, Summary: "Save a document as its job's next version. 200: it equals the newest.", Document: true, Status: 201, Answer: api.Saved{}, Problems: []api.Problem{api.WrongDocument, api.TooLarge, api.Moved, api.Busy}},
	{Method: "GET", Path: "/jobs/{job}", ID: "job", Needs: access.Reader, Summary: "One job.", Status: 200, Answer: api.Job{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "DELETE", Path: "/jobs/{job}", ID: "delete", Needs: access.Engineer, Summary: "Delete a job that is not running, with its records, checkpoints and log.", Status: 204, Problems: []api.Problem{api.NoSuchJob, api.StillRunning, api.Busy}},
	{Method: "POST", Path: "/jobs/{job}/drain", ID: "drain", Needs: access.Engineer, Summary: "End the sources of the job's run where they stand, publish everything, and finish.", Status: 200, Answer: api.Run{}, Problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.Busy}},
	{Method: "POST", Path: "/jobs/{job}/stop", ID: "stop", Needs: access.Engineer, Summary: "Stop the job's run with a checkpoint.", Status: 200, Answer: api.Run{}, Problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.Busy}},
	{Method: "POST", Path: "/jobs/{job}/restart", ID: "restart", Needs: access.Engineer, Summary: "Stop the job's run and start it again.", Body: api.Start{}, Status: 201, Answer: api.Started{}, Problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.StartFailed, api.NoSuchCheckpoint, api.NoSuchPin, api.OldCheckpoints, api.Busy}},
	{Method: "POST", Path: "/jobs/{job}/respread", ID: "respread", Needs: access.Engineer, Summary: "Let a running job that is spread go on with another number of portions: by a new version of its document, which says so.", Body: api.Respread{}, Status: 201, Answer: api.Started{}, Problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.StartFailed, api.WrongRequest, api.Busy}},
	{Method: "GET", Path: "/jobs/{job}/versions", ID: "versions", Needs: access.Reader, Summary: "The job's versions, newest first, without their documents.", Query: []Parameter{after, limit}, Status: 200, Answer: api.Page[api.Version]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/versions/{version}", ID: "version", Needs: access.Reader, Summary: "A version with its document; `newest` names the newest.", Status: 200, Answer: api.Version{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{Method: "GET", Path: "/jobs/{job}/diff", ID: "diff", Needs: access.Reader, Summary: "What differs between two versions.", Query: []Parameter{{"a", "string", "A version."}, {"b", "string", "The other."}}, Status: 200, Answer: api.Diff{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{Method: "GET", Path: "/jobs/{job}/map", ID: "map", Needs: access.Reader, Summary: "What the job does, in words: of the newest run, or of a version.", Query: []Parameter{{"version", "string", "A version."}}, Status: 200, Answer: job.Plan{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{Method: "GET", Path: "/jobs/{job}/runs", ID: "runs", Needs: access.Reader, Summary: "The job's runs, newest first.", Query: []Parameter{after, limit}, Status: 200, Answer: api.Page[api.Run]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "POST", Path: "/jobs/{job}/runs", ID: "start", Needs: access.Engineer, Summary: "Start a run, and wait until it runs or could not start.", Body: api.Start{}, Status: 201, Answer: api.Started{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion, api.AlreadyRunning, api.StartFailed, api.NoSuchCheckpoint, api.NoSuchPin, api.OldCheckpoints, api.WrongDocument, api.Unreachable, api.Busy}},
	{Method: "GET", Path: "/jobs/{job}/history", ID: "history", Needs: access.Reader, Summary: "What happened to the job, newest first.", Query: []Parameter{after, limit}, Status: 200, Answer: api.Page[api.Event]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/logs", ID: "logs", Needs: access.Engineer, Summary: "The job's log, newest first.", Query: []Parameter{{"grep", "string", "Only lines that hold this text, in any case."}, {"level", "string", "From this level on: debug, info, warn, error."}, since, limit}, Status: 200, Answer: api.Page[api.LogLine]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/lateness", ID: "lateness", Needs: access.Engineer, Summary: "How late the events of a job's source come, from a sample, and what margins would lose and cost.", Query: []Parameter{source, rows, place}, Status: 200, Answer: api.LatenessOf{}, Problems: []api.Problem{api.NoSuchJob, api.Unreachable, api.AccessDenied, api.NoSuchTopic}},
	{Method: "GET", Path: "/jobs/{job}/state/{step}", ID: "state", Needs: access.Engineer, Summary: "Rows of what a step keeps, as of a checkpoint: as JSON the first hundred, in other forms all of them.", Query: []Parameter{ofCheckpoint, ofTable, {"raw", "boolean", "Accumulators as they are kept, in place of results."}, ofKey, limit, {"format", "string", "json (the default), ndjson, csv, parquet or table."}}, Status: 200, Answer: inside.Shown{}, Problems: stateProblems},
	{Method: "GET", Path: "/jobs/{job}/state/{step}/spans", ID: "spans", Needs: access.Engineer, Summary: "The windows and other spans of what a step keeps, with how many keys each has and when it ends.", Query: []Parameter{ofCheckpoint}, Status: 200, Answer: inside.SpansShown{}, Problems: stateProblems},
	{Method: "GET", Path: "/jobs/{job}/state/{step}/skew", ID: "skew", Needs: access.Engineer, Summary: "How what a step keeps lies over shares and lanes, and its heaviest keys.", Query: []Parameter{ofCheckpoint}, Status: 200, Answer: inside.SkewShown{}, Problems: stateProblems},
	{Method: "GET", Path: "/jobs/{job}/state/{step}/compare", ID: "compare", Needs: access.Engineer, Summary: "What differs of a step between two checkpoints.", Query: []Parameter{{"from", "string", "The older checkpoint: its epoch, pin:NAME, or last."}, ofCheckpoint, ofTable, ofKey, limit}, Status: 200, Answer: inside.ComparedShown{}, Problems: stateProblems},
	{Method: "GET", Path: "/jobs/{job}/checkpoints", ID: "jobCheckpoints", Needs: access.Reader, Summary: "The checkpoints of all runs of the job, newest first, those that are not complete among them.", Query: []Parameter{after, limit}, Status: 200, Answer: api.Page[api.Checkpoint]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/pins", ID: "pins", Needs: access.Reader, Summary: "The job's pins by name, with what each costs.", Status: 200, Answer: api.List[api.Pin]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "POST", Path: "/jobs/{job}/pins", ID: "pin", Needs: access.Engineer, Summary: "Keep a checkpoint under a name: it is not pruned, and a run can go back to it.", Body: api.NewPin{}, Status: 201, Answer: api.Pin{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchCheckpoint, api.PinExists, api.NotRunning, api.WrongRequest, api.Busy}},
	{Method: "DELETE", Path: "/jobs/{job}/pins/{pin}", ID: "unpin", Needs: access.Engineer, Summary: "Forget a pin, and what only it keeps.", Status: 204, Problems: []api.Problem{api.NoSuchJob, api.NoSuchPin, api.Busy}},
	{Method: "GET", Path: "/jobs/{job}/steps/{step}/rows", ID: "jobRows", Needs: access.Engineer, Summary: "The newest rows of a source, step or output that are kept for looking, over all runs, whether the job runs or not; newest first as JSON, oldest first as a file by `format` or Accept (application/x-ndjson, text/csv, application/vnd.apache.parquet).", Query: []Parameter{{"key", "string", "Only rows with this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}, {"where", "string", "Only rows for which this CEL condition over their fields holds."}, since, {"until", "string", "Only rows published before this time (RFC 3339), or a duration before now."}, limit, {"format", "string", "json (the default), ndjson, csv or parquet."}}, Status: 200, Answer: api.Rows{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchStep, api.WrongRequest}},
	{Method: "GET", Path: "/alarms", ID: "alarms", Needs: access.Reader, Summary: "The alarms of all jobs, newest first.", Query: []Parameter{{"on", "boolean", "Only those that are on."}, {"job", "string", "Only of this job."}, after, limit}, Status: 200, Answer: api.Page[api.Alarm]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "POST", Path: "/alarms/{alarm}/seen", ID: "see", Needs: access.Engineer, Summary: "Note that a person has seen an alarm.", Body: api.Seen{}, Status: 200, Answer: api.Alarm{}, Problems: []api.Problem{api.NoSuchAlarm}},
	{Method: "GET", Path: "/notices", ID: "notices", Needs: access.Reader, Summary: "The ways by which people are told of alarms, and how they fare.", Status: 200, Answer: api.List[api.Notice]{}},
	{Method: "PUT", Path: "/notices/{notice}", ID: "putNotice", Needs: access.Keeper, Summary: "Make or change a notice.", Body: api.NewNotice{}, Status: 200, Answer: api.Notice{}, Problems: []api.Problem{api.WrongRequest}},
	{Method: "DELETE", Path: "/notices/{notice}", ID: "removeNotice", Needs: access.Keeper, Summary: "Remove a notice, and what it was to tell.", Status: 204, Problems: []api.Problem{api.NoSuchNotice}},
	{Method: "POST", Path: "/notices/{notice}/try", ID: "tryNotice", Needs: access.Keeper, Summary: "Tell something by a notice now.", Status: 200, Answer: api.NoticeTried{}, Problems: []api.Problem{api.NoSuchNotice, api.Unreachable}},
	{Method: "GET", Path: "/rules", ID: "rules", Needs: access.Reader, Summary: "The alarms that all jobs have: the usual ones as they were changed, and others.", Status: 200, Answer: api.List[api.Rule]{}},
	{Method: "PUT", Path: "/rules/{rule}", ID: "putRule", Needs: access.Keeper, Summary: "Change an alarm of all jobs, switch it off, or make one.", Body: api.NewRule{}, Status: 200, Answer: api.List[api.Rule]{}, Problems: []api.Problem{api.WrongRequest}},
	{Method: "DELETE", Path: "/rules/{rule}", ID: "removeRule", Needs: access.Keeper, Summary: "Make a usual alarm as usual again, or take another one away.", Status: 204, Problems: []api.Problem{api.NoSuchAlarm}},
	{Method: "GET", Path: "/jobs/{job}/alarms", ID: "jobAlarms", Needs: access.Reader, Summary: "The alarms of a job, newest first.", Query: []Parameter{{"on", "boolean", "Only those that are on."}, after, limit}, Status: 200, Answer: api.Page[api.Alarm]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/figures", ID: "past", Needs: access.Reader, Summary: "A job's figures over time, over all of its runs, at the fineness that the time asked for allows; with what happened meanwhile.", Query: []Parameter{since, {"until", "string", "A time (RFC 3339), or a duration before now; now by default."}, {"name", "string", "A figure, such as lag_seconds; `*` stands for anything between two dots, as in steps.*.busy_ratio. May be repeated; those of the job as a whole by default."}, {"limit", "integer", "At most so many points: 1,000 by default."}}, Status: 200, Answer: api.PastFigures{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchFigure, api.WrongRequest}},
	{Method: "GET", Path: "/jobs/{job}/figures/names", ID: "figureNames", Needs: access.Reader, Summary: "The figures of the job that are kept over time.", Status: 200, Answer: api.List[api.FigureName]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "GET", Path: "/jobs/{job}/tokens", ID: "tokens", Needs: access.Engineer, Summary: "The tokens by which others may post to the job's sources; never their texts.", Status: 200, Answer: api.List[api.Token]{}, Problems: []api.Problem{api.NoSuchJob}},
	{Method: "POST", Path: "/jobs/{job}/tokens", ID: "makeToken", Needs: access.Engineer, Summary: "Make a token that may post to one source, and to nothing else. Its text is in this answer alone.", Body: api.NewToken{}, Status: 201, Answer: api.MadeToken{}, Problems: []api.Problem{api.NoSuchJob, api.TokenExists, api.WrongRequest, api.WrongDocument, api.Busy}},
	{Method: "DELETE", Path: "/jobs/{job}/tokens/{token}", ID: "revokeToken", Needs: access.Engineer, Summary: "Revoke a token: it counts no more.", Status: 204, Problems: []api.Problem{api.NoSuchJob, api.NoSuchToken, api.Busy}},
	{Method: "GET", Path: "/jobs/{job}/kept", ID: "kept", Needs: access.Engineer, Summary: "What a start of a version would keep of what the last run left.", Query: []Parameter{{"version", "string", "A version; the newest by default."}, {"resume", "string", "What the start would go on from: last (the default), pin:NAME or checkpoint:N."}}, Status: 200, Answer: api.Kept{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion, api.NoSuchCheckpoint, api.NoSuchPin}},
	{Method: "GET", Path: "/connections", ID: "connections", Needs: access.Engineer, Summary: "All connections by name. Secrets are named, never shown.", Status: 200, Answer: api.List[api.Connection]{}},
	{Method: "PUT", Path: "/connections/{connection}", ID: "putConnection", Needs: access.Keeper, Summary: "Add a connection, or change it.", Body: api.ConnectionSpec{}, Status: 200, Answer: api.Connection{}, Problems: []api.Problem{api.WrongConnection}},
	{Method: "DELETE", Path: "/connections/{connection}", ID: "removeConnection", Needs: access.Keeper, Summary: "Remove a connection that no job uses.", Status: 204, Problems: []api.Problem{api.NoSuchConnection, api.ConnectionInUse, api.ConnectionFromFile}},
	{Method: "POST", Path: "/connections/{connection}/test", ID: "testConnection", Needs: access.Engineer, Looks: true, Summary: "Test a connection step by step. No event is read for good, and none written.", Query: []Parameter{{"topic", "string", "A topic whose rights are asked for."}}, Status: 200, Answer: api.Tried{}, Problems: []api.Problem{api.NoSuchConnection, api.WrongConnection}},
	{Method: "GET", Path: "/connections/{connection}/topics", ID: "topics", Needs: access.Engineer, Summary: "The topics of a broker by name.", Status: 200, Answer: api.List[api.Topic]{}, Problems: []api.Problem{api.NoSuchConnection, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/connections/{connection}/topics", ID: "makeTopic", Needs: access.Engineer, Summary: "Make a topic.", Body: api.NewTopic{}, Status: 201, Answer: api.NewTopic{}, Problems: []api.Problem{api.NoSuchConnection, api.TopicExists, api.Unreachable, api.AccessDenied}},
	{Method: "GET", Path: "/connections/{connection}/schemas", ID: "schemas", Needs: access.Engineer, Summary: "The newest schema of each subject of a connection's registry, or all versions of one.", Query: []Parameter{{"subject", "string", "All versions of this subject, the oldest first."}}, Status: 200, Answer: api.List[api.Schema]{}, Problems: []api.Problem{api.NoSuchConnection, api.NoSuchSchema, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/connections/{connection}/schemas", ID: "registerSchema", Needs: access.Engineer, Summary: "Add a version to a subject, unless it has that schema.", Body: api.NewSchema{}, Status: 201, Answer: api.Schema{}, Problems: []api.Problem{api.NoSuchConnection, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/connections/{connection}/schemas/check", ID: "checkSchema", Needs: access.Engineer, Looks: true, Summary: "Whether a schema fits the newest version of a subject. Nothing is registered.", Body: api.NewSchema{}, Status: 200, Answer: api.Fits{}, Problems: []api.Problem{api.NoSuchConnection, api.NoSuchSchema, api.Unreachable, api.AccessDenied}},
	{Method: "GET", Path: "/connections/{connection}/topics/{topic}/events", ID: "events", Needs: access.Engineer, Summary: "Some events of a topic as they are stored, a profile of them, and how they could be declared.", Query: []Parameter{where, asks, only, {"at", "string", "With from=time: a time (RFC 3339), or a duration before now."}, limit, {"partition", "integer", "Of this partition alone."}}, Status: 200, Answer: api.Peek{}, Stream: []Event{{"event", "as it is stored", api.RawEvent{}}, {"note", "when nothing new comes: what people should know", ""}}, Problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/connections/{connection}/topics/{topic}/events", ID: "send", Needs: access.Engineer, Summary: "Send events to a topic that is there.", Body: api.Sent{}, Status: 200, Answer: api.SentCount{}, Problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{Method: "GET", Path: "/connections/{connection}/topics/{topic}/document", ID: "begin", Needs: access.Engineer, Summary: "A document to begin with over a topic.", Query: []Parameter{{"purpose", "string", "What it is for; see purposes. `source` gives the source alone, as it stands below `sources:`."}, where, limit}, Status: 200, Answer: api.Document{}, Problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.NoEvents, api.Unreachable, api.AccessDenied}},
	{Method: "GET", Path: "/uses", ID: "uses", Needs: access.Engineer, Summary: "The streams of connections that jobs read and write, by job.", Status: 200, Answer: api.List[api.Use]{}},
	{Method: "GET", Path: "/kinds", ID: "kinds", Needs: access.Reader, OfNoJob: true, Summary: "The kinds of connectors and the formats that there are, with their settings.", Status: 200, Answer: api.Kinds{}},
	{Method: "GET", Path: "/secrets", ID: "secrets", Needs: access.Keeper, Summary: "The names of all secrets.", Status: 200, Answer: api.List[api.Secret]{}},
	{Method: "PUT", Path: "/secrets/{secret}", ID: "putSecret", Needs: access.Keeper, Summary: "Store a secret, sealed. Its text is never given out.", Body: api.SecretText{}, Status: 200, Answer: api.Secret{}},
	{Method: "DELETE", Path: "/secrets/{secret}", ID: "removeSecret", Needs: access.Keeper, Summary: "Remove a secret that no connection names.", Status: 204, Problems: []api.Problem{api.NoSuchSecret, api.SecretInUse}},
	{Method: "POST", Path: "/secrets/rotate", ID: "rotateSecrets", Needs: access.Keeper, Summary: "Seal all secrets anew: with another key, or with the one that the operator's source gives now. All of them are, or none is.", Status: 200, Answer: api.Rotated{}, Problems: []api.Problem{api.WrongRequest}},
	{Method: "GET", Path: "/purposes", ID: "purposes", Needs: access.Reader, OfNoJob: true, Summary: "The ready-made documents, by what they are good for.", Status: 200, Answer: api.Purposes{}},
	{Method: "GET", Path: "/sources", ID: "sources", Needs: access.Engineer, Summary: "Described sources that several jobs may take over, and which do.", Status: 200, Answer: api.List[api.Described]{}},
	{Method: "PUT", Path: "/sources/{source}", ID: "putDescribed", Needs: access.Engineer, Summary: "Describe a source: its text as it stands below `sources:`.", Body: api.DescribedText{}, Status: 200, Answer: api.Described{}, Problems: []api.Problem{api.WrongDocument}},
	{Method: "DELETE", Path: "/sources/{source}", ID: "removeDescribed", Needs: access.Engineer, Summary: "Remove a described source; jobs keep their own text.", Status: 204, Problems: []api.Problem{api.NoSuchDescribed}},
	{Method: "POST", Path: "/documents/check", ID: "check", Needs: access.Engineer, Looks: true, Summary: "Read a Document: its faults and warnings with their places, and what it would do.", Body: api.Document{}, Status: 200, Answer: api.Checked{}},
	{Method: "POST", Path: "/documents/rehearse", ID: "rehearse", Needs: access.Engineer, Looks: true, Summary: "Run a document on a sample of its sources. Nothing is delivered.", Body: api.Rehearse{}, Status: 200, Answer: try.Rehearsal{}, Problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/documents/examples", ID: "examples", Needs: access.Engineer, Looks: true, Summary: "Run a document's examples.", Body: api.Document{}, Status: 200, Answer: api.Examples{}, Problems: []api.Problem{api.WrongDocument}},
	{Method: "POST", Path: "/documents/play", ID: "play", Needs: access.Engineer, Looks: true, Summary: "Give a document events one by one, and tell what comes of each.", Body: api.Play{}, Status: 200, Answer: try.Played{}, Problems: []api.Problem{api.WrongDocument}},
	{Method: "POST", Path: "/documents/lateness", ID: "documentLateness", Needs: access.Engineer, Looks: true, Summary: "How late the events of a document's source come.", Body: api.Document{}, Query: []Parameter{source, rows, place}, Status: 200, Answer: api.LatenessOf{}, Problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{Method: "POST", Path: "/documents/peek", ID: "peek", Needs: access.Engineer, Looks: true, Summary: "Some events of a document's source, and what it makes of them.", Body: api.Document{}, Query: []Parameter{source, rows, place, asks, only}, Status: 200, Answer: api.Peek{}, Problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{Method: "GET", Path: "/runs/{run}", ID: "run", Needs: access.Reader, Summary: "One run.", Status: 200, Answer: api.Run{}, Problems: []api.Problem{api.NoSuchRun}},
	{Method: "GET", Path: "/runs/{run}/figures", ID: "figures", Needs: access.Reader, Summary: "A run's figures, with rates over the last seconds.", Status: 200, Answer: api.Figures{}, Stream: []Event{{"run", "every second", api.Run{}}, {"metrics", "its figures, every second", api.Figures{}}, {"end", "when it has ended", api.Run{}}}, Problems: []api.Problem{api.NoSuchRun, api.NotRunning}},
	{Method: "GET", Path: "/runs/{run}/checkpoints", ID: "checkpoints", Needs: access.Reader, Summary: "The run's checkpoints, newest first.", Query: []Parameter{after, limit}, Status: 200, Answer: api.Page[api.Checkpoint]{}, Problems: []api.Problem{api.NoSuchRun}},
	{Method: "GET", Path: "/runs/{run}/steps/{step}/rows", ID: "rows", Needs: access.Engineer, Summary: "The newest rows of a source, step or output (`late of STEP`, `rejects of STEP`) that are kept for looking, newest first.", Query: []Parameter{{"key", "string", "Only rows with this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}, since, limit, {"after", "string", "Only rows that were published after this mark: the `mark` of an answer, or the id of an event."}}, Status: 200, Answer: api.Rows{}, Stream: []Event{{"row", "as it is published", api.Row{}}, {"gap", "where rows between were not kept", api.Gap{}}, {"end", "when the run has ended", api.Run{}}}, Problems: []api.Problem{api.NoSuchRun, api.NoSuchStep, api.NotRunning}},
	{Method: "GET", Path: "/me", ID: "me", Needs: access.Nobody, OfNoJob: true, Summary: "Who asks, and what they may do.", Status: 200, Answer: api.Me{}},
	{Method: "POST", Path: "/me/password", ID: "changePassword", Needs: access.Reader, Summary: "Choose another password; all other sessions of the person end.", Body: api.NewPassword{}, Status: 200, Answer: api.Me{}, Problems: []api.Problem{api.WrongPassword, api.WrongRequest, api.TooMany}},
	{Method: "POST", Path: "/sign-in", ID: "signIn", Needs: access.Nobody, Summary: "Sign in with a name and a password: a session begins, whose cookie the answer has.", Body: api.SignIn{}, Status: 200, Answer: api.Me{}, Problems: []api.Problem{api.WrongPassword, api.TooMany}},
	{Method: "POST", Path: "/sign-out", ID: "signOut", Needs: access.Nobody, Summary: "End the session.", Status: 204},
	{Method: "GET", Path: "/single-sign-on", ID: "signOn", Needs: access.Nobody, Summary: "Sends a browser to the provider by which people sign in.", Status: 302, Problems: []api.Problem{api.NoSuchAddress, api.TooMany}},
	{Method: "GET", Path: "/single-sign-on/back", ID: "signOnBack", Needs: access.Nobody, Summary: "Where the provider sends the browser back: a session begins.", Query: []Parameter{{"state", "string", "What was sent along."}, {"code", "string", "What is exchanged for who it is."}, {"error", "string", "Why not."}}, Status: 302, Problems: []api.Problem{api.NoSuchAddress}},
	{Method: "POST", Path: "/enter/look", ID: "lookAtCode", Needs: access.Nobody, Looks: true, Summary: "Whom a code lets in. It can still be used afterwards.", Body: api.Code{}, Status: 200, Answer: api.CodeFor{}, Problems: []api.Problem{api.WrongCode, api.TooMany}},
	{Method: "POST", Path: "/enter", ID: "enter", Needs: access.Nobody, Summary: "Use a code, once: choose a password, and sign in.", Body: api.Enter{}, Status: 200, Answer: api.Me{}, Problems: []api.Problem{api.WrongCode, api.WrongRequest, api.TooMany}},
	{Method: "GET", Path: "/people", ID: "people", Needs: access.Keeper, Summary: "All people by name.", Status: 200, Answer: api.List[api.Person]{}},
	{Method: "POST", Path: "/people", ID: "addPerson", Needs: access.Keeper, Summary: "Add somebody. The answer has a code that lets them in, once.", Body: api.NewPerson{}, Status: 201, Answer: api.MadePerson{}, Problems: []api.Problem{api.PersonExists, api.WrongRequest}},
	{Method: "PUT", Path: "/people/{person}", ID: "changePerson", Needs: access.Keeper, Summary: "Change somebody's role or mail address.", Body: api.ChangedPerson{}, Status: 200, Answer: api.Person{}, Problems: []api.Problem{api.NoSuchPerson, api.PersonExists, api.LastKeeper, api.WrongRequest}},
	{Method: "DELETE", Path: "/people/{person}", ID: "removePerson", Needs: access.Keeper, Summary: "Remove somebody: their sessions and tokens end.", Status: 204, Problems: []api.Problem{api.NoSuchPerson, api.LastKeeper}},
	{Method: "POST", Path: "/people/{person}/code", ID: "renewPerson", Needs: access.Keeper, Summary: "Give somebody another code, to choose another password; codes of before, and their sessions, end.", Status: 201, Answer: api.MadePerson{}, Problems: []api.Problem{api.NoSuchPerson}},
	{Method: "GET", Path: "/tokens", ID: "personTokens", Needs: access.Reader, Summary: "One's own tokens, never their texts; of a keeper those of all people.", Status: 200, Answer: api.List[api.PersonToken]{}},
	{Method: "POST", Path: "/tokens", ID: "makePersonToken", Needs: access.Reader, Summary: "Make a token by which a program may do what one may oneself, or less. Its text is in this answer alone.", Body: api.NewPersonToken{}, Status: 201, Answer: api.MadePersonToken{}, Problems: []api.Problem{api.TokenExists, api.WrongRequest, api.NotAllowed, api.NoSuchPerson, api.NoSuchJob}},
	{Method: "DELETE", Path: "/tokens/{token}", ID: "revokePersonToken", Needs: access.Reader, Summary: "Revoke a token: it counts no more.", Query: []Parameter{{"person", "string", "Whose it is; one's own by default."}}, Status: 204, Problems: []api.Problem{api.NoSuchToken, api.NotAllowed}},
	{Method: "GET", Path: "/trail", ID: "trail", Needs: access.Keeper, Summary: "Who did what, newest first: changes, and what was not let.", Query: []Parameter{{"who", "string", "Only of this person."}, {"on", "string", "Only on this, such as a job."}, since, after, limit}, Status: 200, Answer: api.Page[api.TrailLine]{}, Problems: []api.Problem{api.WrongRequest}},
	{Method: "GET", Path: "/nodes", ID: "nodes", Needs: access.Reader, OfNoJob: true, Summary: "The nodes that share the database, by name, and which jobs each carries out; none where the service has it alone.", Status: 200, Answer: api.List[api.Node]{}},
	{Method: "GET", Path: "/nodes/{node}/jobs", ID: "nodeJobs", Needs: access.Reader, Summary: "The jobs that a node carries out, as it sees them.", Status: 200, Answer: api.List[api.Job]{}, Problems: []api.Problem{api.NoSuchNode, api.Moving}},
	{Method: "POST", Path: "/nodes/{node}/drain", ID: "drainNode", Needs: access.Keeper, Summary: "Drain a node: its jobs go to others, each with a checkpoint, and it takes none.", Status: 200, Answer: api.Node{}, Problems: []api.Problem{api.NoSuchNode}},
	{Method: "DELETE", Path: "/nodes/{node}/drain", ID: "undrainNode", Needs: access.Keeper, Summary: "Let a node take jobs again.", Status: 200, Answer: api.Node{}, Problems: []api.Problem{api.NoSuchNode}},
	{Method: "DELETE", Path: "/nodes/{node}", ID: "removeNode", Needs: access.Keeper, Summary: "Forget a node that is away.", Status: 204, Problems: []api.Problem{api.NoSuchNode, api.NodeLives}},
	{Method: "PUT", Path: "/jobs/{job}/owners", ID: "putOwners", Needs: access.Engineer, Summary: "Say who may change the job, beside keepers; nobody for every engineer.", Body: api.Owners{}, Status: 200, Answer: api.Job{}, Problems: []api.Problem{api.NoSuchJob, api.NoSuchPerson, api.NotAllowed, api.Busy}},
}
