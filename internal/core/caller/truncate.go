package caller

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
)

// Truncate gives a copy of t in which every address is truncated, wherever it stands: hops,
// reasons and notes. Rules stay as the owner wrote them: they are of the owner's proxies.
// Text that is not an address is dropped, since it may hide one.
func (t Trail) Truncate() Trail {
	cut := t.rewrite(func(h *Hop) {
		h.Text = ""
		if h.Address.IsValid() {
			h.Address.Addr = addr.Truncate(h.Address.Addr)
			h.Text = h.Address.String()
		}
	})
	cut.notes(func(a netip.Addr) string { return addr.Truncate(a).String() })
	return cut
}

// notes edits the addresses in the notes, which may be no hops.
func (t *Trail) notes(edit func(netip.Addr) string) {
	for i, n := range t.Notes {
		words := strings.Fields(n)
		for j, w := range words {
			bare := strings.TrimRight(w, ".,:;")
			if a, ok := addr.Quick(bare); ok {
				words[j] = edit(a) + w[len(bare):]
			}
		}
		t.Notes[i] = strings.Join(words, " ")
	}
}

// Blank gives a copy of t in which a word stands for every address but those of
// trusted proxies: an unverified hop, too, may be the visitor's own.
func (t Trail) Blank(word string) Trail {
	blank := t.rewrite(func(h *Hop) {
		if h.Verdict != Trusted {
			h.Address, h.Text = addr.Optional{}, word
		}
	})
	blank.Visitor = addr.Optional{} // a trusted proxy where all hops were
	blank.notes(func(netip.Addr) string { return word })
	return blank
}

// Forget gives a copy of t in which a word stands for the visitor's address,
// wherever that stood.
func (t Trail) Forget(word string) Trail {
	gone := t.Visitor.Addr
	return t.rewrite(func(h *Hop) {
		if gone.IsValid() && h.Address.Addr == gone {
			h.Address, h.Text = addr.Optional{}, word
		}
	})
}

// rewrite edits a copy of every hop and carries what changed into the visitor
// and all sentences.
func (t Trail) rewrite(edit func(*Hop)) Trail {
	type change struct{ from, to string }
	var changes []change
	visitor := t.Visitor
	hops := slices.Clone(t.Hops)
	for i := range hops {
		h, old := &hops[i], t.Hops[i]
		edit(h)
		if old.Address.IsValid() && h.Address != old.Address {
			changes = append(changes, change{old.Address.String(), h.Text})
		}
		if visitor.IsValid() && old.Address == visitor {
			t.Visitor = h.Address
		}
		if h.Rule != nil { // whose address is no visitor's
			changes = append(changes, change{*h.Rule, *h.Rule})
		}
	}
	// The longest first: 198.18.3.4 must not cut into 198.18.3.40.
	slices.SortStableFunc(changes, func(a, b change) int { return cmp.Compare(len(b.from), len(a.from)) })
	replace := func(sentence string) string {
		if !slices.ContainsFunc(changes, func(c change) bool { return strings.Contains(sentence, c.from) }) {
			return sentence
		}
		var out strings.Builder
		for i := 0; i < len(sentence); {
			at := slices.IndexFunc(changes, func(c change) bool { return strings.HasPrefix(sentence[i:], c.from) })
			if at < 0 {
				out.WriteByte(sentence[i])
				i++
				continue
			}
			out.WriteString(changes[at].to)
			i += len(changes[at].from)
		}
		return out.String()
	}
	t.Reason = replace(t.Reason)
	t.Notes = slices.Clone(t.Notes)
	for i := range t.Notes {
		t.Notes[i] = replace(t.Notes[i])
	}
	for i := range hops {
		hops[i].Reason = replace(hops[i].Reason)
	}
	t.Hops = hops
	return t
}
