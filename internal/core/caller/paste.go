package caller

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/textproto"
	"strings"
)

// ErrNoHeaders is wrapped by the errors of [ParsePasted].
var ErrNoHeaders = errors.New("no header lines were found")

// ParsePasted reads the headers of a request from what people paste: a block of
// header lines with or without the request line, the output of curl -v (where
// "> " begins what was sent), or a HAR file, of which the first entry counts.
// Lines that are no header are passed over; names become canonical. The error
// wraps [ErrNoHeaders].
func ParsePasted(text string) (map[string][]string, error) {
	if trimmed := strings.TrimSpace(text); strings.HasPrefix(trimmed, "{") {
		return parseHAR(trimmed)
	}
	verbose := false
	for line := range strings.Lines(text) {
		verbose = verbose || strings.HasPrefix(line, "> ")
	}
	header, last := map[string][]string{}, ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if verbose {
			sent, ok := strings.CutPrefix(line, ">")
			if !ok {
				continue
			}
			line = strings.TrimPrefix(sent, " ")
		}
		if last != "" && (strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t")) { // folded, as of old
			values := header[last]
			values[len(values)-1] += " " + strings.TrimSpace(line)
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if last = ""; !ok || !isToken(name) {
			continue
		}
		last = textproto.CanonicalMIMEHeaderKey(name)
		header[last] = append(header[last], strings.TrimSpace(value))
	}
	if len(header) == 0 {
		return nil, fmt.Errorf("%w: paste lines such as X-Forwarded-For: 198.18.7.114", ErrNoHeaders)
	}
	return header, nil
}

func isToken(s string) bool {
	for i := range len(s) {
		if !isTokenByte(s[i]) {
			return false
		}
	}
	return s != ""
}

func parseHAR(text string) (map[string][]string, error) {
	var har struct {
		Log struct {
			Entries []struct {
				Request struct {
					Headers []struct{ Name, Value string }
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(text), &har); err != nil {
		return nil, fmt.Errorf("%w: this is not a HAR file: %w", ErrNoHeaders, err)
	}
	if len(har.Log.Entries) == 0 {
		return nil, fmt.Errorf("%w: the HAR file has no entry", ErrNoHeaders)
	}
	header := map[string][]string{}
	for _, h := range har.Log.Entries[0].Request.Headers {
		if isToken(h.Name) { // which leaves out :authority and the like
			name := textproto.CanonicalMIMEHeaderKey(h.Name)
			header[name] = append(header[name], h.Value)
		}
	}
	return header, nil
}
