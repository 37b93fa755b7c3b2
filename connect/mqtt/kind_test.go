package mqtt_test

import (
	"strings"
	"testing"

	"undertide/job/says"
)

// TestSettings: what is wrong with topics that are read or written, and with their broker, is said with its remedy.
func TestSettings(t *testing.T) {
	for with, want := range map[string]string{
		"{connection: yard, topics: [a/+/b, 'c/#', '$share/g/d']}": "",
		"{connection: yard, topics: [a], expiry: 1h, client: me}":  "",
		"{connection: yard}":                                                        "no topic is named",
		"{connection: yard, topics: []}":                                            "no topic is named",
		"{connection: yard, topics: ['a+']}":                                        "is not a topic filter: + stands for one whole level",
		"{connection: yard, topics: ['#/a']}":                                       "is not a topic filter",
		"{connection: yard, topics: ['']}":                                          "is not a topic: it has from 1 to 65535 bytes",
		"{connection: yard, topics: [a], expiry: 0s}":                               "the broker would forget the job at once",
		"{connection: yard, topics: [a], journal: 1KiB}":                            "the journal has hardly room for a message",
		"{connection: yard, topics: [a], client: " + strings.Repeat("x", 201) + "}": "more than 200 bytes",
		"{connection: broker, topics: [a]}":                                         "broker",
	} {
		says.Source(t, "via: mqtt, fields: {n: int}, with: "+with, want)
	}
	for with, want := range map[string]string{
		"{connection: yard, topic: 'a/{crane}', retain: true}": "",
		"{connection: yard, topic: 'a/+'}":                     "+ and # stand for topics that are read",
		"{connection: yard, topic: 'a/{cran}'}":                "the rows have no field cran; did you mean crane?",
		"{connection: yard}":                                   "the topic is not named",
	} {
		says.Sink(t, "via: mqtt, with: "+with, want)
	}
	for link, want := range map[string]string{
		`via: mqtt, address: "10.0.0.5:1883", version: 3.1.1`:                         "",
		`via: mqtt, address: "10.0.0.5:8883", user: a, password: "${env.P}", tls: {}`: "",
		`via: mqtt, address: "10.0.0.5:1883", user: a, password: "${env.P}"`:          "would be sent in the clear to 10.0.0.5:1883; add tls: {}",
		`via: mqtt, address: "127.0.0.1:1883", password: "${env.P}"`:                  "a password without a user",
		`via: mqtt, address: "10.0.0.5"`:                                              "is not an address of a broker; write host:port",
		`via: mqtt, address: "10.0.0.5:1883", version: 4`:                             "is not one of 5, 3.1.1",
	} {
		says.Link(t, link, want)
	}
}
