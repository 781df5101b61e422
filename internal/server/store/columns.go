package store

import (
	"bytes"
	"encoding/json"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"eastporch/internal/core/visit"
)

// An insertRow is a visit that is about to be stored.
type insertRow struct {
	*visit.Row
	at    time.Time
	facts *sharedFacts
}

// A column of the table visit: how it is written and, where a stored visit is made of it, read.
type column struct {
	name string
	kind string // its type in PostgreSQL
	// reported is true of what a visit was reported with: visits of one id that differ in it are two.
	reported bool
	value    func(*insertRow) any
	read     func(*readRow) any // where to scan it into; nil where nothing reads it
}

// columns are all of the table visit but the sequence number and the facts of older editions.
var columns = []column{
	{name: "id", kind: "uuid", value: func(r *insertRow) any { return r.ID }, read: func(r *readRow) any { return &r.ID }},
	{name: "time", kind: "timestamptz", value: func(r *insertRow) any { return r.at }},
	{name: "site", kind: "text", reported: true, value: func(r *insertRow) any { return r.Site }, read: func(r *readRow) any { return &r.Site }},
	{name: "path", kind: "text", reported: true, value: func(r *insertRow) any { return r.Path }, read: func(r *readRow) any { return &r.Path }},
	{name: "referrer", kind: "text", reported: true, value: func(r *insertRow) any { return r.Referrer }, read: func(r *readRow) any { return &r.Referrer }},
	{name: "referrer_host", kind: "text", value: func(r *insertRow) any { return null(visit.ReferrerHost(r.Referrer, r.Site)) }},
	{name: "user_agent", kind: "text", reported: true, value: func(r *insertRow) any { return r.UserAgent }, read: func(r *readRow) any { return &r.UserAgent }},
	{name: "agent", kind: "text", value: func(r *insertRow) any { return null(visit.AgentFamily(r.UserAgent)) }},
	{name: "link", kind: "text", reported: true, value: func(r *insertRow) any { return r.Link }, read: func(r *readRow) any { return &r.Link }},
	{name: "destination", kind: "text", value: func(r *insertRow) any { return r.Destination }, read: func(r *readRow) any { return &r.Destination }},
	{name: "attributes", kind: "jsonb", reported: true, value: attributesOf, read: func(r *readRow) any { return &r.attributes }},
	{name: "marks", kind: "text[]", value: func(r *insertRow) any { return list(r.Marks) }, read: func(r *readRow) any { return &r.Marks }},
	{name: "counted", kind: "boolean", value: func(r *insertRow) any { return r.Counted() }},
	{name: "address", kind: "inet", reported: true, value: addressOf},
	{name: "placeholder", kind: "text", value: func(r *insertRow) any { return r.Placeholder }},
	{name: "kind", kind: "text", value: kindOf},
	{name: "skipped", kind: "boolean", value: func(r *insertRow) any { return r.Skipped }},
	{name: "country_code", kind: "text", value: func(r *insertRow) any { return r.facts.country }},
	{name: "basis", kind: "text", value: func(r *insertRow) any { return r.facts.basis }},
	{name: "place", kind: "bigint", value: func(r *insertRow) any { return r.facts.place[r.facts.state(r.Row)] }},
	{name: "network", kind: "text", value: func(r *insertRow) any { return r.facts.network }},
	{name: "labels", kind: "text[]", value: func(r *insertRow) any { return list(r.Labels) }},
	{name: "language", kind: "text", value: func(r *insertRow) any { return r.Language }},
	{name: "week_hour", kind: "smallint", value: func(r *insertRow) any { return r.WeekHour }},
	{name: "gate", kind: "text", value: func(r *insertRow) any { return null(r.Gate) }},
	{name: "unverified", kind: "integer", value: func(r *insertRow) any { return r.Unverified }},
	{name: "visitor_hash", kind: "bigint", value: func(r *insertRow) any { return pgtype.Int8{Int64: r.VisitorHash, Valid: r.VisitorHash != 0} }, read: func(r *readRow) any { return &r.visitorHash }},
	{name: "facts", kind: "uuid", value: func(r *insertRow) any { return r.FactsID }},
	{name: "card", kind: "json", value: func(r *insertRow) any { return string(r.Card) }, read: func(r *readRow) any { return &r.card }},
	{name: "trail", kind: "json", value: func(r *insertRow) any { return string(r.Trail) }, read: func(r *readRow) any { return &r.trail }},
}

func attributesOf(r *insertRow) any {
	if len(r.Attributes) == 0 {
		return nil
	}
	return string(r.Attributes)
}

func addressOf(r *insertRow) any {
	if !r.Address.IsValid() {
		return nil
	}
	return r.Address.Addr
}

func kindOf(r *insertRow) any {
	if r.Kind == nil {
		return nil
	}
	return r.Kind.String()
}

// columnNames are the names of [columns].
func columnNames() []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.name
	}
	return names
}

func (r *insertRow) values() []any {
	values := make([]any, len(columns), len(columns)+1)
	for i, c := range columns {
		values[i] = c.value(r)
	}
	return values
}

// reported lists the columns that a visit was reported with, each behind a prefix.
func reported(prefix string) string {
	var names []string
	for _, c := range columns {
		if c.reported {
			names = append(names, prefix+c.name)
		}
	}
	return strings.Join(names, ", ")
}

// A readRow is a stored visit that is being read.
type readRow struct {
	visit.Row
	attributes, card, trail *string
	visitorHash             *int64
	facts                   string
	earlier                 []string
}

// selectVisit reads visits with what belongs to them; see [scan].
var selectVisit = `SELECT ` + readColumns() + ` FROM visit JOIN edition_facts ON edition_facts.id = visit.facts `

func readColumns() string {
	var names []string
	for _, c := range columns {
		switch {
		case c.read == nil:
		case c.kind == "json" || c.kind == "jsonb":
			names = append(names, "visit."+c.name+"::text")
		default:
			names = append(names, "visit."+c.name)
		}
	}
	return strings.Join(names, ", ") + `, edition_facts.body::text,
		ARRAY(SELECT e.body::text FROM unnest(earlier) WITH ORDINALITY u(id, n) JOIN edition_facts e USING (id) ORDER BY n), visit.sequence`
}

// scan reads a visit that selectVisit gave, and its sequence number.
func scan(row pgx.CollectableRow) (v visit.StoredVisit, err error) {
	var r readRow
	var into []any
	for _, c := range columns {
		if c.read != nil {
			into = append(into, c.read(&r))
		}
	}
	if err := row.Scan(append(into, &r.facts, &r.earlier, &v.Sequence)...); err != nil {
		return v, err
	}
	r.Card, r.Trail = json.RawMessage(*r.card), json.RawMessage(*r.trail)
	if r.attributes != nil {
		var short bytes.Buffer
		_ = json.Compact(&short, []byte(*r.attributes)) // which PostgreSQL wrote
		r.Attributes = short.Bytes()
	}
	if r.visitorHash != nil {
		r.VisitorHash = *r.visitorHash
	}
	if v.Visit, err = r.Visit(json.RawMessage(r.facts)); err != nil {
		return v, err
	}
	for _, text := range r.earlier {
		var f visit.EditionFacts
		if err := json.Unmarshal([]byte(text), &f); err != nil {
			return v, err
		}
		v.Visit.Earlier = append(v.Visit.Earlier, visit.EarlierFacts{Edition: f.Edition.Name, Location: f.Location, Network: f.Network})
	}
	return v, nil
}

func scanVisit(row pgx.CollectableRow) (visit.Visit, error) {
	v, err := scan(row)
	return v.Visit, err
}
