package companion

import (
	"strconv"
	"strings"
	"time"
)

// Lifetime says for how long an answer is kept before the service is asked again: as long as the service says
// that it is fresh (RFC 9111: Cache-Control, Expires and Date, Age; as a cache that is shared), at least the
// minimum that the owner states, at most as long as it may be shown.
func (s *Said) Lifetime(header map[string][]string, now time.Time) time.Duration {
	least, most := time.Duration(s.KeepSeconds)*time.Second, time.Duration(s.OldestSeconds)*time.Second
	fresh, said := saidFresh(header, now)
	if !said {
		return least
	}
	if age, err := strconv.ParseInt(first(header["Age"]), 10, 32); err == nil && age > 0 {
		fresh -= time.Duration(age) * time.Second
	}
	return min(max(fresh, least), most)
}

func saidFresh(header map[string][]string, now time.Time) (fresh time.Duration, said bool) {
	directives := map[string]string{}
	for _, line := range header["Cache-Control"] {
		for one := range strings.SplitSeq(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
			directives[strings.ToLower(name)] = strings.Trim(value, `"`)
		}
	}
	for _, name := range []string{"no-store", "no-cache", "private"} {
		if _, ok := directives[name]; ok {
			return 0, true
		}
	}
	for _, name := range []string{"s-maxage", "max-age"} {
		if text, ok := directives[name]; ok {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < 0 {
				return 0, true // stale (RFC 9111, section 4.2.1)
			}
			return time.Duration(min(n, 1<<31)) * time.Second, true
		}
	}
	if text := first(header["Expires"]); text != "" {
		until, err := httpDate(text)
		if err != nil {
			return 0, true // in the past (RFC 9111, section 5.3)
		}
		if date, err := httpDate(first(header["Date"])); err == nil {
			now = date
		}
		return min(max(0, until.Sub(now)), 1<<31*time.Second), true
	}
	return 0, false
}

// httpDate reads a date in one of the three forms of RFC 9110, section 5.6.7.
func httpDate(text string) (t time.Time, err error) {
	for _, form := range []string{"Mon, 02 Jan 2006 15:04:05 GMT", time.RFC850, time.ANSIC} {
		if t, err = time.Parse(form, text); err == nil {
			break
		}
	}
	return t, err
}

func first(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}
