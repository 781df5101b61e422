package notice

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"time"
)

// Signature gives the header fields of a message to a webhook: its id as Idempotency-Key, the digest of its body
// (RFC 9530), and a signature over both and the time (RFC 9421, hmac-sha256, labelled porch).
func Signature(id string, body, key []byte, keyID string, at time.Time) map[string]string {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("content-digest" "idempotency-key");created=%d;keyid="%s";alg="hmac-sha256"`, at.Unix(), keyID)
	base := "\"content-digest\": " + digest + "\n\"idempotency-key\": \"" + id + "\"\n\"@signature-params\": " + params
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	return map[string]string{
		"Content-Digest": digest, "Idempotency-Key": `"` + id + `"`, "Signature-Input": "porch=" + params,
		"Signature": "porch=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":",
	}
}

// A Payload is the body of a message to a webhook. Facts are those that the layout has and that are known.
type Payload struct {
	ID      string            `json:"id"`
	Time    time.Time         `json:"time"`
	Site    string            `json:"site"`
	Notice  string            `json:"notice"`
	Test    bool              `json:"test"`
	Subject string            `json:"subject"`
	Text    string            `json:"text"`
	HTML    string            `json:"html,omitempty"`
	Facts   map[string]string `json:"facts"`
}
