package posts_test

import (
	"testing"

	"undertide/job/says"
)

// TestSinkSettings: what is wrong with posts that are sent, and with whom they go to, is said with its remedy.
func TestSinkSettings(t *testing.T) {
	for with, want := range map[string]string{
		"{connection: hooks}": "",
		"{connection: hooks, path: /a, template: '{crane} at {held_at:%H:%M}', quiet: 10m}, key: [crane": "",
		"{connection: hooks, path: a}":                         "the path does not begin with /; write path: /a",
		"{connection: hooks, template: '{cran}'}":              "the rows have no field cran; did you mean crane?",
		"{connection: hooks, template: '{crane'}":              "the { at place 1 has no }",
		"{connection: hooks, template: '{held}'}":              "the rows have no field held",
		"{connection: hooks, template: '{held}', quiet: 1m}":   "",
		"{connection: hooks, template: '{crane:%H}'}":          "crane is a string, and no time",
		"{connection: hooks, template: '{crane}', batch: 2}":   "a template is the body of one row",
		"{connection: hooks, quiet: 1m, batch: 2}":             "not quiet one by one",
		"{connection: hooks, quiet: 0s}":                       "nothing would be quiet",
		"{connection: hooks}, key: [crane":                     "a key is by which rows are quiet; add quiet: 10m",
		"{connection: hooks, refused: never}":                  "never is not one of stop, pass",
		"{connection: hooks}, encode: csv, columns: {a: crane": "posts are JSON",
		"{connection: yard}":                                   "yard",
	} {
		end := "}"
		if with[len(with)-1] == '}' {
			end = ""
		} else if with[len(with)-5:] == "crane" && with[len(with)-6] == '[' {
			end = "]"
		}
		says.Sink(t, "via: http, with: "+with+end, want)
	}
	for link, want := range map[string]string{
		`via: http, url: "https://10.0.0.9/hooks", token: "${env.T}"`:                          "",
		`via: http, url: "ftp://10.0.0.9"`:                                                     "is not an address of a receiver",
		`via: http, url: "https://a:b@10.0.0.9"`:                                               "the password stands in the clear",
		`via: http, url: "http://10.0.0.9", token: "${env.T}"`:                                 "would be sent in the clear to 10.0.0.9; write https://",
		`via: http, url: "https://10.0.0.9", user: a`:                                          "user and password belong together",
		`via: http, url: "https://10.0.0.9", user: a, password: "${env.P}", token: "${env.T}"`: "token and user stand together",
		`via: http, url: "https://10.0.0.9", tls: {cert: "-----BEGIN"}`:                        "cert and key belong together",
		`via: http`: "nobody is named who takes posts",
	} {
		says.Link(t, link, want)
	}
}
