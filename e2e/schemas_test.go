package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// TestSchemasInConsole: Streams shows what the registry of a connection has, subject by subject and version by version; a version that does not fit is said
// before it is added, and one that fits is added.
func TestSchemasInConsole(t *testing.T) {
	t.Parallel()
	dir := open(t)
	broker, registry := startRegistry(t, dir)
	register(t, registry, "weights-value", firstWeights)
	write(t, dir, "undertide.yaml", fmt.Sprintf("connections:\n  apron: {via: http, url: \"http://127.0.0.1:1\"}\n  yard: {via: kafka, brokers: [%q], registry: {url: %q}}\n", broker, registry))
	s := serve(t, dir)
	p := browse(t, s.address+"/streams")
	p.shows("Topics of yard") // the first that lists what it has
	p.shows("lorry string, tonnes decimal, at timestamp")
	p.press("weights-value")
	p.shows("number 1: lorry string, tonnes decimal, at timestamp")
	p.press("Add a version")
	p.fill("Schema", strings.Replace(firstWeights, `"type":"string"`, `"type":"int"`, 1))
	p.press("Does it fit?")
	p.shows("It does not fit the newest version")
	p.fill("Schema", secondWeights)
	p.press("Does it fit?")
	p.shows("It fits the newest version.")
	p.press("Add")
	p.shows("It is version 2 of weights-value, number 2.")
	p.press("Close")
	p.shows("number 2: truck string, tonnes decimal, at timestamp, gate string")
	shows(t, undertide(t, dir, "schemas", "yard"), "weights-value        2       2")
}
