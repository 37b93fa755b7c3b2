package formats_test

import (
	"testing"

	"undertide/job/says"
)

// TestDecodings: what is wrong with how events are decoded is said with its remedy.
func TestDecodings(t *testing.T) {
	for source, want := range map[string]string{
		"via: kafka, with: {connection: schemas, topic: t}, decode: avro, fields: {n: int}":                                "",
		"via: kafka, with: {connection: broker, topic: t}, decode: avro, fields: {n: int}":                                 "it is not said where the schema is",
		"via: file, with: {path: a.csv}, columns: [m], fields: {n: int}":                                                   "no column is named n",
		"via: file, with: {path: a.csv}, delimiter: \"'\", quote: \"'\", fields: {n: int}":                                 "one sign stands between cells and around them",
		"via: file, with: {path: a.csv}, quote: xx, fields: {n: int}":                                                      "is not a sign around cells",
		"via: kafka, with: {connection: broker, topic: t}, decode: avro, schema: /nowhere.avsc":                            "name a file of an Avro schema",
		"via: kafka, with: {connection: schemas, topic: t}, decode: avro":                                                  "the fields are not written, and the schema cannot be asked: registry 127.0.0.1:1 cannot be reached",
		"via: file, with: {path: a.avro, follow: true}, fields: {n: int}":                                                  "a file of Avro cannot be followed",
		"via: file, with: {path: a.ndjson.gz, follow: true}, fields: {n: int}":                                             "a packed file cannot be followed",
		"via: file, with: {path: a.avro}, fields: {n: int}":                                                                "",
		"via: kafka, with: {connection: broker, topic: t}, decode: csv, columns: [m, n], delimiter: tab, fields: {n: int}": "",
		"via: kafka, with: {connection: broker, topic: t}, decode: csv, fields: {n: int}":                                  "messages have no first line that names the columns",
		"via: kafka, with: {connection: broker, topic: t}, decode: csv, columns: [m], fields: {n: int}":                    "no column is named n",
		"via: file, with: {path: a.csv}, delimiter: ';;', fields: {n: int}":                                                "is not a delimiter; write one sign",
	} {
		says.Source(t, source, want)
	}
}
