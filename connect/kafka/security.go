package kafka

import (
	"fmt"
	"strings"

	"github.com/twmb/franz-go/pkg/sasl"
	"github.com/twmb/franz-go/pkg/sasl/plain"
	"github.com/twmb/franz-go/pkg/sasl/scram"
)

// Mechanisms are the names of the ways to sign in that are known.
var Mechanisms = []string{"plain", "scram-sha-256", "scram-sha-512"}

// SignIn makes what signs a client in (RFC 4616, RFC 7677).
func SignIn(mechanism, user, password string) (sasl.Mechanism, error) {
	switch mechanism {
	case "plain":
		return plain.Auth{User: user, Pass: password}.AsMechanism(), nil
	case "scram-sha-256":
		return scram.Auth{User: user, Pass: password}.AsSha256Mechanism(), nil
	case "scram-sha-512":
		return scram.Auth{User: user, Pass: password}.AsSha512Mechanism(), nil
	}
	return nil, fmt.Errorf("%s is not a way to sign in; give one of %s", mechanism, strings.Join(Mechanisms, ", "))
}
