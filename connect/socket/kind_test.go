package socket_test

import (
	"testing"

	"undertide/job/says"
)

// TestSettings: one of two ways is asked for, and what else is wrong is said with its remedy.
func TestSettings(t *testing.T) {
	for with, want := range map[string]string{
		"listen: 127.0.0.1:7000":                              "",
		"listen: localhost:0, line: 10KiB, journal: 40KiB":    "",
		"address: harbour.example:7000":                       "",
		"address: 10.0.0.5:7000, tls: {server_name: harbour}": "",
		"line: 1MiB": "it is not said where lines come from; add address: 10.0.0.5:7000, or listen: 127.0.0.1:7000",
		"address: 10.0.0.5:7000, listen: 127.0.0.1:7000":          "stand together",
		"address: harbour.example":                                `"harbour.example" is not an address with a port; write address: 127.0.0.1:7000`,
		"address: ':7000'":                                        `":7000" is not an address with a port`,
		"address: 10.0.0.5:0":                                     `"10.0.0.5:0" is not an address with a port`,
		"listen: ':7000'":                                         "can be reached from other machines",
		"listen: 10.0.0.5:7000":                                   "10.0.0.5 can be reached from other machines",
		"listen: 127.0.0.1:7000, tls: {server_name: a}":           "needs no TLS; leave out tls",
		"address: 10.0.0.5:7000, tls: {ca: /nowhere.pem}":         "tls.ca: give PEM, or the path of a file of it",
		"listen: localhost:0, line: 1GiB, journal: 9GiB":          "so long a line is not taken in one piece",
		"listen: localhost:0, journal: 3MiB":                      "the journal has hardly room for a line",
		"listen: localhost:0}, decode: csv, watermark: {idle: 1m": "lines are JSON or text",
	} {
		says.Source(t, "via: socket, fields: {n: int}, with: {"+with+"}", want)
	}
}
