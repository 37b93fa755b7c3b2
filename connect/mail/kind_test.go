package mail_test

import (
	"testing"

	"undertide/job/says"
)

// TestSettings: what is wrong with mails and with their server is said with its remedy.
func TestSettings(t *testing.T) {
	for with, want := range map[string]string{
		"{connection: post, to: [a@example.org], subject: '{crane}', quiet: 1m}":                     "",
		"{connection: post, to: [a@example.org], subject: '{crane}', template: '{held}', quiet: 1m}": "",
		"{connection: post, to: [nobody], subject: a, quiet: 1m}":                                    `"nobody" is not an address of a mail`,
		"{connection: post, to: [], subject: a, quiet: 1m}":                                          "it is not said to whom mails go",
		"{connection: post, to: [a@example.org], quiet: 1m}":                                         "the subject is not said",
		"{connection: post, to: [a@example.org], subject: '{cran}', quiet: 1m}":                      "the rows have no field cran; did you mean crane?",
		"{connection: post, to: [a@example.org], subject: a, quiet: 1m}, encode: json":               "a mail is what its template says",
		"{connection: post, to: [a@example.org], subject: a, quiet: 1m, refused: no}":                "is not one of stop, pass",
	} {
		says.Sink(t, "via: mail, with: "+with, want)
	}
	for link, want := range map[string]string{
		`via: mail, address: "mail.example.org:587", from: a@example.org, user: a, password: "${env.P}"`: "",
		`via: mail, address: "127.0.0.1:25", from: a@example.org, tls: {mode: none}`:                     "",
		`via: mail, address: "mail.example.org:25", from: a@example.org, tls: {mode: none}`:              "mails would go in the clear to mail.example.org",
		`via: mail, address: "mail.example.org", from: a@example.org`:                                    "is not an address of a mail server",
		`via: mail, address: "mail.example.org:25", from: nobody`:                                        `"nobody" is not an address of a mail`,
		`via: mail, address: "mail.example.org:25", from: a@example.org, user: a`:                        "user and password belong together",
		`via: mail, address: "mail.example.org:25"`:                                                      "it is not said from whom mails are",
	} {
		says.Link(t, link, want)
	}
}
