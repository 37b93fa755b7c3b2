// Package secure makes the settings of TLS from what documents say, for all kinds of connections.
package secure

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"

	"undertide/connect/settings"
	"undertide/disk"
)

// Settings are what documents say of TLS to somebody who may ask for a certificate of this side.
type Settings struct {
	CA         settings.PEMText `set:"ca" label:"authority (PEM)" about:"The authority that signed the other side's certificate: PEM, or the path of a file of it." hint:"empty: the system's authorities"`
	Cert       settings.PEMText `set:"cert" label:"certificate (PEM)" about:"This side's certificate: PEM, or the path of a file of it."`
	Key        settings.KeyText `set:"key" about:"Its key: ${secret.NAME}, ${env.NAME}, or the path of a file." hint:"${secret.NAME}, or the path of a file"`
	ServerName string           `set:"server_name" label:"name in its certificate" about:"The name in the other side's certificate, where it is not that of its address." hint:"empty: the host of the address"`
}

// Config makes what connections take; nil where there are no settings. host is the name in the certificate where none is said; empty where
// whoever connects knows it.
func (s *Settings) Config(files *disk.Files, host string) (*tls.Config, error) {
	if s == nil {
		return nil, nil
	}
	return TLS(files, string(s.CA), string(s.Cert), string(s.Key), cmp.Or(s.ServerName, host))
}

// Check says whether certificate and key stand together; has says whether a setting of a link stands in the document.
func (s *Settings) Check(has func(at ...string) bool, fault func(message, remedy string, at ...string)) {
	if s != nil && has("tls", "cert") != has("tls", "key") {
		fault("cert and key belong together", "give both or none", "tls")
	}
}

// TLS makes the settings of TLS. Each text is PEM, or the path of a file of it; files open paths; empty texts are left
// out: without ca the system's authorities count, without cert and key this side shows no certificate.
func TLS(files *disk.Files, ca, cert, key, serverName string) (*tls.Config, error) {
	out := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: serverName}
	if ca != "" {
		text, err := pemOf(files, "tls.ca", ca)
		if err != nil {
			return nil, err
		}
		out.RootCAs = x509.NewCertPool()
		if !out.RootCAs.AppendCertsFromPEM(text) {
			return nil, errors.New("tls.ca holds no certificate; give PEM that begins with -----BEGIN CERTIFICATE-----")
		}
	}
	if (cert == "") != (key == "") {
		return nil, errors.New("tls.cert and tls.key belong together; give both or none")
	}
	if cert == "" {
		return out, nil
	}
	c, err := pemOf(files, "tls.cert", cert)
	if err != nil {
		return nil, err
	}
	k, err := pemOf(files, "tls.key", key)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(c, k)
	if err != nil {
		return nil, fmt.Errorf("tls.cert and tls.key do not fit: %s; give the certificate and its own key, both as PEM", strings.TrimPrefix(err.Error(), "tls: "))
	}
	out.Certificates = []tls.Certificate{pair}
	return out, nil
}

// mostPEM bounds files of certificates: the authorities of a whole system have some 250 KiB.
const mostPEM = 1 << 20

func pemOf(files *disk.Files, what, text string) ([]byte, error) {
	if strings.HasPrefix(strings.TrimSpace(text), "-----BEGIN") {
		return []byte(text), nil
	}
	out, err := files.ReadFile(text, mostPEM)
	if err != nil && what == "tls.key" { // it may be a secret that is not a PEM: its text must not be shown
		return nil, errors.New("tls.key is neither PEM nor the path of a file that this program may read; give text that begins with -----BEGIN, or a path")
	}
	if err != nil {
		return nil, fmt.Errorf("%s: give PEM, or the path of a file of it that this program may read: %w", what, err)
	}
	return out, nil
}

// Why words what is wrong where TLS does not come about, with what would help; empty for an error that is none of TLS. Trying again does not
// help.
func Why(err error) string {
	var verify *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case errors.As(err, &verify):
		return fmt.Sprintf("its certificate is not trusted (%s); give the authority that signed it as tls.ca, and tls.server_name where the name differs", verify.Err)
	case errors.As(err, &record):
		return "it does not speak TLS here; leave tls out, or take the port that does"
	case errors.As(err, &alert):
		return fmt.Sprintf("it refuses this side's certificate (%s); check tls.cert and tls.key", alert.Error())
	}
	return ""
}

// Dial reaches an address over TCP, and over TLS where its settings are not nil.
func Dial(ctx context.Context, address string, secured *tls.Config) (net.Conn, error) {
	if secured != nil {
		return (&tls.Dialer{Config: secured}).DialContext(ctx, "tcp", address)
	}
	return (&net.Dialer{}).DialContext(ctx, "tcp", address)
}
