package access

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/hex"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Secret is the secret part of a token: 26 letters and digits with 130 random bits.
type Secret string

// NewSecret returns a random secret.
func NewSecret() Secret { return Secret(strings.ToLower(rand.Text())) }

func newID() string { return strings.ToLower(rand.Text()[:8]) }

// A Hash is the SHA-256 of a secret, in hex. The secret is too long to be guessed from it.
type Hash string

// Hash returns the hash of a secret.
func (s Secret) Hash() Hash {
	sum := sha256.Sum256([]byte(s))
	return Hash(hex.EncodeToString(sum[:]))
}

// Of reports whether h is the hash of a secret, in constant time.
func (h Hash) Of(s Secret) bool {
	return subtle.ConstantTimeCompare([]byte(s.Hash()), []byte(h)) == 1
}

// From derives a secret for an ID from s, reproducibly.
func (s Secret) From(id string) Secret {
	mac := hmac.New(sha256.New, []byte(s))
	_, _ = mac.Write([]byte(id)) // it never fails
	return Secret(strings.ToLower(base32.StdEncoding.EncodeToString(mac.Sum(nil))[:26]))
}

// A kept token is a stored grant with the hash of its secret.
type kept struct {
	Grant
	life          string // of the board
	hash          Hash
	request, body string // see Once; empty without one
}

func (k *kept) fields(may, until, made *string) []scan.Field {
	return []scan.Field{
		scan.Always("life", &k.life), scan.Always("hash", (*string)(&k.hash)), scan.Always("may", may), scan.Maybe("label", &k.Label), scan.Maybe("prefix", &k.Prefix),
		scan.Maybe("until", until), scan.Always("made", made), scan.Maybe("by", &k.By),
		scan.Maybe("request", &k.request), scan.Maybe("body", &k.body),
	}
}

// stored returns the token's stored form.
func (k kept) stored() (value.Value, error) {
	may, until, made := k.May.String(), moment(k.Until), moment(k.Made)
	return value.ParseAny(scan.AppendFields(nil, k.fields(&may, &until, &made)...))
}

// readKept reads a token's stored form.
func readKept(id string, v value.Value) (k kept, err error) {
	var may, until, made string
	if err = scan.ReadFields(v.AppendJSON(nil), value.MaxDepth, k.fields(&may, &until, &made)...); err == nil {
		k.May, err = ParseRight(may)
	}
	k.ID = id
	for text, at := range map[string]*time.Time{until: &k.Until, made: &k.Made} {
		if text != "" && err == nil {
			*at, err = time.Parse(time.RFC3339Nano, text)
		}
	}
	if err != nil {
		return kept{}, refuse.As(value.ErrInvalid, "the token %s can't be read: %v", scan.Quote(id), err)
	}
	return k, nil
}

// moment returns a time as text, or "" for the zero time.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}
