package access

import (
	"context"
	"fmt"
	"sync"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
)

// How long a password may be, in characters. Nothing else is asked of it (NIST SP 800-63B, 3.1.1.2).
const (
	LeastPassword = 12
	MostPassword  = 200
)

// CheckPassword says what is wrong with a password that somebody chose.
func CheckPassword(text string) error {
	switch n := utf8.RuneCountInString(text); {
	case n < LeastPassword:
		return fmt.Errorf("the password has %d characters; give it at least %d: a few words are good", n, LeastPassword)
	case n > MostPassword:
		return fmt.Errorf("the password has %d characters; give it at most %d", n, MostPassword)
	}
	return nil
}

// cost is what a password costs to try: 19 MiB and two passes, as OWASP's cheat sheet for passwords gives as the least for
// argon2id (RFC 9106).
var cost = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// atWork bounds how many passwords are worked out at once, and with them the memory: 4 times 19 MiB.
var atWork = make(chan struct{}, 4)

// HashPassword gives the text by which a password is known again (argon2id, in the usual form `$argon2id$v=19$…`).
func HashPassword(ctx context.Context, text string) (hash string, err error) {
	err = taking(ctx, func() error {
		hash, err = argon2id.CreateHash(text, cost)
		return err
	})
	return hash, err
}

// decoy is the hash of a password that nobody has: where there is no such person it is compared all the same, so that the
// time of an answer does not tell which names there are.
var decoy = sync.OnceValues(func() (string, error) { return argon2id.CreateHash(randomText(), cost) })

// SamePassword says whether a password is the one of a hash. With an empty hash it is not, after as much work.
func SamePassword(ctx context.Context, text, hash string) (same bool, err error) {
	none := hash == ""
	if none {
		if hash, err = decoy(); err != nil {
			return false, err
		}
	}
	err = taking(ctx, func() error {
		same, err = argon2id.ComparePasswordAndHash(text, hash)
		return err
	})
	return same && !none, err
}

func taking(ctx context.Context, do func() error) error {
	select {
	case atWork <- struct{}{}:
		defer func() { <-atWork }()
		return do()
	case <-ctx.Done():
		return ctx.Err()
	}
}
