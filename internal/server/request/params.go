package request

import (
	"fmt"
	"math"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/locale"
)

// Int reads a whole number of the query within bounds; normal is what it is where it is not given.
func Int(c *gin.Context, name string, normal, least, most int) (int, error) {
	text := c.Query(name)
	if text == "" {
		return normal, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most {
		return 0, invalid.Field(name, fmt.Sprintf("%.20q is not a number from %d to %d", text, least, most), "Leave it out for "+strconv.Itoa(normal)+".")
	}
	return n, nil
}

// Time reads a parameter that is a time (RFC 3339).
func Time(c *gin.Context, name string, normal time.Time) (time.Time, error) {
	text := c.Query(name)
	if text == "" {
		return normal, nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, invalid.Field(name, fmt.Sprintf("%.40q is not a time", text), "Write it like 2026-11-14T06:00:00Z.")
	}
	return t, nil
}

// Page reads the limit and the cursor of a list.
func Page(c *gin.Context) (limit int, before uuid.UUID, err error) {
	limit = 50
	if text := c.Query("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > 500 {
			return 0, before, invalid.Field("limit", fmt.Sprintf("%.20q is not a number from 1 to 500", text), "Leave it out for 50.")
		}
	}
	if text := c.Query("cursor"); text != "" {
		if before, err = uuid.Parse(text); err != nil {
			return 0, before, invalid.Field("cursor", "it is not one of ours", "Give the next of the page before, unchanged.")
		}
	}
	return limit, before, nil
}

// Cut gives a page of a list that was asked for one more than its limit, and the cursor of
// the next, nil where this is the last.
func Cut[T any](list []T, limit int, id func(T) uuid.UUID) (page []T, next *string) {
	page = append([]T{}, list...)
	if len(page) > limit {
		page = page[:limit]
		cursor := id(page[limit-1]).String()
		next = &cursor
	}
	return page, next
}

// ID reads the id in the path.
func ID(c *gin.Context) (uuid.UUID, error) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		return id, invalid.Field("id", "this is not a UUID", "Give the id from the list.")
	}
	return id, nil
}

// Point reads latitude and longitude, or a geo URI (RFC 5870).
func Point(c *gin.Context) (p geo.Point, given bool, err error) {
	if uri := c.Query("at"); uri != "" {
		if p, _, err = geo.ParseURI(uri); err != nil {
			return p, true, invalid.Field("at", err.Error(), "Write it like geo:38.72,-9.14, or give latitude and longitude.")
		}
		return p, true, nil
	}
	lat, lon := c.Query("latitude"), c.Query("longitude")
	if lat == "" && lon == "" {
		return p, false, nil
	}
	for _, n := range []struct {
		name, text string
		to         *float64
		most       float64
	}{{"latitude", lat, &p.Latitude, 90}, {"longitude", lon, &p.Longitude, 180}} {
		v, err := strconv.ParseFloat(n.text, 64)
		if err != nil || math.IsNaN(v) || math.Abs(v) > n.most {
			hint := "Give both latitude and longitude in degrees."
			if n.name == "latitude" && err == nil && math.Abs(v) <= 180 {
				hint = "Are latitude and longitude swapped?"
			}
			return p, true, invalid.Field(n.name, fmt.Sprintf("%.20q is not a number from %g to %g", n.text, -n.most, n.most), hint)
		}
		*n.to = v
	}
	return p, true, nil
}

// RequiredPoint is [Point] where there must be one.
func RequiredPoint(c *gin.Context) (geo.Point, error) {
	p, given, err := Point(c)
	if err == nil && !given {
		err = invalid.Field("latitude, longitude", "they are missing", "Give both in degrees, or at=geo:38.72,-9.14.")
	}
	return p, err
}

// Language reads the language of names and texts, BCP 47.
func Language(c *gin.Context, fallback string) (string, error) {
	text := c.Query("language")
	if text == "" {
		return fallback, nil
	}
	if _, err := locale.NewLanguages([]string{text}, ""); err != nil {
		return "", invalid.Field("language", err.Error(), "Write it like pt-PT.")
	}
	return text, nil
}

// Cookie finds a cookie without reading all of them.
func Cookie(header map[string][]string, name string) string {
	for _, line := range header["Cookie"] {
		for part := range strings.SplitSeq(line, ";") {
			if key, value, ok := strings.Cut(textproto.TrimString(part), "="); ok && key == name {
				return value
			}
		}
	}
	return ""
}

// waitMost bounds how long a request waits for its visits to be stored.
const waitMost = 20 * time.Second

// A Preference is what a sender prefers (RFC 7240).
type Preference struct {
	Representation bool          // return=representation
	Wait           time.Duration // wait=
	Applied        string        // what of it is honoured
}

// Preferences reads what the sender prefers; what is not known is left out.
func Preferences(c *gin.Context) (p Preference) {
	var applied []string
	for _, line := range c.Request.Header.Values("Prefer") {
		for part := range strings.SplitSeq(line, ",") {
			word := strings.ToLower(strings.TrimSpace(part))
			seconds, isWait := strings.CutPrefix(word, "wait=")
			switch n, err := strconv.Atoi(seconds); {
			case word == "return=representation":
				p.Representation = true
			case isWait && err == nil && n > 0:
				p.Wait = min(time.Duration(n)*time.Second, waitMost)
			default:
				continue
			}
			applied = append(applied, word)
		}
	}
	p.Applied = strings.Join(applied, ", ")
	return p
}
