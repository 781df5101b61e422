// Package signed writes what somebody else keeps for us, and says whether it came back unchanged: JSON and
// its HMAC-SHA-256 (RFC 2104), each in base64url, with a point between them, so that it can stand in a
// cookie, a header field and a URL.
package signed

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
)

// Errors of [Open].
var (
	ErrForged     = errors.New("it was not signed with this key")
	ErrUnreadable = errors.New("it cannot be read")
)

// Most bounds what is read, in bytes.
const Most = 4096

var encoding = base64.RawURLEncoding.Strict()

// Key derives the key of one purpose from a secret, so that what was signed for one is worth nothing for
// another.
func Key(secret []byte, purpose string) []byte { return mac(purpose, secret) }

// Sign writes a value that JSON can hold.
func Sign(value any, key []byte) string {
	text, err := json.Marshal(value)
	if err != nil {
		panic("signed: " + err.Error()) // it is a type of ours
	}
	body := encoding.EncodeToString(text)
	return body + "." + encoding.EncodeToString(mac(body, key))
}

func mac(body string, key []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(body))
	return h.Sum(nil)
}

// Open reads what [Sign] wrote with the same key. Whether its time is over is for the caller to say.
func Open(text string, key []byte, into any) error {
	body, sum, ok := strings.Cut(text, ".")
	given, err := encoding.DecodeString(sum)
	if !ok || err != nil || len(text) > Most || !hmac.Equal(given, mac(body, key)) {
		return ErrForged
	}
	plain, err := encoding.DecodeString(body)
	if err != nil || json.Unmarshal(plain, into) != nil {
		return ErrUnreadable
	}
	return nil
}
