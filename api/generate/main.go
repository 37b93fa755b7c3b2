// Command generate writes api/openapi.json, the page that describes the API, from the types of
// package api: go generate ./api
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"

	"undertide/api"
	"undertide/connect"
	"undertide/inside"
	"undertide/job"
	"undertide/look"
	"undertide/run"
	"undertide/try"
)

// operation is one address of the API.
type operation struct {
	method, path, id, summary string
	query                     []parameter
	body                      any // nil for none
	document                  bool
	status                    int
	answer                    any    // nil for an empty one
	stream                    string // what server-sent events it gives; empty for none
	problems                  []api.Problem
}

type parameter struct{ name, kind, about string }

var (
	after        = parameter{"after", "string", "The `next` of the part before: the list goes on behind it."}
	limit        = parameter{"limit", "integer", "At most so many."}
	source       = parameter{"source", "string", "A source of the document; may be left out where there is one."}
	rows         = parameter{"rows", "integer", "How many events are sampled at most."}
	place        = parameter{"from", "string", "Which are sampled: newest (default) or oldest."}
	where        = parameter{"from", "string", "Which are wanted: newest (default), oldest or time."}
	ofCheckpoint = parameter{"checkpoint", "string", "The epoch of a checkpoint, pin:NAME, or last; the newest by default."}
	ofTable      = parameter{"table", "string", "One of the step's tables (`waiting`, `shown`); its own by default."}
	ofKey        = parameter{"key", "string", "Only rows of this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}
	asks         = parameter{"where", "string", "Only events for which this CEL condition over their fields holds; 20,000 are looked through."}
	only         = parameter{"only", "string", "A field that is given; all by default. May be repeated."}
	since        = parameter{"since", "string", "A time (RFC 3339), or a duration before now such as 15m."}
)

var stateProblems = []api.Problem{api.NoSuchJob, api.NoSuchStep, api.NoSuchCheckpoint, api.NoSuchPin, api.NotRunning, api.WrongRequest}

type anyJSON struct{}

var operations = []operation{
	{method: "GET", path: "/openapi.json", id: "openapi", summary: "This page.", status: 200, answer: anyJSON{}},
	{method: "GET", path: "/schema/job.json", id: "schema", summary: "The JSON Schema of job documents.", status: 200, answer: anyJSON{}},
	{method: "GET", path: "/status", id: "status", summary: "How the service is, and what it needs.", status: 200, answer: api.Status{}},
	{method: "GET", path: "/jobs", id: "jobs", summary: "All jobs by name.", query: []parameter{after, limit, {"run", "integer", "Of a stream: also give this run's figures."}}, status: 200, answer: api.Page[api.Job]{}, stream: "`jobs` every second, with `items` (all jobs) and `status`, and `metrics` (figures) of a run"},
	{method: "POST", path: "/jobs", id: "save", summary: "Save a document as its job's next version. 200: it equals the newest.", document: true, status: 201, answer: api.Saved{}, problems: []api.Problem{api.WrongDocument, api.TooLarge, api.Moved, api.Busy}},
	{method: "GET", path: "/jobs/{job}", id: "job", summary: "One job.", status: 200, answer: api.Job{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "DELETE", path: "/jobs/{job}", id: "delete", summary: "Delete a job that is not running, with its records, checkpoints and log.", status: 204, problems: []api.Problem{api.NoSuchJob, api.StillRunning, api.Busy}},
	{method: "POST", path: "/jobs/{job}/drain", id: "drain", summary: "End the sources of the job's run where they stand, publish everything, and finish.", status: 200, answer: api.Run{}, problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.Busy}},
	{method: "POST", path: "/jobs/{job}/stop", id: "stop", summary: "Stop the job's run with a checkpoint.", status: 200, answer: api.Run{}, problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.Busy}},
	{method: "POST", path: "/jobs/{job}/restart", id: "restart", summary: "Stop the job's run and start it again.", body: api.Start{}, status: 201, answer: api.Started{}, problems: []api.Problem{api.NoSuchJob, api.NotRunning, api.StartFailed, api.NoSuchCheckpoint, api.NoSuchPin, api.OldCheckpoints, api.Busy}},
	{method: "GET", path: "/jobs/{job}/versions", id: "versions", summary: "The job's versions, newest first, without their documents.", query: []parameter{after, limit}, status: 200, answer: api.Page[api.Version]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/versions/{version}", id: "version", summary: "A version with its document; `newest` names the newest.", status: 200, answer: api.Version{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{method: "GET", path: "/jobs/{job}/diff", id: "diff", summary: "What differs between two versions.", query: []parameter{{"a", "string", "A version."}, {"b", "string", "The other."}}, status: 200, answer: api.Diff{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{method: "GET", path: "/jobs/{job}/map", id: "map", summary: "What the job does, in words: of the newest run, or of a version.", query: []parameter{{"version", "string", "A version."}}, status: 200, answer: job.Plan{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion}},
	{method: "GET", path: "/jobs/{job}/runs", id: "runs", summary: "The job's runs, newest first.", query: []parameter{after, limit}, status: 200, answer: api.Page[api.Run]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "POST", path: "/jobs/{job}/runs", id: "start", summary: "Start a run, and wait until it runs or could not start.", body: api.Start{}, status: 201, answer: api.Started{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion, api.AlreadyRunning, api.StartFailed, api.NoSuchCheckpoint, api.NoSuchPin, api.OldCheckpoints, api.WrongDocument, api.Unreachable, api.Busy}},
	{method: "GET", path: "/jobs/{job}/history", id: "history", summary: "What happened to the job, newest first.", query: []parameter{after, limit}, status: 200, answer: api.Page[api.Event]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/logs", id: "logs", summary: "The job's log, newest first.", query: []parameter{{"grep", "string", "Only lines that hold this text, in any case."}, {"level", "string", "From this level on: debug, info, warn, error."}, since, limit}, status: 200, answer: api.Page[api.LogLine]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/lateness", id: "lateness", summary: "How late the events of a job's source come, from a sample, and what margins would lose and cost.", query: []parameter{source, rows, place}, status: 200, answer: api.LatenessOf{}, problems: []api.Problem{api.NoSuchJob, api.Unreachable, api.AccessDenied, api.NoSuchTopic}},
	{method: "GET", path: "/jobs/{job}/state/{step}", id: "state", summary: "Rows of what a step keeps, as of a checkpoint: as JSON the first hundred, in other forms all of them.", query: []parameter{ofCheckpoint, ofTable, {"raw", "boolean", "Accumulators as they are kept, in place of results."}, ofKey, limit, {"format", "string", "json (the default), ndjson, csv, parquet or table."}}, status: 200, answer: inside.Shown{}, problems: stateProblems},
	{method: "GET", path: "/jobs/{job}/state/{step}/spans", id: "spans", summary: "The windows and other spans of what a step keeps, with how many keys each has and when it ends.", query: []parameter{ofCheckpoint}, status: 200, answer: inside.SpansShown{}, problems: stateProblems},
	{method: "GET", path: "/jobs/{job}/state/{step}/skew", id: "skew", summary: "How what a step keeps lies over shares and lanes, and its heaviest keys.", query: []parameter{ofCheckpoint}, status: 200, answer: inside.SkewShown{}, problems: stateProblems},
	{method: "GET", path: "/jobs/{job}/state/{step}/compare", id: "compare", summary: "What differs of a step between two checkpoints.", query: []parameter{{"from", "string", "The older checkpoint: its epoch, pin:NAME, or last."}, ofCheckpoint, ofTable, ofKey, limit}, status: 200, answer: inside.ComparedShown{}, problems: stateProblems},
	{method: "GET", path: "/jobs/{job}/checkpoints", id: "jobCheckpoints", summary: "The checkpoints of all runs of the job, newest first, those that are not complete among them.", query: []parameter{after, limit}, status: 200, answer: api.Page[api.Checkpoint]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/pins", id: "pins", summary: "The job's pins by name, with what each costs.", status: 200, answer: api.List[api.Pin]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "POST", path: "/jobs/{job}/pins", id: "pin", summary: "Keep a checkpoint under a name: it is not pruned, and a run can go back to it.", body: api.NewPin{}, status: 201, answer: api.Pin{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchCheckpoint, api.PinExists, api.NotRunning, api.WrongRequest, api.Busy}},
	{method: "DELETE", path: "/jobs/{job}/pins/{pin}", id: "unpin", summary: "Forget a pin, and what only it keeps.", status: 204, problems: []api.Problem{api.NoSuchJob, api.NoSuchPin, api.Busy}},
	{method: "GET", path: "/jobs/{job}/steps/{step}/rows", id: "jobRows", summary: "The newest rows of a source, step or output that are kept for looking, over all runs, whether the job runs or not; newest first as JSON, oldest first as a file by `format` or Accept (application/x-ndjson, text/csv, application/vnd.apache.parquet).", query: []parameter{{"key", "string", "Only rows with this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}, {"where", "string", "Only rows for which this CEL condition over their fields holds."}, since, {"until", "string", "Only rows published before this time (RFC 3339), or a duration before now."}, limit, {"format", "string", "json (the default), ndjson, csv or parquet."}}, status: 200, answer: api.Rows{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchStep, api.WrongRequest}},
	{method: "GET", path: "/alarms", id: "alarms", summary: "The alarms of all jobs, newest first.", query: []parameter{{"on", "boolean", "Only those that are on."}, {"job", "string", "Only of this job."}, after, limit}, status: 200, answer: api.Page[api.Alarm]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "POST", path: "/alarms/{alarm}/seen", id: "see", summary: "Note that a person has seen an alarm.", body: api.Seen{}, status: 200, answer: api.Alarm{}, problems: []api.Problem{api.NoSuchAlarm}},
	{method: "GET", path: "/notices", id: "notices", summary: "The ways by which people are told of alarms, and how they fare.", status: 200, answer: api.List[api.Notice]{}},
	{method: "PUT", path: "/notices/{notice}", id: "putNotice", summary: "Make or change a notice.", body: api.NewNotice{}, status: 200, answer: api.Notice{}, problems: []api.Problem{api.WrongRequest}},
	{method: "DELETE", path: "/notices/{notice}", id: "removeNotice", summary: "Remove a notice, and what it was to tell.", status: 204, problems: []api.Problem{api.NoSuchNotice}},
	{method: "POST", path: "/notices/{notice}/try", id: "tryNotice", summary: "Tell something by a notice now.", status: 200, answer: api.NoticeTried{}, problems: []api.Problem{api.NoSuchNotice, api.Unreachable}},
	{method: "GET", path: "/rules", id: "rules", summary: "The alarms that all jobs have: the usual ones as they were changed, and others.", status: 200, answer: api.List[api.Rule]{}},
	{method: "PUT", path: "/rules/{rule}", id: "putRule", summary: "Change an alarm of all jobs, switch it off, or make one.", body: api.NewRule{}, status: 200, answer: api.List[api.Rule]{}, problems: []api.Problem{api.WrongRequest}},
	{method: "DELETE", path: "/rules/{rule}", id: "removeRule", summary: "Make a usual alarm as usual again, or take another one away.", status: 204, problems: []api.Problem{api.NoSuchAlarm}},
	{method: "GET", path: "/jobs/{job}/alarms", id: "jobAlarms", summary: "The alarms of a job, newest first.", query: []parameter{{"on", "boolean", "Only those that are on."}, after, limit}, status: 200, answer: api.Page[api.Alarm]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/figures", id: "past", summary: "A job's figures over time, over all of its runs, at the fineness that the time asked for allows; with what happened meanwhile.", query: []parameter{since, {"until", "string", "A time (RFC 3339), or a duration before now; now by default."}, {"name", "string", "A figure, such as lag_seconds; `*` stands for anything between two dots, as in steps.*.busy_ratio. May be repeated; those of the job as a whole by default."}, {"limit", "integer", "At most so many points: 1,000 by default."}}, status: 200, answer: api.PastFigures{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchFigure, api.WrongRequest}},
	{method: "GET", path: "/jobs/{job}/figures/names", id: "figureNames", summary: "The figures of the job that are kept over time.", status: 200, answer: api.List[api.FigureName]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "GET", path: "/jobs/{job}/tokens", id: "tokens", summary: "The tokens by which others may post to the job's sources; never their texts.", status: 200, answer: api.List[api.Token]{}, problems: []api.Problem{api.NoSuchJob}},
	{method: "POST", path: "/jobs/{job}/tokens", id: "makeToken", summary: "Make a token that may post to one source, and to nothing else. Its text is in this answer alone.", body: api.NewToken{}, status: 201, answer: api.MadeToken{}, problems: []api.Problem{api.NoSuchJob, api.TokenExists, api.WrongRequest, api.WrongDocument, api.Busy}},
	{method: "DELETE", path: "/jobs/{job}/tokens/{token}", id: "revokeToken", summary: "Revoke a token: it counts no more.", status: 204, problems: []api.Problem{api.NoSuchJob, api.NoSuchToken, api.Busy}},
	{method: "GET", path: "/jobs/{job}/kept", id: "kept", summary: "What a start of a version would keep of what the last run left.", query: []parameter{{"version", "string", "A version; the newest by default."}, {"resume", "string", "What the start would go on from: last (the default), pin:NAME or checkpoint:N."}}, status: 200, answer: api.Kept{}, problems: []api.Problem{api.NoSuchJob, api.NoSuchVersion, api.NoSuchCheckpoint, api.NoSuchPin}},
	{method: "GET", path: "/connections", id: "connections", summary: "All connections by name. Secrets are named, never shown.", status: 200, answer: api.List[api.Connection]{}},
	{method: "PUT", path: "/connections/{connection}", id: "putConnection", summary: "Add a connection, or change it.", body: api.ConnectionSpec{}, status: 200, answer: api.Connection{}, problems: []api.Problem{api.WrongConnection}},
	{method: "DELETE", path: "/connections/{connection}", id: "removeConnection", summary: "Remove a connection that no job uses.", status: 204, problems: []api.Problem{api.NoSuchConnection, api.ConnectionInUse, api.ConnectionFromFile}},
	{method: "POST", path: "/connections/{connection}/test", id: "testConnection", summary: "Test a connection step by step. No event is read for good, and none written.", query: []parameter{{"topic", "string", "A topic whose rights are asked for."}}, status: 200, answer: api.Tried{}, problems: []api.Problem{api.NoSuchConnection, api.WrongConnection}},
	{method: "GET", path: "/connections/{connection}/topics", id: "topics", summary: "The topics of a broker by name.", status: 200, answer: api.List[api.Topic]{}, problems: []api.Problem{api.NoSuchConnection, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/connections/{connection}/topics", id: "makeTopic", summary: "Make a topic.", body: api.NewTopic{}, status: 201, answer: api.NewTopic{}, problems: []api.Problem{api.NoSuchConnection, api.TopicExists, api.Unreachable, api.AccessDenied}},
	{method: "GET", path: "/connections/{connection}/schemas", id: "schemas", summary: "The newest schema of each subject of a connection's registry, or all versions of one.", query: []parameter{{"subject", "string", "All versions of this subject, the oldest first."}}, status: 200, answer: api.List[api.Schema]{}, problems: []api.Problem{api.NoSuchConnection, api.NoSuchSchema, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/connections/{connection}/schemas", id: "registerSchema", summary: "Add a version to a subject, unless it has that schema.", body: api.NewSchema{}, status: 201, answer: api.Schema{}, problems: []api.Problem{api.NoSuchConnection, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/connections/{connection}/schemas/check", id: "checkSchema", summary: "Whether a schema fits the newest version of a subject. Nothing is registered.", body: api.NewSchema{}, status: 200, answer: api.Fits{}, problems: []api.Problem{api.NoSuchConnection, api.NoSuchSchema, api.Unreachable, api.AccessDenied}},
	{method: "GET", path: "/connections/{connection}/topics/{topic}/events", id: "events", summary: "Some events of a topic as they are stored, a profile of them, and how they could be declared.", query: []parameter{where, asks, only, {"at", "string", "With from=time: a time (RFC 3339), or a duration before now."}, limit, {"partition", "integer", "Of this partition alone."}}, status: 200, answer: api.Peek{}, stream: "`event` (an event) as it is stored, `note` when nothing new comes", problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/connections/{connection}/topics/{topic}/events", id: "send", summary: "Send events to a topic that is there.", body: api.Sent{}, status: 200, answer: api.SentCount{}, problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{method: "GET", path: "/connections/{connection}/topics/{topic}/document", id: "begin", summary: "A document to begin with over a topic.", query: []parameter{{"purpose", "string", "What it is for; see purposes. `source` gives the source alone, as it stands below `sources:`."}, where, limit}, status: 200, answer: api.Document{}, problems: []api.Problem{api.NoSuchConnection, api.NoSuchTopic, api.NoEvents, api.Unreachable, api.AccessDenied}},
	{method: "GET", path: "/uses", id: "uses", summary: "The streams of connections that jobs read and write, by job.", status: 200, answer: api.List[api.Use]{}},
	{method: "GET", path: "/kinds", id: "kinds", summary: "The kinds of connectors and the formats that there are, with their settings.", status: 200, answer: api.Kinds{}},
	{method: "GET", path: "/secrets", id: "secrets", summary: "The names of all secrets.", status: 200, answer: api.List[api.Secret]{}},
	{method: "PUT", path: "/secrets/{secret}", id: "putSecret", summary: "Store a secret, sealed. Its text is never given out.", body: api.SecretText{}, status: 200, answer: api.Secret{}},
	{method: "DELETE", path: "/secrets/{secret}", id: "removeSecret", summary: "Remove a secret that no connection names.", status: 204, problems: []api.Problem{api.NoSuchSecret, api.SecretInUse}},
	{method: "GET", path: "/purposes", id: "purposes", summary: "The ready-made documents, by what they are good for.", status: 200, answer: api.Purposes{}},
	{method: "GET", path: "/sources", id: "sources", summary: "Described sources that several jobs may take over, and which do.", status: 200, answer: api.List[api.Described]{}},
	{method: "PUT", path: "/sources/{source}", id: "putDescribed", summary: "Describe a source: its text as it stands below `sources:`.", body: api.DescribedText{}, status: 200, answer: api.Described{}, problems: []api.Problem{api.WrongDocument}},
	{method: "DELETE", path: "/sources/{source}", id: "removeDescribed", summary: "Remove a described source; jobs keep their own text.", status: 204, problems: []api.Problem{api.NoSuchDescribed}},
	{method: "POST", path: "/documents/check", id: "check", summary: "Read a document: its faults and warnings with their places, and what it would do.", body: api.Document{}, status: 200, answer: api.Checked{}},
	{method: "POST", path: "/documents/rehearse", id: "rehearse", summary: "Run a document on a sample of its sources. Nothing is delivered.", body: api.Rehearse{}, status: 200, answer: try.Rehearsal{}, problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/documents/examples", id: "examples", summary: "Run a document's examples.", body: api.Document{}, status: 200, answer: api.Examples{}, problems: []api.Problem{api.WrongDocument}},
	{method: "POST", path: "/documents/play", id: "play", summary: "Give a document events one by one, and tell what comes of each.", body: api.Play{}, status: 200, answer: try.Played{}, problems: []api.Problem{api.WrongDocument}},
	{method: "POST", path: "/documents/lateness", id: "documentLateness", summary: "How late the events of a document's source come.", body: api.Document{}, query: []parameter{source, rows, place}, status: 200, answer: api.LatenessOf{}, problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{method: "POST", path: "/documents/peek", id: "peek", summary: "Some events of a document's source, and what it makes of them.", body: api.Document{}, query: []parameter{source, rows, place, asks, only}, status: 200, answer: api.Peek{}, problems: []api.Problem{api.WrongDocument, api.NoSuchTopic, api.Unreachable, api.AccessDenied}},
	{method: "GET", path: "/runs/{run}", id: "run", summary: "One run.", status: 200, answer: api.Run{}, problems: []api.Problem{api.NoSuchRun}},
	{method: "GET", path: "/runs/{run}/figures", id: "figures", summary: "A run's figures, with rates over the last seconds.", status: 200, answer: api.Figures{}, stream: "`run` (a run) and `metrics` (its figures) every second, `end` when it has ended", problems: []api.Problem{api.NoSuchRun, api.NotRunning}},
	{method: "GET", path: "/runs/{run}/checkpoints", id: "checkpoints", summary: "The run's checkpoints, newest first.", query: []parameter{after, limit}, status: 200, answer: api.Page[api.Checkpoint]{}, problems: []api.Problem{api.NoSuchRun}},
	{method: "GET", path: "/runs/{run}/steps/{step}/rows", id: "rows", summary: "The newest rows of a source, step or output (`late of STEP`, `rejects of STEP`) that are kept for looking, newest first.", query: []parameter{{"key", "string", "Only rows with this key: FIELD=VALUE, or the values of the key's fields in order; may be repeated."}, since, limit, {"after", "string", "Only rows that were published after this mark: the `mark` of an answer, or the id of an event."}}, status: 200, answer: api.Rows{}, stream: "`row` (a row) as it is published, `gap` (a gap) where rows between were not kept, `end` when the run has ended", problems: []api.Problem{api.NoSuchRun, api.NoSuchStep, api.NotRunning}},
}

func main() {
	text, err := page()
	if err == nil {
		err = os.WriteFile("openapi.json", text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

// names of the schemas that other pages refer to.
var names = map[reflect.Type]string{
	reflect.TypeFor[api.Page[api.Job]]():        "JobPage",
	reflect.TypeFor[api.Page[api.Version]]():    "VersionPage",
	reflect.TypeFor[api.Page[api.Run]]():        "RunPage",
	reflect.TypeFor[api.Page[api.Event]]():      "EventPage",
	reflect.TypeFor[api.Page[api.LogLine]]():    "LogPage",
	reflect.TypeFor[api.Page[api.Checkpoint]](): "CheckpointPage",
	reflect.TypeFor[api.Page[api.Alarm]]():      "AlarmPage",
	reflect.TypeFor[connect.Example]():          "Beginning",
	reflect.TypeFor[look.Field]():               "InferredField",
	reflect.TypeFor[run.CheckpointFigures]():    "CheckpointFigures",
	reflect.TypeFor[inside.Shown]():             "StateRows",
	reflect.TypeFor[inside.About]():             "StateAbout",
	reflect.TypeFor[inside.Field]():             "StateField",
	reflect.TypeFor[inside.SpansShown]():        "StateSpans",
	reflect.TypeFor[inside.SpanShown]():         "StateSpan",
	reflect.TypeFor[inside.SkewShown]():         "StateSkew",
	reflect.TypeFor[inside.Share]():             "StateShare",
	reflect.TypeFor[inside.Heavy]():             "StateHeavy",
	reflect.TypeFor[inside.ComparedShown]():     "StateCompared",
	reflect.TypeFor[inside.ShownDifference]():   "StateDifference",
}

func page() ([]byte, error) {
	doc := &openapi3.T{OpenAPI: "3.0.3", Info: &openapi3.Info{Title: "Under Tide", Version: "1", Description: "Jobs, runs, rows and figures of a service. Faults come as RFC 9457 problem documents with permanent codes."},
		Servers: openapi3.Servers{{URL: "/api/v1"}}, Paths: openapi3.NewPaths(), Components: &openapi3.Components{Schemas: openapi3.Schemas{}}}
	given := map[string]reflect.Type{}
	gen := openapi3gen.NewGenerator(openapi3gen.UseAllExportedFields(), openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}),
		openapi3gen.CreateTypeNameGenerator(func(t reflect.Type) string {
			name := names[t]
			if name == "" {
				name = t.Name()
			}
			if other, taken := given[name]; taken && other != t && name != "" {
				fmt.Fprintf(os.Stderr, "generate: %v and %v would both be %s; name one of them in names\n", other, t, name)
				os.Exit(1)
			}
			given[name] = t
			return name
		}), openapi3gen.SchemaCustomizer(customize))
	schema := func(v any) (*openapi3.SchemaRef, error) {
		if _, free := v.(anyJSON); free {
			return openapi3.NewSchemaRef("", openapi3.NewObjectSchema()), nil
		}
		return gen.NewSchemaRefForValue(v, doc.Components.Schemas)
	}
	problem, err := schema(api.Problem{})
	if err != nil {
		return nil, err
	}
	for _, o := range operations {
		op, err := describe(o, schema, problem)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", o.method, o.path, err)
		}
		item := doc.Paths.Value(o.path)
		if item == nil {
			item = &openapi3.PathItem{}
			doc.Paths.Set(o.path, item)
		}
		item.SetOperation(o.method, op)
	}
	require(doc.Components.Schemas)
	return json.MarshalIndent(doc, "", " ")
}

// customize marks raw JSON as anything, and pointers as nullable.
func customize(_ string, t reflect.Type, _ reflect.StructTag, s *openapi3.Schema) error {
	if t == reflect.TypeFor[json.RawMessage]() {
		*s = openapi3.Schema{Nullable: true}
	}
	return nil
}

// require says of all fields but the optional ones that they are there: ours always write them.
func require(all openapi3.Schemas) {
	optional := map[string]bool{"Problem.faults": true, "Version.document": true, "Saved.document": true, "Health.why": true, "Health.since": true, "SourceFigures.trouble": true, "SourceFigures.posts": true, "SinkFigures.trouble": true, "ReferenceFigures.trouble": true, "ReferenceFigures.first": true, "StepFigures.join": true, "StepFigures.lookup": true, "Pin.trouble": true, "NewPin.checkpoint": true, "NewToken.source": true, "NewToken.rate": true,
		"Rehearse.set": true, "Rehearse.rows": true, "Rehearse.from": true, "Play.set": true, "Play.by_arrival": true, "Given.source": true, "Given.event": true, "Given.clock": true, "NewTopic.partitions": true,
		"Field.levels": true, "Problem.request": true, "ConnectionSpec.secrets": true, "Connection.secrets": true, "SecretText.for": true}
	nullable := map[string]bool{"Job.run": true, "Job.live": true, "CheckpointFigures.last": true, "RehearsedStep.forecast": true,
		"Connector.connection": true, "Connector.source": true, "Connector.reference": true, "Connector.sink": true, "Peek.profile": true, "Peek.inference": true, "Checked.plan": true, "LatenessOf.run": true}
	for name, s := range all {
		if name == "Start" {
			continue
		}
		s.Value.Required = nil
		for _, field := range slices.Sorted(maps.Keys(s.Value.Properties)) {
			if !optional[name+"."+field] {
				s.Value.Required = append(s.Value.Required, field)
			}
			if nullable[name+"."+field] {
				s.Value.Properties[field] = openapi3.NewSchemaRef("", &openapi3.Schema{Nullable: true, AllOf: openapi3.SchemaRefs{s.Value.Properties[field]}})
			}
		}
	}
}

func describe(o operation, schema func(any) (*openapi3.SchemaRef, error), problem *openapi3.SchemaRef) (*openapi3.Operation, error) {
	op := &openapi3.Operation{OperationID: o.id, Summary: o.summary, Responses: &openapi3.Responses{}}
	for part := range strings.SplitSeq(o.path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			op.AddParameter(openapi3.NewPathParameter(strings.TrimSuffix(name, "}")).WithSchema(openapi3.NewStringSchema()))
		}
	}
	for _, q := range o.query {
		s := openapi3.NewStringSchema()
		if q.kind == "integer" {
			s = openapi3.NewInt64Schema()
		}
		op.AddParameter(openapi3.NewQueryParameter(q.name).WithSchema(s).WithDescription(q.about))
	}
	if o.document {
		op.AddParameter(openapi3.NewHeaderParameter("If-Match").WithSchema(openapi3.NewStringSchema()).WithDescription("The number of the version that the document was made from, as an entity tag: \"3\". Where another is the newest by now, nothing is saved."))
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithContent(openapi3.NewContentWithSchema(openapi3.NewStringSchema(), []string{"application/yaml"})).WithDescription("The document, as it is.")}
	}
	if o.body != nil {
		ref, err := schema(o.body)
		if err != nil {
			return nil, err
		}
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithJSONSchemaRef(ref)}
	}
	good := openapi3.NewResponse().WithDescription(http.StatusText(o.status))
	if o.answer != nil {
		ref, err := schema(o.answer)
		if err != nil {
			return nil, err
		}
		good = good.WithJSONSchemaRef(ref)
	}
	if o.stream != "" {
		good.Content["text/event-stream"] = openapi3.NewMediaType().WithSchema(openapi3.NewStringSchema())
		text := "As server-sent events, where they are accepted: " + o.stream + "."
		op.Description = text
	}
	op.Responses.Set(strconv.Itoa(o.status), &openapi3.ResponseRef{Value: good})
	if o.id == "save" {
		op.Responses.Set("200", &openapi3.ResponseRef{Value: good})
	}
	var codes []string
	for _, p := range append(o.problems, api.WrongRequest, api.ForeignHost, api.ForeignOrigin, api.TooMany, api.DatabaseUnreachable, api.Stopping, api.Internal) {
		codes = append(codes, p.Code)
	}
	bad := openapi3.NewResponse().WithDescription("A problem: " + strings.Join(codes, ", ") + ".").WithContent(openapi3.NewContentWithSchemaRef(problem, []string{"application/problem+json"}))
	op.Responses.Set("default", &openapi3.ResponseRef{Value: bad})
	return op, nil
}
