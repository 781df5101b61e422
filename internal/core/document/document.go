// Package document has what owners write down: content variants, the rules of gates, links, companions, notices, channels
// and corrections are documents, each of one kind. Begin with [Document] and [Set].
package document

import (
	"cmp"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"
)

// A Kind is what a document is of.
type Kind string

// The kinds. A name is unique within its site and kind; of links it is the code, unique in all sites; of rules it is "", since
// a site has one document of them; of corrections it is the range, and their site is "".
const (
	Variants   Kind = "variants"
	Gate       Kind = "gate"
	GateDraft  Kind = "gate-draft"
	Link       Kind = "link"
	Companion  Kind = "companion"
	Notice     Kind = "notice"
	Channel    Kind = "channel"
	Correction Kind = "correction"
)

// Kinds are all kinds that have a history, by which they go back: drafts have none.
func Kinds() []Kind {
	return []Kind{Variants, Gate, Link, Companion, Notice, Channel, Correction}
}

// Words are those of [Kinds].
func Words() (list []string) {
	for _, kind := range Kinds() {
		list = append(list, string(kind))
	}
	return list
}

// A Key tells a document from all others.
type Key struct {
	Site string `json:"site"`
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
}

// A Document is one revision of what an owner wrote down under a key.
type Document struct {
	Key
	Revision int64           `json:"revision"`          // 1 is the first of its key
	Change   int64           `json:"change"`            // grows with every change of any document
	Body     json.RawMessage `json:"body,omitempty"`    // nil where the document was dropped
	Changes  []string        `json:"changes,omitempty"` // since the revision before, in sentences, where its kind says so
	MadeBy   string          `json:"made_by"`
	MadeAt   time.Time       `json:"made_at"`
	// Who made the document, and when; a document that was dropped and is saved again is made anew.
	FirstBy string    `json:"first_by"`
	FirstAt time.Time `json:"first_at"`
}

// Errors of whatever keeps documents.
var (
	ErrNone     = errors.New("there is no document with this name")
	ErrChanged  = errors.New("the document was changed meanwhile")
	ErrTaken    = errors.New("another document has this name")
	ErrRevision = errors.New("the document never had this revision")
	ErrFull     = errors.New("the site has as many as there may be")
)

// Read reads the body of a document, which it was saved with.
func Read[T any](d *Document) (body T, err error) {
	err = json.Unmarshal(d.Body, &body)
	return body, err
}

// A Set is all documents that there are, as they were at one time. It never changes; the nil Set is empty.
type Set struct{ kinds map[Kind]*shelf }

// A shelf has the documents of one kind.
type shelf struct {
	change int64 // the highest
	by     map[[2]string]*Document
	sites  map[string][]*Document // in the order of their names
}

// With gives the set with newer revisions of some documents. An older revision than that of the set changes nothing, so
// that revisions may come in any order, and more than once.
func (s *Set) With(list []Document) *Set {
	next := &Set{kinds: map[Kind]*shelf{}}
	if s != nil {
		maps.Copy(next.kinds, s.kinds)
	}
	own := map[Kind]map[string]bool{} // the kinds that are copied already, and their sites that changed
	for i := range list {
		d := list[i]
		before := next.kinds[d.Kind]
		if before == nil {
			before = &shelf{}
		}
		key := [2]string{d.Site, d.Name}
		if old := before.by[key]; old != nil && old.Change >= d.Change {
			continue
		}
		if own[d.Kind] == nil {
			own[d.Kind] = map[string]bool{}
			fresh := &shelf{change: before.change, by: maps.Clone(before.by), sites: maps.Clone(before.sites)}
			if fresh.by == nil {
				fresh.by, fresh.sites = map[[2]string]*Document{}, map[string][]*Document{}
			}
			next.kinds[d.Kind] = fresh
		}
		of := next.kinds[d.Kind]
		of.by[key], of.change = &d, max(of.change, d.Change)
		own[d.Kind][d.Site] = true
	}
	for kind, sites := range own {
		of := next.kinds[kind]
		for site := range sites {
			of.sites[site] = nil
		}
		for key, d := range of.by {
			if sites[key[0]] && d.Body != nil {
				of.sites[key[0]] = append(of.sites[key[0]], d)
			}
		}
		for site := range sites {
			slices.SortFunc(of.sites[site], func(a, b *Document) int { return cmp.Compare(a.Name, b.Name) })
		}
	}
	return next
}

// Get gives the document of a key, nil for none.
func (s *Set) Get(key Key) *Document {
	if s == nil || s.kinds[key.Kind] == nil {
		return nil
	}
	if d := s.kinds[key.Kind].by[[2]string{key.Site, key.Name}]; d != nil && d.Body != nil {
		return d
	}
	return nil
}

// Of gives the documents of a kind and site in the order of their names. The caller must not change the list.
func (s *Set) Of(kind Kind, site string) []*Document {
	if s == nil || s.kinds[kind] == nil {
		return nil
	}
	return s.kinds[kind].sites[site]
}

// All gives the documents of a kind, by the order of their sites and names.
func (s *Set) All(kind Kind) (list []*Document) {
	if s == nil || s.kinds[kind] == nil {
		return nil
	}
	sites := s.kinds[kind].sites
	for _, site := range slices.Sorted(maps.Keys(sites)) {
		list = append(list, sites[site]...)
	}
	return list
}

// Change is the highest change of the documents of a kind; where it is that of another set, both have the same.
func (s *Set) Change(kind Kind) int64 {
	if s == nil || s.kinds[kind] == nil {
		return 0
	}
	return s.kinds[kind].change
}

// List gives all revisions that the set is made of, dropped ones too, in the order of their changes: [Set.With] makes the
// same set of them.
func (s *Set) List() (list []Document) {
	if s == nil {
		return nil
	}
	for _, of := range s.kinds {
		for _, d := range of.by {
			list = append(list, *d)
		}
	}
	slices.SortFunc(list, func(a, b Document) int { return cmp.Compare(a.Change, b.Change) })
	return list
}
