// Package all is the list of the kinds of connectors and of the formats that the program has. Import it for what it
// registers; whoever adds one adds its folder and a line here.
package all

import (
	"undertide/connect"
	"undertide/connect/file"
	"undertide/connect/formats/avro"
	"undertide/connect/formats/csv"
	"undertide/connect/formats/ndjson"
	"undertide/connect/formats/parquet"
	"undertide/connect/formats/table"
	"undertide/connect/formats/text"
	"undertide/connect/kafka"
	"undertide/connect/mail"
	"undertide/connect/mqtt"
	"undertide/connect/postgres"
	"undertide/connect/posts"
	"undertide/connect/simulate"
	"undertide/connect/socket"
)

func init() {
	for _, k := range []*connect.Kind{file.Kind, kafka.Kind, mail.Kind, mqtt.Kind, postgres.Kind, posts.Kind, simulate.Kind, socket.Kind} {
		connect.Register(k)
	}
	// The first format is that of documents which name none.
	for _, f := range []*connect.Format{ndjson.Format, csv.Format, text.Format, avro.Format, parquet.Format, table.Format} {
		connect.RegisterFormat(f)
	}
	connect.NotBuilt.Sources = []string{}
	connect.NotBuilt.Sinks = []string{"live"}
	connect.NotBuilt.Links = []string{}
	connect.NotBuilt.Formats = []string{}
}
