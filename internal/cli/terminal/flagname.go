package terminal

import (
	"strings"

	"eastporch/internal/core/atlas"
)

// FlagName is a field as a flag has it.
func FlagName(field string) string { return strings.ReplaceAll(field, "_", "-") }

// Place names the finest thing that is known.
func Place(w atlas.Location) string {
	switch {
	case w.Names.City != nil:
		return *w.Names.City
	case w.Names.Region != nil:
		return *w.Names.Region
	case w.Names.Country != nil:
		return *w.Names.Country
	}
	return "–"
}
