package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"strings"
)

// Digest is how a secret text is kept: by its SHA-256. The texts are 32 random bytes, so no salt is needed.
type Digest [sha256.Size]byte

// DigestOf gives the digest of a text.
func DigestOf(text string) Digest { return sha256.Sum256([]byte(text)) }

// tokenMark begins each token, so that whoever finds one in a file or a log knows what it is.
const tokenMark = "ut_"

// NewToken makes the text of a token: 32 random bytes. It is told once, and kept nowhere.
func NewToken() string { return tokenMark + randomText() }

// NewCode makes the text of a code that lets somebody in once.
func NewCode() string { return randomText() }

// IsToken says whether a text looks like one of [NewToken].
func IsToken(text string) bool {
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(text, tokenMark))
	return strings.HasPrefix(text, tokenMark) && err == nil && len(raw) == 32
}

func randomText() string {
	raw := make([]byte, 32)
	rand.Read(raw) // it never fails
	return base64.RawURLEncoding.EncodeToString(raw)
}
