// Package keys has what a key, a session and a line of the audit log are; what they open is
// decided in the server.
package keys

import "slices"

// The scopes.
const (
	Nobody Scope = ""       // may do nothing that wants a key
	Page   Scope = "page"   // record a visit, read one's own card
	Server Scope = "server" // report and look up for others, give ids
	Admin  Scope = "admin"  // everything
)

var ladder = []Scope{Nobody, Page, Server, Admin}

// Includes says whether s may do what wants asks for.
func (s Scope) Includes(wants Scope) bool {
	return slices.Index(ladder, s) >= slices.Index(ladder, wants)
}

// Valid says whether s is a scope that a key can have.
func (s Scope) Valid() bool { return s == Page || s == Server || s == Admin }

// MayUse says whether the key may be used for a site.
func (k *Key) MayUse(site string) bool {
	return len(k.Sites) == 0 || slices.Contains(k.Sites, site)
}

// Allows says whether a page of an origin may use the key.
func (k *Key) Allows(origin string) bool { return slices.Contains(k.Origins, origin) }
