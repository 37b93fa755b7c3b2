// Package api is what travels between a service and its clients: the types of the API's answers, the
// list of problems, and the OpenAPI page that describes both (docs/commands.md, "API"). It does
// nothing by itself.
package api

//go:generate go run ./generate

import (
	_ "embed"
	"encoding/json"
	"time"

	"undertide/connect"
	"undertide/connect/settings"
	"undertide/job"
	"undertide/look"
	"undertide/run"
	"undertide/try"
)

// OpenAPI is the page that describes the API, version 3.0, as JSON.
//
//go:embed openapi.json
var OpenAPI []byte

// Job is a job as lists show it.
type Job struct {
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Version   int       `json:"version"` // the newest
	CreatedAt time.Time `json:"created_at"`
	// SpanOf is the job whose document this one reads over events of the past, from SpanBegin to SpanUntil; empty for a job of its
	// own.
	SpanOf    string `json:"span_of"`
	SpanBegin string `json:"span_begin"`
	SpanUntil string `json:"span_until"`
	// PortionOf is the spread job that this one is a portion of; empty for a job of its own. Portions are those of a spread job; none for another.
	PortionOf string    `json:"portion_of"`
	Portions  []Portion `json:"portions"`
	// Owners are who may change it, beside keepers; none: every engineer.
	Owners []string `json:"owners"`
	// Node is the node that carries it out; empty where it does not run, or the service has its database alone.
	Node string `json:"node"`
	// Status is that of the newest run; "saved" where there is none yet.
	Status string `json:"status"`
	Since  string `json:"since"` // RFC 3339: when the status began
	Run    *Run   `json:"run"`   // the newest; null for none
	// Sentence says in words how the job is, whether it runs or not.
	Sentence string   `json:"sentence"`
	Alarms   []string `json:"alarms"` // those that are on
	Recent   Recent   `json:"recent"`
	// Live is what is known of a run that goes on; null otherwise.
	Live *Live `json:"live"`
}

// Portion is one of the runs of a spread job (docs/spread.md).
type Portion struct {
	Name   string `json:"name"`   // of its own job: rates.1-3
	Part   int    `json:"part"`   // from 1
	Number int    `json:"number"` // within the part, from 1
	Node   string `json:"node"`   // that carries it out; empty where none does
	Status string `json:"status"`
	Run    int64  `json:"run"` // the newest; 0 for none
	// Sentence says how it is; empty where that is not known.
	Sentence     string  `json:"sentence"`
	InPerSecond  float64 `json:"in_per_second"`
	OutPerSecond float64 `json:"out_per_second"`
	LagEvents    *int64  `json:"lag_events"` // null where it cannot be known
	Watermark    *string `json:"watermark"`
	Keys         int     `json:"keys"`
	StateBytes   int64   `json:"state_bytes"`
}

// Recent is a job's last five minutes of running, ten seconds each: the lag in events, and the events read a second; null for not
// known.
type Recent struct {
	Lag []*float64 `json:"lag"`
	In  []*float64 `json:"in"`
}

// Run is one start of one version.
type Run struct {
	ID        int64             `json:"id"`
	Job       string            `json:"job"`
	Version   int               `json:"version"`
	Status    string            `json:"status"`
	StartedAt time.Time         `json:"started_at"`
	EndedAt   *time.Time        `json:"ended_at"`
	Error     string            `json:"error"`
	Lanes     int               `json:"lanes"`
	Set       map[string]string `json:"set"`
	Restarts  int               `json:"restarts"`
}

// Live tells in a few figures how a run goes.
type Live struct {
	// Sentence says in words how the run is.
	Sentence string `json:"sentence"`
	// Trouble is what keeps the run from its work; empty for nothing.
	Trouble      string   `json:"trouble"`
	LagEvents    *int64   `json:"lag_events"` // null where it cannot be known
	LagSeconds   *float64 `json:"lag_seconds"`
	LagTrend     string   `json:"lag_trend"`        // holding, growing or shrinking
	CatchUp      *float64 `json:"catch_up_seconds"` // null when the lag does not shrink
	InPerSecond  float64  `json:"in_per_second"`
	OutPerSecond float64  `json:"out_per_second"`
	// ArrivingPerSecond is how many events come to be where they are read from; null where that cannot be known.
	ArrivingPerSecond *float64 `json:"arriving_per_second"`
	// CouldPerSecond is about what the run could read if Busiest were busy all the time; null where too little goes on to say.
	CouldPerSecond *float64  `json:"could_per_second"`
	Busiest        PoolShare `json:"busiest"`
	Watermark      *string   `json:"watermark"`
	WatermarkAge   *float64  `json:"watermark_age_seconds"`
	Late           int64     `json:"late"` // events of which a row was lost as late, each once
	Rejected       int64     `json:"rejected"`
	CheckpointAge  *float64  `json:"checkpoint_age_seconds"`
	Restarts       int       `json:"restarts"`
	// CheckpointEvery is how often a checkpoint is due, in seconds; 0 for never.
	CheckpointEvery float64 `json:"checkpoint_every_seconds"`
	// CheckpointsFailedRunning failed in a row; RestartsLately are of the last ten minutes.
	CheckpointsFailedRunning int `json:"checkpoints_failed_running"`
	RestartsLately           int `json:"restarts_lately"`
	// RejectedRatio is that of the newest 1,000 rows or more of a source or step, the most of all; null before there are as many.
	RejectedRatio *float64 `json:"rejected_ratio"`
	// MemoryRatio is what state takes of the memory that it may; null where there is no bound.
	MemoryRatio *float64 `json:"memory_ratio"`
	// RetentionLeft is how many seconds at least the oldest unread event stays where it is; null where all are read, or it is not known.
	RetentionLeft *float64 `json:"retention_left_seconds"`
	// CPUs are those of the machines that carry the run out.
	CPUs int `json:"cpus"`
	// RefreshesMissed is how many refreshes a reference is old, the most of all; null where none is refreshed.
	RefreshesMissed *float64 `json:"refreshes_missed"`
	// Causes are what keeps the run from its work, or its results from coming; the root first.
	Causes []Cause `json:"causes"`
	// Advice is what would help.
	Advice []Advice `json:"advice"`
}

// Advice is what would help a run, with the number behind it (docs/figures.md, "Advice").
type Advice struct {
	Kind string `json:"kind"` // lanes, partitions, key, margin or roll
	At   string `json:"at"`   // the source, step or sink; empty for the run
	Text string `json:"text"`
}

// Cause is something that keeps a run from its work, or its results from coming (docs/figures.md, "What holds a run").
type Cause struct {
	Kind  string    `json:"kind"`
	At    string    `json:"at"` // the source, sink, step or partition
	Text  string    `json:"text"`
	Since time.Time `json:"since"` // as far as it was seen
	// Grave: it holds the run, or rows are lost to it. The others explain why little comes out.
	Grave bool `json:"grave"`
}

// Figures are a run's figures at a moment, with rates over the last seconds.
type Figures struct {
	run.Figures
	At    time.Time `json:"at"`
	Live  Live      `json:"live"`
	Rates Rates     `json:"rates"`
}

// Rates are rows a second by name, and shares of time, over the last seconds.
type Rates struct {
	Sources map[string]SourceRate `json:"sources"`
	Steps   map[string]StepRate   `json:"steps"`
	Sinks   map[string]SinkRate   `json:"sinks"`
	Pools   []PoolShare           `json:"pools"`
	Work    float64               `json:"work"` // seconds of work a second, of all goroutines of the run
}

// SourceRate is a source's part of [Rates].
type SourceRate struct {
	Read     float64  `json:"read"`
	Bytes    float64  `json:"bytes"`
	Arriving *float64 `json:"arriving"` // events that come to be there; null where that cannot be known
	Rejected float64  `json:"rejected"`
	Late     float64  `json:"late"`
	Busy     float64  `json:"busy_ratio"`
	Blocked  float64  `json:"blocked_ratio"`
}

// StepRate is a step's part of [Rates].
type StepRate struct {
	In       float64    `json:"in"`
	Out      float64    `json:"out"`
	Dropped  float64    `json:"dropped"`
	Lost     float64    `json:"lost"`
	Rejected float64    `json:"rejected"`
	Busy     float64    `json:"busy_ratio"`
	Blocked  float64    `json:"blocked_ratio"`
	Lanes    []LaneRate `json:"lanes"`
}

// LaneRate is a lane's part of a [StepRate].
type LaneRate struct {
	In   float64 `json:"in"`
	Out  float64 `json:"out"`
	Busy float64 `json:"busy_ratio"`
}

// SinkRate is a sink's part of [Rates].
type SinkRate struct {
	Rows       float64 `json:"rows"`
	Delivered  float64 `json:"delivered"`
	HeldUp     float64 `json:"held_up_ratio"`    // somebody waited for it to take rows
	Writing    float64 `json:"writing_ratio"`    // it wrote and prepared them
	Delivering float64 `json:"delivering_ratio"` // it delivered
}

// PoolShare is how busy those are who do the same work.
type PoolShare struct {
	Name string  `json:"name"`
	Busy float64 `json:"busy_ratio"`
}

// Version is a saved document.
type Version struct {
	Job       string    `json:"job"`
	Number    int       `json:"number"`
	About     string    `json:"about"`
	CreatedAt time.Time `json:"created_at"`
	SavedBy   string    `json:"saved_by"`           // empty where nobody had to sign in
	Document  string    `json:"document,omitempty"` // left out of lists
}

// Diff is what differs between two versions.
type Diff struct {
	A     int      `json:"a"`
	B     int      `json:"b"`
	Words []string `json:"words"` // what differs, a line each; comments and layout do not count
	Text  string   `json:"text"`  // unified; empty where they are equal
}

// Saved is the answer to a document that was saved.
type Saved struct {
	Version
	Stored   bool     `json:"stored"` // false: it equals the newest version
	Warnings []string `json:"warnings"`
	// Filled names the sources whose descriptions were written into the version; its text is then given whole.
	Filled []string `json:"filled,omitempty"`
}

// Start is how a run is asked for.
type Start struct {
	Version int               `json:"version,omitempty"` // 0: the newest
	Resume  string            `json:"resume,omitempty"`  // last (default), pin:NAME, checkpoint:N, or fresh
	Lanes   int               `json:"lanes,omitempty"`
	Set     map[string]string `json:"set,omitempty"`
	// LeaveBehind names steps and sources whose kept things are left behind, where the version does not fit them.
	LeaveBehind []string `json:"leave_behind,omitempty"`
	// Skip names events that are set aside, [SOURCE=]PARTITION:OFFSET each: they become rejects.
	Skip []string `json:"skip,omitempty"`
	// Begin and Until, of which one is enough, make it a job of its own over events of the past, beside the job's run: as `begin`
	// and `until` of a document's sources. Append: its rows may stand beside those that sinks hold already.
	Begin  string `json:"begin,omitempty"`
	Until  string `json:"until,omitempty"`
	Append bool   `json:"append,omitempty"`
}

// Respread asks for another number of portions.
type Respread struct {
	Portions int `json:"portions"` // of each part
}

// Started is the answer to a start.
type Started struct {
	Run   Run      `json:"run"`
	Notes []string `json:"notes"` // what people should know of it
}

// Checkpoint is a line of a job's list of checkpoints.
type Checkpoint struct {
	Epoch        int64     `json:"epoch"`
	Run          int64     `json:"run"`
	Version      int       `json:"version"`
	WrittenAt    time.Time `json:"written_at"`
	Seconds      float64   `json:"seconds"`
	StallSeconds float64   `json:"longest_stall_seconds"`
	Bytes        int64     `json:"bytes"`        // of all its files, many of which others share
	NewBytes     int64     `json:"new_bytes"`    // that were written for it
	RowsChanged  int64     `json:"rows_changed"` // of state, since the one before
	RowsGone     int64     `json:"rows_gone"`
	Finished     bool      `json:"finished"`
	Kept         bool      `json:"kept"`  // whether its folder is still there
	Fault        string    `json:"fault"` // why it is not complete; empty for one that is
	Pins         []string  `json:"pins"`  // under which it is kept
	Partitions   []Stretch `json:"partitions"`
}

// Pin is a checkpoint that is kept under a name.
type Pin struct {
	Name      string    `json:"name"`
	Epoch     int64     `json:"epoch"`
	Run       int64     `json:"run"`
	At        time.Time `json:"at"`
	WrittenAt time.Time `json:"written_at"` // when the checkpoint was
	// Costs are the bytes that only it keeps: what its removal would free.
	Costs int64 `json:"costs_bytes"`
	// Trouble says what keeps it from being read; empty for nothing.
	Trouble string `json:"trouble,omitempty"`
}

// NewPin asks for a pin.
type NewPin struct {
	Name       string `json:"name"`
	Checkpoint int64  `json:"checkpoint,omitempty"` // 0: the newest
}

// Token lets whoever has its text post to one source of a job.
type Token struct {
	Name   string     `json:"name"`
	Source string     `json:"source"`
	Rate   int64      `json:"rate"` // events a second; 0: as many as come
	MadeAt time.Time  `json:"made_at"`
	UsedAt *time.Time `json:"used_at"` // about; null: never
}

// NewToken asks for a token.
type NewToken struct {
	Name   string `json:"name"`
	Source string `json:"source,omitempty"` // empty: the only one that takes posts
	Rate   int64  `json:"rate,omitempty"`
}

// MadeToken is a token with its text, which is given out this once.
type MadeToken struct {
	Token Token  `json:"token"`
	Text  string `json:"text"`
}

// Stretch is what a checkpoint's interval read of a partition.
type Stretch struct {
	Source string          `json:"source"`
	Name   string          `json:"name"`
	From   json.RawMessage `json:"from"`
	To     json.RawMessage `json:"to"`
	Events int64           `json:"events"`
}

// Event is a line of a job's history.
type Event struct {
	ID   int64     `json:"id"`
	At   time.Time `json:"at"`
	Run  *int64    `json:"run"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
	// DoneBy is who did it; empty for what happened by itself, or where nobody had to sign in.
	DoneBy string `json:"done_by"`
}

// LogLine is a line of a job's log.
type LogLine struct {
	At      time.Time      `json:"at"`
	Level   string         `json:"level"`
	Message string         `json:"message"`
	Fields  map[string]any `json:"fields"`
}

// Row is a published row.
type Row struct {
	Seq int64           `json:"seq"` // of the step in this run, from 1
	At  time.Time       `json:"at"`  // when it was published
	Row json.RawMessage `json:"row"`
}

// Rows are the rows of a step that are kept for looking, newest first.
type Rows struct {
	Step    string   `json:"step"`
	Fields  []Field  `json:"fields"`
	Key     []string `json:"key"`     // fields of the key; empty for none
	Passed  int64    `json:"passed"`  // rows that the step has published in this run
	Skipped int64    `json:"skipped"` // of them, not kept since they came too fast, or were too long
	// Mark is where the answer stands: what is asked for after it goes on there.
	Mark string `json:"mark"`
	Gap
	Rows []Row `json:"rows"`
}

// Gap tells whoever goes on after a mark of what lies between that is no longer kept.
type Gap struct {
	Missed int64 `json:"missed"` // rows that were not kept, or are not any more
	// Anew: the mark counts no more, since the service was killed after it gave it. The answer begins anew, with the newest
	// rows, and how many lie between is not known.
	Anew bool `json:"anew"`
}

// Field is a field of a row.
type Field struct {
	Name string `json:"name"`
	Type string `json:"type"`
	// Levels are what its values are called, ascending; left out where they are called nothing.
	Levels []job.Level `json:"levels,omitempty"`
}

// Alarm is a time during which an alarm of a job was on.
type Alarm struct {
	ID     int64      `json:"id"`
	Job    string     `json:"job"`
	Name   string     `json:"name"`
	Text   string     `json:"text"` // what it is about, with the figures as it began
	OnAt   time.Time  `json:"on_at"`
	OffAt  *time.Time `json:"off_at"` // null while it is on
	SeenAt *time.Time `json:"seen_at"`
	SeenBy string     `json:"seen_by"` // who said so
}

// Seen says that a person has seen an alarm.
type Seen struct {
	By string `json:"by"`
}

// Notice is a way to tell people of alarms.
type Notice struct {
	Name string `json:"name"`
	// Text is a sink of kind mail or http as it stands below `sinks:` in a document, without from; its rows have the fields job, alarm,
	// state (on or off), about and at.
	Text       string     `json:"text"`
	Everything bool       `json:"everything"` // told of every alarm
	Told       int64      `json:"told"`       // since the service started
	LastAt     *time.Time `json:"last_at"`    // when it told last; null for not yet
	Waiting    int        `json:"waiting"`    // to be told
	Trouble    string     `json:"trouble"`    // why the last try did not arrive; empty where it did
}

// NewNotice makes or changes a notice.
type NewNotice struct {
	Text       string `json:"text"`
	Everything bool   `json:"everything"`
}

// NoticeTried says that a notice was taken.
type NoticeTried struct {
	Told bool `json:"told"`
}

// Rule is an alarm that all jobs have, unless their documents change it.
type Rule struct {
	Name    string   `json:"name"`
	When    string   `json:"when"` // the condition over figures
	For     string   `json:"for"`  // how long it holds before the alarm is on
	About   string   `json:"about"`
	Off     bool     `json:"off"`
	Notify  []string `json:"notify"`  // notices that tell of it
	Usual   bool     `json:"usual"`   // it comes with the service
	Changed bool     `json:"changed"` // by somebody
}

// NewRule changes an alarm of all jobs, or makes one; what is empty is as usual.
type NewRule struct {
	When  string `json:"when"`
	For   string `json:"for"`
	About string `json:"about"`
	Off   bool   `json:"off"`
	// Notify names notices that tell of it.
	Notify []string `json:"notify"`
}

// PastFigures are figures of a job over time, over all of its runs.
type PastFigures struct {
	Step float64 `json:"step_seconds"` // each point stands for so long
	// At is when each point begins, in milliseconds since 1970; where the job did not run there is none.
	At    []int64    `json:"at"`
	Lines []PastLine `json:"lines"`
	Marks []Mark     `json:"marks"` // what happened meanwhile, oldest first
}

// PastLine is one figure at each of the points.
type PastLine struct {
	Name  string `json:"name"`
	Unit  string `json:"unit"`
	About string `json:"about"`
	// Means and Greatest are over the time of each point; null where nothing was known.
	Means    []*float64 `json:"means"`
	Greatest []*float64 `json:"greatest"`
}

// Mark is something that happened to a job: a line of its history, or a checkpoint that failed (kind checkpoint).
type Mark struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
}

// FigureName is a figure of a job that is kept over time.
type FigureName struct {
	Name  string `json:"name"`
	Unit  string `json:"unit"` // events, rows, bytes, seconds, share (0 to 1), or these a second; empty for a plain number
	About string `json:"about"`
}

// Page is a part of a list, newest first. Next is what to give as `before` for the following part;
// empty at the end.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}

// Status is how the service is.
type Status struct {
	Version     string            `json:"version"`
	Ready       bool              `json:"ready"`
	StartedAt   time.Time         `json:"started_at"`
	Database    Health            `json:"database"`
	Waiting     int               `json:"records_waiting"`
	Connections map[string]Health `json:"connections"` // of the runs that go on
	Jobs        map[string]int    `json:"jobs"`        // how many by status
}

// Overview is what the stream of jobs gives every second.
type Overview struct {
	Items  []Job  `json:"items"`
	Status Status `json:"status"`
	Nodes  []Node `json:"nodes"` // none where the service has its database alone
}

// Node is a service on a machine, among those that share a database.
type Node struct {
	Name      string     `json:"name"`
	Address   string     `json:"address"` // where the others reach it
	Version   string     `json:"version"`
	Cores     int        `json:"cores"`
	Memory    int64      `json:"memory"` // bytes
	StartedAt time.Time  `json:"started_at"`
	HeardAt   *time.Time `json:"heard_at,omitempty"` // nil: it has ended in good order
	State     string     `json:"state"`              // well, draining, drained, away
	Jobs      []string   `json:"jobs"`               // those that it carries out, by name
	This      bool       `json:"this"`               // it is the one that answers
}

// Health says whether something outside answers.
type Health struct {
	Well  bool       `json:"well"`
	Why   string     `json:"why,omitempty"`
	Since *time.Time `json:"since,omitempty"`
}

// Connection is a named way to reach something outside.
type Connection struct {
	Name string `json:"name"`
	// From is service, where it was added here, or file: the undertide.yaml that the service read.
	From string `json:"from"`
	// Registry says that it has a schema registry.
	Registry bool `json:"registry"`
	connect.LinkWords
	ConnectionSpec
}

// ConnectionSpec is what a connection says, as documents do: Via names its kind, and Settings are what stands beside
// it. Secrets are named, never shown. Those of a file are not given out.
type ConnectionSpec struct {
	Via      string         `json:"via"`
	Settings map[string]any `json:"settings"`
	// Secrets are stored with the connection, for its addresses: name to text. They are never given out.
	Secrets map[string]string `json:"secrets,omitempty"`
}

// Kinds are the kinds of connectors and the formats that there are, with their settings, for forms.
type Kinds struct {
	Connectors []Connector `json:"connectors"`
	Formats    []Format    `json:"formats"`
}

// Connector is a kind of connector. What it cannot be has no settings: null.
type Connector struct {
	Name       string             `json:"name"`
	Noun       string             `json:"noun"` // what a source or sink of it reaches: topic, file
	About      string             `json:"about"`
	Connection []settings.Setting `json:"connection"`
	Source     []settings.Setting `json:"source"`
	Sink       []settings.Setting `json:"sink"`
	Reference  []settings.Setting `json:"reference"`
	// SourceExample is how a new source begins, without its fields; its name is empty for none.
	SourceExample connect.Example `json:"source_example"`
	// SinkExample is how a new sink begins, alike.
	SinkExample connect.Example `json:"sink_example"`
	// ReferenceExample is, alike, how a new reference begins.
	ReferenceExample connect.Example `json:"reference_example"`
	// Stored says that its events have a stored time.
	Stored bool `json:"stored"`
	// Lists says that its connections list their streams.
	Lists bool `json:"lists"`
}

// Format is a format of events or rows.
type Format struct {
	Name     string             `json:"name"`
	About    string             `json:"about"`
	Endings  []string           `json:"endings"`
	Decoded  bool               `json:"decoded"`
	Encoded  bool               `json:"encoded"`
	Settings []settings.Setting `json:"settings"` // that stand beside `decode`
}

// Tried is a connection tried step by step.
type Tried struct {
	Checks []Check `json:"checks"`
}

// Check is a step of trying a connection.
type Check struct {
	Name  string `json:"name"`  // reached, signed in, topic seen, may read, may write
	State string `json:"state"` // yes, no, not asked
	Text  string `json:"text"`
}

// Secret is a secret's name; its text is never given out.
type Secret struct {
	Name      string    `json:"name"`
	UpdatedAt time.Time `json:"updated_at"`
	// Readable is false where it was sealed with another key.
	Readable bool     `json:"readable"`
	UsedBy   []string `json:"used_by"` // connections
	Jobs     []string `json:"jobs"`    // whose documents name it
	// For are the addresses that it may be sent to; none before its first use.
	For []string `json:"for"`
}

// SecretText is a secret's text, on its way in.
type SecretText struct {
	Text string `json:"text"`
	// For are the addresses that it may be sent to; by default those of the connections that name it, else those of
	// whoever uses it first.
	For []string `json:"for,omitempty"`
}

// Topic is what a broker tells of a topic.
type Topic struct {
	Name             string     `json:"name"`
	Partitions       int        `json:"partitions"`
	Events           int64      `json:"events"`
	Bytes            *int64     `json:"bytes"`             // null where the broker does not say
	RetentionSeconds *float64   `json:"retention_seconds"` // null where it does not say, 0 for ever
	Compacted        bool       `json:"compacted"`
	Newest           *time.Time `json:"newest"`
	Readers          []string   `json:"readers"` // jobs whose newest version reads it
	Writers          []string   `json:"writers"`
}

// Schema is a version of a subject of a registry.
type Schema struct {
	Subject string   `json:"subject"`
	Version int      `json:"version"`
	ID      int      `json:"id"`
	Fields  []string `json:"fields"` // name and type of each, as documents declare them
	Text    string   `json:"text"`
}

// SchemaOf gives a schema as the API has it.
func SchemaOf(s connect.Schema) Schema {
	if s.Fields == nil {
		s.Fields = []string{}
	}
	return Schema{s.Subject, s.Version, s.ID, s.Fields, s.Text}
}

// NewSchema is a schema for a subject, to be registered or only compared with its newest version.
type NewSchema struct {
	Subject string `json:"subject"`
	Text    string `json:"text"`
}

// Fits says whether a schema fits the newest version of a subject.
type Fits struct {
	Fits bool     `json:"fits"`
	Why  []string `json:"why"` // not
}

// FitsOf says so of what a registry has against it.
func FitsOf(why []string) Fits {
	return Fits{Fits: len(why) == 0, Why: append([]string{}, why...)}
}

// NewTopic is a topic to be made.
type NewTopic struct {
	Name       string `json:"name"`
	Partitions int    `json:"partitions"` // 0: as many as the broker holds right
}

// Peek is what was seen of a topic or source.
type Peek struct {
	Events []RawEvent `json:"events"`
	// Notes are what people should know: that it is empty, that nothing is new.
	Notes     []string        `json:"notes"`
	Profile   *look.Profile   `json:"profile"`
	Inference *look.Inference `json:"inference"`
}

// RawEvent is an event as it is stored, with what it decodes to.
type RawEvent struct {
	Partition string           `json:"partition"`
	Offset    int64            `json:"offset"`
	Key       *string          `json:"key"` // null for none
	Stored    *time.Time       `json:"stored"`
	Headers   []connect.Header `json:"headers"`
	Text      string           `json:"text"`
	Bytes     int              `json:"bytes"`
	Cut       bool             `json:"cut"` // Text holds only the beginning
	Decoded   []connect.Header `json:"decoded"`
	Reason    string           `json:"reason"` // why it does not decode; empty when it does
	// Pieces are Text in the pieces that fields are of, where the format cuts it; none otherwise.
	Pieces []connect.Piece `json:"pieces"`
}

// Use is a stream of a connection that a job reads or writes.
type Use struct {
	Job        string `json:"job"`
	Part       string `json:"part"` // its source or sink
	Writes     bool   `json:"writes"`
	Connection string `json:"connection"`
	Stream     string `json:"stream"` // a topic, a table, a path
}

// Sent are events on their way to a topic.
type Sent struct {
	Events []NewEvent `json:"events"`
}

// NewEvent is an event to be sent.
type NewEvent struct {
	Key  *string `json:"key"` // null for none
	Text string  `json:"text"`
}

// SentCount tells how many events the broker has taken.
type SentCount struct {
	Count int `json:"count"`
}

// Document is a document's text.
type Document struct {
	Document string `json:"document"`
}

// Checked is a document as it reads.
type Checked struct {
	Job      string           `json:"job"`
	Faults   []Fault          `json:"faults"`
	Warnings []Fault          `json:"warnings"`
	Plan     *job.Plan        `json:"plan"`   // null where there are faults
	Places   map[string]Place `json:"places"` // of sources, steps and sinks in the text, by kind and name: step rate
	Values   []Value          `json:"values"`
}

// Fault is a fault or warning of a document, with its place.
type Fault struct {
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1
	Place   string `json:"place"`
	Message string `json:"message"`
	Fix     string `json:"fix"`
}

// Place is where a part of a document stands: its lines, from 1, both included.
type Place struct {
	From int `json:"from"`
	To   int `json:"to"`
}

// Value is a named constant of a document.
type Value struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Default string `json:"default"`
}

// Rehearse asks for a rehearsal.
type Rehearse struct {
	Document string            `json:"document"`
	Rows     int               `json:"rows"` // of each source at most; 0: 1,000
	From     string            `json:"from"` // newest (default) or oldest
	Set      map[string]string `json:"set,omitempty"`
}

// Examples are how the examples of a document came out.
type Examples struct {
	Items []Example `json:"items"`
}

// Example is how one example came out.
type Example struct {
	About       string   `json:"about"`
	Line        int      `json:"line"`
	Differences []string `json:"differences"` // empty where all came as expected
}

// Play asks what a document does with events one by one.
type Play struct {
	Document  string            `json:"document"`
	Events    []try.Given       `json:"events"`
	ByArrival bool              `json:"by_arrival"`
	Set       map[string]string `json:"set,omitempty"`
}

// Purposes are the ready-made documents.
type Purposes struct {
	Items []look.Purpose `json:"items"`
}

// LatenessOf is how late the events of a source come.
type LatenessOf struct {
	Source   string        `json:"source"`
	Events   int           `json:"events"` // of the sample
	Words    string        `json:"words"`
	Lateness look.Lateness `json:"lateness"`
	Sources  []string      `json:"sources"` // of the job
	// Run is what the job's run has seen; null without one.
	Run *RunLateness `json:"run"`
}

// RunLateness is what the steps of a run made of late rows.
type RunLateness struct {
	In       int64   `json:"in"`
	Lost     int64   `json:"lost"`
	Partial  int64   `json:"partial"`
	Accepted int64   `json:"accepted"`
	MostLate float64 `json:"most_late_seconds"` // beyond the watermark
}

// Described is a described source, which several jobs may take over.
type Described struct {
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Text      string    `json:"text"` // as it stands below sources:
	UpdatedAt time.Time `json:"updated_at"`
	// Jobs name the description, or have a source that reads the same; Same says whether they describe it in the same words.
	Jobs []DescribedUse `json:"jobs"`
}

// DescribedUse is a job that reads what is described.
type DescribedUse struct {
	Job    string `json:"job"`
	Source string `json:"source"`
	Same   bool   `json:"same"`
	// Described says that the job names the description, and Differs in which settings it says something else, as where the
	// description has changed since.
	Described bool     `json:"described"`
	Differs   []string `json:"differs"`
}

// List is a list that is given whole.
type List[T any] struct {
	Items []T `json:"items"`
}

// Kept tells what a start would keep of what the last run left.
type Kept struct {
	// From is the checkpoint that the run would go on from; null where there is none.
	From    *int64     `json:"from"`
	Version int        `json:"version"`
	Same    bool       `json:"same"` // the version that made it
	Parts   []KeptPart `json:"parts"`
}

// KeptPart is a source, step or sink of the old or new version.
type KeptPart struct {
	Kind string `json:"kind"` // source, step, sink
	Name string `json:"name"`
	What string `json:"what"` // kept, new, dropped, changed
	Text string `json:"text"`
	Must bool   `json:"must"` // a start has to say that it is dropped
}

// DescribedText is a described source to store.
type DescribedText struct {
	About string `json:"about"`
	Text  string `json:"text"`
}
