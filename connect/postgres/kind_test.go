package postgres_test

import (
	"testing"

	"undertide/job/says"
)

// TestSourceSettings: what is wrong with a table that goes on is said with its remedy.
func TestSourceSettings(t *testing.T) {
	for with, want := range map[string]string{
		"{connection: office, table: a.b, follow: id, every: 10ms}":             "",
		"{connection: office, query: select 1 as id, follow: id}":               "",
		"{connection: office, table: a, changes: true, slot: s, journal: 1GiB}": "",
		"{connection: office, table: a}":                                        "it is not said how further rows are found",
		"{connection: office, follow: id}":                                      "what is read is not said",
		"{connection: office, table: a, query: select 1, follow: id}":           "stand together",
		"{connection: office, table: a, follow: id, changes: true}":             "follow and changes stand together",
		"{connection: office, query: select 1, changes: true}":                  "a query has no changes",
		"{connection: office, table: a, follow: 'i d'}":                         "is not a name of a column",
		"{connection: office, table: a, follow: id, slot: s}":                   "only changes have a slot",
		"{connection: office, table: a, follow: id, journal: 1GiB}":             "only changes have a journal",
		"{connection: office, table: a, changes: true, every: 1s}":              "changes come by themselves",
		"{connection: office, table: a, changes: true, slot: S-1}":              "is not a name of a slot",
		"{connection: office, table: a, follow: id, every: 1ms}":                "without a pause",
		"{connection: office, table: a, follow: id}, decode: json":              "a table has columns, and no format",
	} {
		says.Source(t, "via: postgres, fields: {n: int}, with: "+with, want)
	}
}
