package try

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"undertide/connect"
)

// quietAfter is after how long without an event a follower is told so.
const quietAfter = 3 * time.Second

// Quiet says, once, that nothing new comes while a stream is followed, and where its events are.
type Quiet struct {
	Source connect.Source
	Since  time.Time // when following began, or the last event came

	told bool
}

// Note is called with the number of events that came; it gives what people should know, or nothing.
func (q *Quiet) Note(ctx context.Context, came int) string {
	if came > 0 {
		q.Since, q.told = time.Now(), false
		return ""
	}
	if q.told || time.Since(q.Since) < quietAfter {
		return ""
	}
	q.told = true
	text := fmt.Sprintf("nothing new for %d s", int(time.Since(q.Since).Seconds()))
	edge := func(from connect.From) (string, bool) {
		s, err := q.Source.Sample(ctx, connect.Opening{}, connect.Sampling{Rows: 1, From: from, Wait: time.Second})
		if err != nil || len(s.Events) == 0 {
			return "", false
		}
		return s.Events[0].Stored.Format(time.RFC3339), true
	}
	oldest, any := edge(connect.Oldest)
	if !any {
		return text + ": the topic is empty"
	}
	newest, _ := edge(connect.Newest)
	return text + fmt.Sprintf("; the oldest are from %s, the newest from %s: look at them with --oldest or --newest", oldest, newest)
}

// FieldsOf gives a row's fields with their values as text, in order.
func FieldsOf(row json.RawMessage) []connect.Header {
	out := []connect.Header{}
	d := json.NewDecoder(bytes.NewReader(row))
	if _, err := d.Token(); err != nil {
		return out
	}
	for d.More() {
		k, err := d.Token()
		var v json.RawMessage
		if err != nil || d.Decode(&v) != nil {
			return out
		}
		text := string(v)
		var s string
		if json.Unmarshal(v, &s) == nil {
			text = s
		}
		if string(v) == "null" {
			text = "null"
		}
		out = append(out, connect.Header{Name: fmt.Sprint(k), Value: text})
	}
	return out
}
