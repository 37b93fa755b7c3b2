package harbour

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"time"

	"undertide/connect"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// Devices are gauges that also send what they read in other ways than the radio: some post it to the service, one sends messages. They begin with
// what is read from now on.
type Devices struct {
	readings chan []byte
	log      *slog.Logger
	// Posts is where readings are posted; empty for nowhere.
	Posts string
	// Messages is the connection to the broker of devices; nil for none.
	Messages *connect.Connection
}

// NewDevices makes them; what a feed gives to Take waits until Run sends it.
func NewDevices(log *slog.Logger) *Devices {
	return &Devices{readings: make(chan []byte, 1000), log: log}
}

var (
	posting = []string{"G10", "G11"}
	sending = []string{"G11", "G12"}
)

// fresh is how old a reading may be that devices send.
const fresh = 10 * time.Second

// Take takes a reading of the stream; it does not wait.
func (d *Devices) Take(event []byte) {
	select {
	case d.readings <- bytes.Clone(event):
	default: // nobody sends yet
	}
}

// Run sends readings until ctx is done: posts of a second each under a key, so that one whose answer is lost is taken once.
func (d *Devices) Run(ctx context.Context) error {
	to, end, err := d.messages(ctx)
	if err != nil {
		return err
	}
	defer end()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var body bytes.Buffer
	for n := time.Now().UnixMilli(); ; {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
			if body.Len() > 0 && d.Posts != "" {
				n++
				d.post(ctx, fmt.Sprint("gauges ", n), body.Bytes())
				body.Reset()
			}
		case event := <-d.readings:
			var r reading
			if json.Unmarshal(event, &r) != nil || time.Since(time.UnixMilli(r.ReadAt)) > fresh {
				continue
			}
			if slices.Contains(posting, r.Gauge) {
				body.Write(append(event, '\n'))
			}
			if slices.Contains(sending, r.Gauge) {
				to(r)
			}
		}
	}
}

type reading struct {
	Gauge  string  `json:"gauge"`
	LevelM float64 `json:"level_m"`
	ReadAt int64   `json:"read_at"`
}

// post posts readings, and again while nobody takes them, for some seconds.
func (d *Devices) post(ctx context.Context, key string, body []byte) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	for {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, d.Posts, bytes.NewReader(body))
		if err != nil {
			d.log.Warn("gauges cannot post", "error", err)
			return
		}
		r.Header.Set("Content-Type", "application/x-ndjson")
		r.Header.Set("Idempotency-Key", key)
		answer, err := http.DefaultClient.Do(r)
		if err == nil {
			_, _ = io.Copy(io.Discard, answer.Body) // the status counts
			answer.Body.Close()
			if answer.StatusCode == http.StatusAccepted || answer.StatusCode == http.StatusBadRequest {
				return
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// messagesJob is the sink by which a gauge sends messages: its own kind of connector, as a job would have it.
const messagesJob = `undertide: 1
job: gauges
settings: {delivery: at_least_once}
sources:
  gauges: {via: http, with: {}, fields: {gauge: string, level_m: double, read_at: int}, event_time: arrival, watermark: {margin: 0s}}
sinks:
  out: {from: gauges, via: mqtt, with: {connection: devices, topic: "gauges/{gauge}/level"}}
`

// messages gives what sends a reading as a message.
func (d *Devices) messages(ctx context.Context) (send func(reading), end func(), err error) {
	if d.Messages == nil {
		return func(reading) {}, func() {}, nil
	}
	j, err := job.Parse("gauges", messagesJob, job.Options{Connections: map[string]*connect.Connection{"devices": d.Messages}})
	if err != nil {
		return nil, nil, err
	}
	k := &j.Sinks[0]
	s, err := k.With.Open(ctx, connect.Opening{Job: j.Name, Name: k.Name, Format: k.Encode, Schema: k.Schema})
	if err != nil {
		return nil, nil, err
	}
	if err := s.Open(nil, 1); err != nil {
		return nil, nil, err
	}
	b, enc := row.NewBatch(k.Schema), s.NewEncoder(k.Schema)
	return func(r reading) {
			b.Reset()
			for i, f := range k.Schema {
				switch f.Name {
				case "gauge":
					b.Cols[i].AppendString(r.Gauge)
				case "level_m":
					b.Cols[i].AppendDouble(r.LevelM)
				case "read_at":
					b.Cols[i].AppendInt(r.ReadAt)
				default:
					b.Cols[i].AppendNull()
				}
			}
			b.N = 1
			if err := s.Write(enc.Append(nil, step.ViewOf(b)), 1); err != nil {
				d.log.Warn("a gauge cannot send", "error", err)
			}
		}, func() {
			if err := s.Abort(); err != nil {
				d.log.Debug("gauges end", "error", err)
			}
		}, nil
}
