// Package table is rows in columns, for people to read; it is only written.
package table

import "undertide/connect"

// Format is table.
var Format = &connect.Format{Name: "table", Title: "a table", About: "aligned columns for people", ForPeople: true, Encode: NewEncoder, Head: Head}
