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

// A Secret is what the holder of a token knows beside its ID: 26 letters and digits with
// 130 random bits.
type Secret string

// NewSecret draws a secret.
func NewSecret() Secret { return Secret(strings.ToLower(rand.Text())) }

func newID() string { return strings.ToLower(rand.Text()[:8]) }

// A Hash is what is kept of a secret, which is too long to be found by trying: its
// SHA-256, in hex.
type Hash string

// Hash gives the hash of a secret.
func (s Secret) Hash() Hash {
	sum := sha256.Sum256([]byte(s))
	return Hash(hex.EncodeToString(sum[:]))
}

// Of says whether it is the hash of a secret, in a time that tells nothing of it.
func (h Hash) Of(s Secret) bool {
	return subtle.ConstantTimeCompare([]byte(s.Hash()), []byte(h)) == 1
}

// From derives a secret from this one, for an ID: whoever has this one can tell it again.
func (s Secret) From(id string) Secret {
	mac := hmac.New(sha256.New, []byte(s))
	_, _ = mac.Write([]byte(id)) // which never fails
	return Secret(strings.ToLower(base32.StdEncoding.EncodeToString(mac.Sum(nil))[:26]))
}

// A kept token is a grant with the hash of its secret, as it is stored.
type kept struct {
	Grant
	hash Hash
}

func (k *kept) fields(may, until, made *string) []scan.Field {
	return []scan.Field{
		scan.Always("hash", (*string)(&k.hash)), scan.Always("may", may), scan.Maybe("label", &k.Label), scan.Maybe("prefix", &k.Prefix),
		scan.Maybe("until", until), scan.Always("made", made), scan.Maybe("by", &k.By),
	}
}

// stored gives the token as it is stored.
func (k kept) stored() (value.Value, error) {
	may, until, made := k.May.String(), moment(k.Until), moment(k.Made)
	return value.ParseAny(scan.AppendFields(nil, k.fields(&may, &until, &made)...))
}

// readKept reads a token as it is stored.
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

// moment gives a time as text; empty: none.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}
