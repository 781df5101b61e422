// Package secret has the names of secrets, and keeps their values out of what is shown.
package secret

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

// VariablePrefix is what the names of variables begin with that may be secrets.
const VariablePrefix = "EASTPORCH_SECRET_"

var (
	fileName     = regexp.MustCompile(`^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$`)
	variableName = regexp.MustCompile(`^` + VariablePrefix + `[A-Z0-9_]{1,50}$`)
)

// Name reads what names a secret: a file in the directory of secrets or a variable, by
// its name. ok is false for anything else, such as a path.
func Name(text string) (file, variable string, ok bool) {
	if name, is := strings.CutPrefix(text, "file:"); is {
		return name, "", fileName.MatchString(name)
	}
	name, is := strings.CutPrefix(text, "env:")
	return "", name, is && variableName.MatchString(name)
}

// Bounds of a secret, in bytes: a shorter one would be masked wherever these letters stand.
const (
	least = 8
	most  = 4096
)

// Check cleans a secret as it stands in a file or variable. The error tells nothing of it.
func Check(text string) (string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return "", fmt.Errorf("it is empty")
	case len(text) < least:
		return "", fmt.Errorf("it has fewer than %d characters, and could not be kept out of what is shown", least)
	case len(text) > most:
		return "", fmt.Errorf("it has more than %d bytes", most)
	case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' }):
		return "", fmt.Errorf("it has other characters than printable ASCII on one line")
	}
	return text, nil
}

// Values are the values of secrets, by their names.
type Values map[string]string

// Hide puts [Mask] wherever a text holds a secret, also as it is written in addresses, JSON, HTML and base64.
func (s Values) Hide(text string) string {
	if text == "" {
		return ""
	}
	for _, secret := range s {
		for _, form := range Forms(secret) {
			text = strings.ReplaceAll(text, form, Mask)
		}
	}
	return text
}

// Forms are the ways in which a secret may come back, the longest first.
func Forms(secret string) []string {
	inJSON, _ := json.Marshal(secret) // a string always marshals
	list := []string{
		secret, url.QueryEscape(secret), url.PathEscape(secret), html.EscapeString(secret), string(inJSON[1 : len(inJSON)-1]),
		base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawStdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)),
	}
	if _, token, ok := strings.Cut(secret, " "); ok && len(token) >= least { // such as Bearer TOKEN
		list = append(list, Forms(token)...)
	}
	slices.SortStableFunc(list, func(a, b string) int { return len(b) - len(a) })
	return slices.Compact(list)
}
