package posts_test

import (
	"testing"

	"undertide/connect"
	"undertide/connect/posts"
	"undertide/job/says"
)

// TestSettings: addresses of this machine are taken, and what else is wrong is said with its remedy.
func TestSettings(t *testing.T) {
	for with, want := range map[string]string{
		"listen: 127.0.0.1:8400":                                  "",
		"listen: '[::1]:8400'":                                    "",
		"listen: localhost:0, body: 1MiB, journal: 2MiB":          "",
		"body: 1MiB":                                              "",
		"listen: ''":                                              `"" is not an address with a port; write listen: 127.0.0.1:8400`,
		"listen: 127.0.0.1":                                       `"127.0.0.1" is not an address with a port`,
		"listen: 127.0.0.1:99999":                                 `"127.0.0.1:99999" is not an address with a port`,
		"listen: 0.0.0.0:8400":                                    "0.0.0.0 can be reached from other machines",
		"listen: ':8400'":                                         "can be reached from other machines",
		"listen: harbour.example:8400":                            "harbour.example can be reached from other machines",
		"listen: localhost:0, body: 1GiB, journal: 4GiB":          "so large a post is not taken in one piece",
		"listen: localhost:0, journal: 20MiB":                     "the journal has no room for two posts",
		"listen: localhost:0}, decode: csv, watermark: {idle: 1m": "posts are JSON or lines of text",
	} {
		says.Source(t, "via: http, fields: {n: int}, with: {"+with+"}", want)
	}
	if k := connect.KindNamed("http"); k != posts.Kind {
		t.Error("http is another kind")
	}
}
