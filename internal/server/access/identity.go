package access

import "fmt"

// An Identity is who asks: a key, a session, or nobody.
type Identity struct {
	Scope   Scope
	Key     *Key     // nil for a session and for nobody
	Session *Session // nil for a key and for nobody
}

// Maker is the identity as who makes a key.
func (w Identity) Maker() Maker {
	m := Maker{Name: w.Actor()}
	switch {
	case w.Key != nil:
		m.Key = &w.Key.ID
	case w.Session != nil:
		m.Key, m.Session = w.Session.Key, &w.Session.ID
	}
	return m
}

// Actor names the identity in the audit log.
func (w Identity) Actor() string {
	switch {
	case w.Key != nil:
		return "key " + w.Key.Name
	case w.Session != nil:
		return "session by " + w.Session.How
	}
	return "nobody"
}

// A ScopeError says that a key or session may not do something. It is only said to those who
// have a valid one.
type ScopeError struct{ Has, Wants Scope }

func (e *ScopeError) Error() string {
	return fmt.Sprintf("It has the scope %s; this wants %s.", e.Has, e.Wants)
}

// A SiteError says that a key may not be used for a site.
type SiteError struct{ Site string }

func (e *SiteError) Error() string { return fmt.Sprintf("This key may not be used for %s.", e.Site) }
