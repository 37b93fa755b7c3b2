package api

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"undertide/connect"
	"undertide/connect/settings"
	"undertide/job"
	"undertide/look"
	"undertide/try"
)

// shownBytes bounds how much of an event's text is given out.
const shownBytes = 16 << 10

// answerBytes is from when on one answer cuts texts short.
const answerBytes = 8 << 20

// TopicOf gives a topic as the API does.
func TopicOf(t connect.Stream) Topic {
	v := Topic{Name: t.Name, Partitions: t.Partitions, Events: t.Events, Compacted: t.Compacted, Readers: []string{}, Writers: []string{}}
	if t.Bytes >= 0 {
		v.Bytes = &t.Bytes
	}
	if t.Retention >= 0 {
		r := t.Retention.Seconds()
		v.RetentionSeconds = &r
	}
	if !t.Newest.IsZero() {
		v.Newest = &t.Newest
	}
	return v
}

// PeekOf tells what a sample is by itself: its events as they are stored and as they could be declared.
func PeekOf(sample connect.Sample) Peek {
	out := Peek{Events: []RawEvent{}, Notes: sample.Notes}
	p, inf, err := look.Infer(sample)
	if err == nil {
		out.Profile, out.Inference = &p, &inf
	}
	given := 0
	for _, e := range sample.Events {
		v := EventOf(e)
		if given += len(v.Text); given > answerBytes && len(v.Text) > 200 {
			v.Text, v.Cut = readable([]byte(v.Text)[:200]), true
		}
		if err == nil {
			v.Pieces = piecesOf(inf.Reading(), e, v.Cut)
			if v.Decoded, err = inf.Decoded(e); err != nil {
				v.Decoded, v.Reason, err = []connect.Header{}, "it does not read as the others do", nil
			}
		}
		out.Events = append(out.Events, v)
	}
	if out.Notes == nil {
		out.Notes = []string{}
	}
	return out
}

// EventOf gives an event of a sample as the API does.
func EventOf(e connect.Event) RawEvent {
	v := RawEvent{Partition: e.Partition, Offset: e.Offset, Headers: e.Headers, Bytes: len(e.Text), Decoded: []connect.Header{}, Pieces: []connect.Piece{}}
	if e.Key != nil {
		k := readable(e.Key)
		v.Key = &k
	}
	if !e.Stored.IsZero() {
		v.Stored = &e.Stored
	}
	if v.Headers == nil {
		v.Headers = []connect.Header{}
	}
	text := e.Readable()
	if len(text) > shownBytes {
		text, v.Cut = text[:shownBytes], true
	}
	v.Text = readable(text)
	return v
}

// readable gives bytes as text; what is not a UTF-8 as hexadecimal digits.
func readable(b []byte) string {
	if utf8.Valid(b) {
		return string(b)
	}
	if s := string(b); utf8.ValidString(strings.TrimRight(s, s[max(0, len(s)-3):])) { // cut within a letter
		return strings.ToValidUTF8(s, "")
	}
	return fmt.Sprintf("%x", b)
}

// DecodedOf tells what a document's source makes of a sample.
func DecodedOf(src *job.Source, sample connect.Sample) Peek {
	out := PeekOf(sample)
	for i, d := range try.Decode(src, sample) {
		out.Events[i].Decoded, out.Events[i].Reason = []connect.Header{}, d.Reason
		out.Events[i].Pieces = piecesOf(src.Decoding, sample.Events[i], out.Events[i].Cut)
		if d.Row != nil {
			out.Events[i].Decoded = try.FieldsOf(d.Row)
		}
	}
	return out
}

// Answered tells of the events of a sample that were asked for, with the fields that were asked for; view gives events as they are shown.
func Answered(asker *try.Asker, sample connect.Sample, view func(connect.Sample) Peek) Peek {
	out := view(asker.Of(sample))
	for i := range out.Events {
		out.Events[i].Decoded = asker.Shown(out.Events[i].Decoded)
	}
	return out
}

// piecesOf gives the pieces of an event that is shown whole, where how it is read knows them.
func piecesOf(how any, e connect.Event, cut bool) []connect.Piece {
	p, ok := how.(connect.Piecing)
	if !ok || cut {
		return []connect.Piece{}
	}
	return append([]connect.Piece{}, p.Pieces(e.Text)...)
}

// TriedOf gives the steps of a tried connection as the API does.
func TriedOf(checks []connect.Step) Tried {
	out := Tried{Checks: []Check{}}
	for _, k := range checks {
		out.Checks = append(out.Checks, Check{Name: k.Name, State: k.State, Text: k.Text})
	}
	return out
}

// KindsOf gives the list of kinds and formats as the API does.
func KindsOf() Kinds {
	out := Kinds{Connectors: []Connector{}, Formats: []Format{}}
	for _, k := range connect.Kinds() {
		c := Connector{Name: k.Name, Lists: k.Lists, Noun: k.Noun, About: k.About, SourceExample: k.SourceExample, SinkExample: k.SinkExample, ReferenceExample: k.ReferenceExample}
		if k.Link != nil {
			c.Connection = settings.Of(k.Link())
		}
		if k.Source != nil {
			c.Source = settings.Of(k.Source())
			of, ok := k.Source().(connect.Storing)
			c.Stored = ok && of.HasStored()
		}
		if k.Reference != nil {
			c.Reference = settings.Of(k.Reference())
		}
		if k.Sink != nil {
			c.Sink = settings.Of(k.Sink())
		}
		out.Connectors = append(out.Connectors, c)
	}
	for _, f := range connect.Formats() {
		if f.ForPeople {
			continue
		}
		v := Format{Name: f.Name, About: f.About, Endings: f.Endings, Decoded: f.Decode != nil, Encoded: f.Encode != nil, Settings: []settings.Setting{}}
		if f.Decode != nil {
			v.Settings = settings.Of(f.Decode())
		}
		out.Formats = append(out.Formats, v)
	}
	return out
}
