package request

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"eastporch/internal/core/invalid"
)

// otherwise are the names that frameworks and habits have for fields of ours, written as [bare]
// writes them.
var otherwise = map[string]string{
	"ip": "address", "ipaddress": "address", "ipaddr": "address", "clientip": "address", "visitorip": "address", "userip": "address", "remoteip": "peer", "remoteaddr": "peer", "remoteaddress": "peer",
	"agent": "user_agent", "ua": "user_agent", "browser": "user_agent", "httpuseragent": "user_agent",
	"url": "path", "uri": "path", "page": "path", "pathname": "path", "route": "path",
	"referer": "referrer", "ref": "referrer", "httpreferer": "referrer",
	"host": "site", "hostname": "site", "domain": "site", "website": "site",
	"timestamp": "time", "date": "time", "createdat": "time", "at": "time",
	"props": "attributes", "properties": "attributes", "custom": "attributes", "data": "attributes", "meta": "attributes", "metadata": "attributes",
	"header": "headers", "httpheaders": "headers", "campaign": "link", "country": "country_code", "region": "region_code", "lat": "latitude", "lon": "longitude", "lng": "longitude", "zone": "time_zone", "timezone": "time_zone",
}

// unknown is the error of a field that a body does not have, with the one that is meant where
// that can be told.
func unknown(field string, body any) error {
	reason := "this field is not known"
	if better := meant(field, fieldsOf(body)); better != "" {
		reason = fmt.Sprintf("this field is not known: did you mean %s?", better)
	}
	return invalid.Field(field, reason, "See /openapi.json for the fields.")
}

// meant gives the one of some names that another is a spelling of, "" for none.
func meant(name string, names []string) string {
	own := bare(name)
	for _, one := range names {
		if bare(one) == own {
			return one
		}
	}
	if one := otherwise[own]; slices.Contains(names, one) {
		return one
	}
	closest, least := "", 3
	for _, one := range names {
		if d := distance(own, bare(one)); d < least && d < len(own) {
			closest, least = one, d
		}
	}
	return closest
}

// bare writes a name without what only its spelling differs in: userAgent, User-Agent, user_agent.
func bare(name string) string {
	return strings.ToLower(strings.NewReplacer("_", "", "-", "", " ", "", ".", "").Replace(name))
}

// fieldsOf are the names that a body has in JSON.
func fieldsOf(body any) (names []string) {
	t := reflect.TypeOf(body)
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil || t.Kind() != reflect.Struct {
		return nil
	}
	for _, field := range reflect.VisibleFields(t) {
		if name, _, _ := strings.Cut(field.Tag.Get("json"), ","); name != "" && name != "-" {
			names = append(names, name)
		}
	}
	return names
}

// distance is how many bytes are put in, left out or changed between two texts (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := before
			if a[i] != b[j] {
				change++
			}
			before, row[j+1] = row[j+1], min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
