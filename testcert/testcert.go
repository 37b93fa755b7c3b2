// Package testcert makes certificates for tests, and for them alone.
package testcert

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Made is a certificate that signs itself.
type Made struct {
	Cert, Key string // paths of PEM files, the key readable by its owner alone
	// Pin is the digest by which Chromium can be told to trust its key.
	Pin string
}

// Make makes a certificate for a name and addresses in a folder, in place of that of before; it ends after some time from now.
func Make(t testing.TB, dir, name string, lasts time.Duration, at ...net.IP) Made {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	about := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-2 * time.Hour), NotAfter: now.Add(lasts), DNSNames: []string{name}, IPAddresses: at,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IsCA: true, BasicConstraintsValid: true}
	raw, err := x509.CreateCertificate(rand.Reader, about, about, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	rawKey, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	public, err := x509.MarshalPKIXPublicKey(&private.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	pin := sha256.Sum256(public)
	out := Made{Cert: filepath.Join(dir, "cert.pem"), Key: filepath.Join(dir, "key.pem"), Pin: base64.StdEncoding.EncodeToString(pin[:])}
	write := func(path, kind string, raw []byte, rights os.FileMode) {
		if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}), rights); err != nil {
			t.Fatal(err)
		}
	}
	write(out.Cert, "CERTIFICATE", raw, 0o644)
	write(out.Key, "PRIVATE KEY", rawKey, 0o600)
	return out
}
