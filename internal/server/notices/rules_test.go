package notices

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
)

// TestARuleThatWouldSendTenThousand sends one, and says what it left out.
func TestARuleThatWouldSendTenThousand(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.save(t, "label", byLabel())
	many := slices.Repeat([]string{"198.18.3.40"}, 2500)
	for range 4 {
		h.come(t, []string{"office"}, many...)
		h.turn(t)
	}
	require.Len(t, h.sink.Taken(), 1)
	list, err := h.List(t.Context(), h.site)
	require.NoError(t, err)
	assert.Equal(t, int64(9999), list.Notices[0].LeftOut)
	sums, err := h.Messages(t.Context(), h.site, "", uuid.Nil, 10)
	require.NoError(t, err)
	assert.Equal(t, notice.Sums{Delivered: 1, LeftOut: 9999}, sums.Sums)
	h.mu.Lock()
	h.ahead = 25 * time.Hour
	h.mu.Unlock()
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 2, "a day later there may be another")
}

// TestQuietAndDigest: what comes in the night waits, and is one mail in the morning that says what it lacks.
func TestQuietAndDigest(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	now := h.Now().In(h.aspect(h.site).Zone)
	s := firstVisit()
	s.Quiet = &notice.Quiet{From: now.Add(-time.Hour).Format("15:04"), To: now.Add(time.Hour).Format("15:04"), Then: "digest"}
	each := byLabel()
	each.Quiet, each.Limit = &notice.Quiet{From: s.Quiet.From, To: s.Quiet.To, Then: "each"}, notice.Limit{Most: 2, Every: "day"}
	h.save(t, "first-visit", s)
	h.save(t, "label", each)
	h.come(t, nil, "198.18.3.40")
	h.come(t, nil, "198.18.4.40")
	for range 3 {
		h.come(t, []string{"office"}, "198.18.5.40")
		h.turn(t)
	}
	assert.Empty(t, h.sink.Taken())
	sums, err := h.Messages(t.Context(), h.site, "", uuid.Nil, 10)
	require.NoError(t, err)
	assert.Equal(t, int64(6), sums.Sums.Held, "three countries and three labels")
	h.pass(t, 61*time.Minute)
	mails := h.sink.Taken()
	require.Len(t, mails, 3)
	assert.Equal(t, "First visit from a new country: 3", mails[0].Subject)
	assert.Contains(t, mails[0].Text, "First visit from Portugal\n\nFrom Portugal.")
	assert.Contains(t, mails[0].Text, "First visit from Japan")
	assert.Contains(t, mails[0].HTML, "<hr>")
	assert.Equal(t, []string{"The office came", "The office came"}, []string{mails[1].Subject, mails[2].Subject})
	list, err := h.List(t.Context(), h.site)
	require.NoError(t, err)
	assert.Equal(t, int64(1), list.Notices[1].LeftOut)
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 3)
}

// TestACategoryOfACompanion stands in a notice, and in its rule.
func TestACategoryOfACompanion(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	s := byLabel()
	s.Trigger.Category, s.Text = "weather.storm", "{{.label}} in a {{.weather.category}}"
	h.save(t, "storm", s)
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	assert.Empty(t, h.sink.Taken(), "it is calm")
	h.category = "storm"
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	require.Len(t, h.sink.Taken(), 1)
	assert.Contains(t, h.sink.Taken()[0].Text, "office in a storm")
}

// TestFindingsAndEditions: a warning is said when it comes, an edition when it waits, each once.
func TestFindingsAndEditions(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	s := firstVisit()
	s.Trigger, s.Subject, s.Text, s.HTML, s.Limit = notice.Trigger{Kind: notice.OnCheckup}, "Checkup: {{.finding}}", "{{.finding_text}}", "", notice.Limit{Most: 50, Every: "hour"}
	e := s
	e.Trigger, e.Subject, e.Text = notice.Trigger{Kind: notice.OnEdition}, "{{.edition}} waits", "In use: {{.edition_in_use}}"
	old := checkup.Diagnostic{Name: "rates", State: checkup.Attention, Title: "The rates are old.", Text: "Old."}
	fresh := checkup.Diagnostic{Name: "untrusted-proxy", State: checkup.Attention, Title: "A proxy is not trusted.", Text: "Its header is not believed."}
	h.findings = []checkup.Diagnostic{old}
	h.save(t, "checkup", s)
	h.save(t, "edition", e)
	subjects := func() (list []string) {
		for _, m := range h.sink.Taken() {
			list = append(list, m.Subject)
		}
		return list
	}
	h.pass(t, watchEvery)
	assert.Empty(t, subjects(), "what was so before is no news")
	h.findings, h.waiting = []checkup.Diagnostic{old, fresh, {Name: "notices", State: checkup.Attention, Title: "The channel mail fails."}}, "2026-11-28-new"
	for range 3 {
		h.pass(t, watchEvery)
	}
	assert.ElementsMatch(t, []string{"Checkup: A proxy is not trusted.", "2026-11-28-new waits"}, subjects())
	h.findings = []checkup.Diagnostic{{Name: "untrusted-proxy", State: checkup.Unknown}} // a service that has just begun
	h.pass(t, watchEvery)
	h.findings = []checkup.Diagnostic{fresh}
	h.pass(t, watchEvery)
	assert.Len(t, subjects(), 2, "what could not be judged was not good")
	h.findings = nil
	h.pass(t, watchEvery)
	h.findings = []checkup.Diagnostic{fresh}
	h.pass(t, watchEvery)
	assert.Len(t, subjects(), 3, "it was good, and is not any more")
}

// TestNoticesThatCannotBeWritten wait with what met them, and say so.
func TestNoticesThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.save(t, "first-visit", firstVisit())
	h.save(t, "label", byLabel())
	set := *h.set.Load()
	without := set
	without.Companions = func(string) Companions { return nobody{} }
	h.set.Store(&without) // the companion was dropped, whose facts the notice has
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	require.Len(t, h.sink.Taken(), 1, "others are written")
	state, err := h.Get(t.Context(), h.site, "first-visit")
	require.NoError(t, err)
	assert.Equal(t, "attention", state.Standing)
	assert.Contains(t, *state.Reason, `text, line 4: there is no fact "weather.category" here`)
	assert.Contains(t, fmt.Sprint(h.Check(t.Context())), "The notice first-visit is not written.")
	h.set.Store(&set)
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 2, "what met it was not lost")
	assert.Empty(t, h.Check(t.Context()))
	require.NoError(t, h.Drop(t.Context(), h.site, "label", "a test"))
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 2)
	assert.ErrorIs(t, h.Drop(t.Context(), h.site, "label", "a test"), notice.ErrNone)
}

// nobody is a site without companions.
type nobody struct{ Companions }

func (nobody) Categories() []string        { return nil }
func (nobody) Values() map[string][]string { return nil }

// TestNoFactTellsTheAddress but the one that is called so, and what visitors and askers wrote themselves: each fact
// there is, for visits under every mode of privacy.
func TestNoFactTellsTheAddress(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	known := h.Running().known(host)
	a := h.aspect(h.site)
	own := map[string]bool{"address": true, "question": true, "path": true, "referrer": true, "link": true}
	for _, address := range []string{"198.18.3.40", "198.18.4.40", "198.18.5.200", "10.1.2.3", "2001:db8::7", "::ffff:198.18.3.41", "64:ff9b::c612:328"} {
		made := h.cards.Card(netip.MustParseAddr(address), caller.ObtainedHeader, card.RequestContext{At: h.site.Local}, h.Now())
		for _, mode := range []visit.Mode{visit.Whole, visit.Truncated, visit.Hashed, visit.Nothing} {
			v := visit.Visit{ID: uuid.New(), Time: h.Now(), Site: host, Path: "/", Marks: []string{}, Card: made}
			v.Keep(mode, "a-hash")
			f := a.OfVisit(&v)
			for name, fact := range known.Facts(notice.OnLabel) {
				layout, err := notice.ParseText("{{."+name+"}}", func(string) bool { return true })
				require.NoError(t, err, fact)
				text, _, err := layout.Write(f)
				require.NoError(t, err)
				if name == "address" && mode != visit.Whole {
					require.NotEqual(t, address, text, "%v", mode)
				}
				if own[name] {
					continue
				}
				require.NotContains(t, text, address, name)
				require.NotContains(t, text, "a-hash", name)
			}
		}
	}
}
