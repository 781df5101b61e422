package companion

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Mask stands wherever a secret would.
const Mask = "••••"

// VariablePrefix is what the names of variables begin with that may be secrets of companions.
const VariablePrefix = "EASTPORCH_SECRET_"

var (
	secretFile     = regexp.MustCompile(`^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$`)
	secretVariable = regexp.MustCompile(`^` + VariablePrefix + `[A-Z0-9_]{1,50}$`)
)

// SecretName reads what a parameter says of its secret: a file in the directory of secrets or a variable, by
// its name. ok is false for anything else, such as a path.
func SecretName(text string) (file, variable string, ok bool) {
	if name, is := strings.CutPrefix(text, "file:"); is {
		return name, "", secretFile.MatchString(name)
	}
	name, is := strings.CutPrefix(text, "env:")
	return "", name, is && secretVariable.MatchString(name)
}

// Bounds of a secret, in bytes: a shorter one would be masked wherever an answer has these letters.
const (
	secretLeast = 8
	secretMost  = 4096
)

// CheckSecret cleans a secret as it stands in a file or variable. The error tells nothing of it.
func CheckSecret(text string) (string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return "", fmt.Errorf("it is empty")
	case len(text) < secretLeast:
		return "", fmt.Errorf("it has fewer than %d characters, and could not be kept out of what is shown", secretLeast)
	case len(text) > secretMost:
		return "", fmt.Errorf("it has more than %d bytes", secretMost)
	case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' }):
		return "", fmt.Errorf("it has other characters than printable ASCII on one line")
	}
	return text, nil
}

// Secrets are the values of secrets, by what parameters say.
type Secrets map[string]string

// Hide puts [Mask] wherever a text holds a secret, also as it is written in addresses, JSON, HTML and base64.
func (s Secrets) Hide(text string) string {
	if text == "" {
		return ""
	}
	for _, secret := range s {
		for _, form := range forms(secret) {
			text = strings.ReplaceAll(text, form, Mask)
		}
	}
	return text
}

// forms are the ways in which a service may give a secret back, the longest first.
func forms(secret string) []string {
	inJSON, _ := json.Marshal(secret) // a string always marshals
	list := []string{
		secret, url.QueryEscape(secret), url.PathEscape(secret), html.EscapeString(secret), string(inJSON[1 : len(inJSON)-1]),
		base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawStdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)),
	}
	if _, token, ok := strings.Cut(secret, " "); ok && len(token) >= secretLeast { // such as Bearer TOKEN
		list = append(list, forms(token)...)
	}
	slices.SortStableFunc(list, func(a, b string) int { return len(b) - len(a) })
	return slices.Compact(list)
}
