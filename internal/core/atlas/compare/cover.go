package compare

import (
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// Cover goes through a whole edition and says what its merged answers cover.
func Cover(a *atlas.Atlas) atlas.Coverage {
	var c atlas.Coverage
	for _, space := range atlas.Spaces {
		atlas.Sweep(space, func(cell addr.Range) bool {
			rec, _, ok := a.Located(cell.First)
			switch {
			case ok:
				c.Add(&rec.Place, space.First.Is4(), atlas.Weight(cell))
			case !a.Holds(cell.First):
			case space.First.Is4():
				c.Nowhere.IPv4 += atlas.Weight(cell)
			default:
				c.Nowhere.IPv6 += atlas.Weight(cell)
			}
			return true
		}, a)
	}
	return c
}
