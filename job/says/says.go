// Package says lets tests of kinds of connectors and of formats hold what the reading of documents says of their settings.
package says

import (
	"strings"
	"testing"

	_ "undertide/connect/all" // the kinds and formats that documents name
	"undertide/job"
)

// Of reads a document and compares what is wrong with it: want is a part of that, or empty for a document that is right. about names the case.
func Of(t testing.TB, about, document, want string) {
	t.Helper()
	_, err := job.Parse("a.yaml", document, job.Options{})
	got := ""
	if err != nil {
		got = err.Error()
	}
	if (want == "") != (err == nil) || !strings.Contains(got, want) {
		t.Errorf("%s: %q, want %q", about, got, want)
	}
}

// Source reads a document whose source is this, below its name: `via: socket, with: {…}`.
func Source(t testing.TB, source, want string) {
	t.Helper()
	Of(t, source, "undertide: 1\njob: a\nconnections:\n"+connections+"sources:\n  s: {"+source+"}\nsinks:\n  out: {from: s, via: file, with: {path: out/}}\n", want)
}

// Sink reads a document whose sink is this, of rows {crane string, tonnes double, held_at timestamp}.
func Sink(t testing.TB, sink, want string) {
	t.Helper()
	Of(t, sink, "undertide: 1\njob: a\nsettings: {delivery: at_least_once}\nconnections:\n"+connections+"sources:\n  s: {via: file, with: {path: in.ndjson}, fields: {crane: string, tonnes: double, held_at: timestamp}}\nsinks:\n  out: {from: s, "+sink+"}\n", want)
}

// Link reads a document with a connection of this.
func Link(t testing.TB, link, want string) {
	t.Helper()
	Of(t, link, "undertide: 1\njob: a\nconnections:\n  c: {"+link+"}\nsources:\n  s: {via: file, with: {path: in.ndjson}, fields: {n: int}}\nsinks:\n  out: {from: s, via: file, with: {path: out.ndjson}}\n", want)
}

// connections are one of each kind that has them.
const connections = `  broker: {via: kafka, brokers: ["127.0.0.1:9092"]}
  schemas: {via: kafka, brokers: ["127.0.0.1:9092"], registry: {url: "http://127.0.0.1:1"}}
  yard: {via: mqtt, address: "127.0.0.1:1883"}
  office: {via: postgres, url: "postgres://a@127.0.0.1/b"}
  hooks: {via: http, url: "http://127.0.0.1:1/"}
  post: {via: mail, address: "127.0.0.1:25", from: a@example.org}
`
