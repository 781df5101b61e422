package visits

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/visit"
	visitfile "eastporch/internal/files/visits"
	"eastporch/internal/server/access"
	"eastporch/internal/server/sites"
)

var now = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

// table is a store in memory, of which tests say what it refuses.
type table struct {
	store
	rows    map[uuid.UUID]visit.Row
	refuses func(visit.Row) bool
	away    bool
	batches int
	erased  []visit.Erasure
}

func (*table) Oldest(at time.Time) time.Time { return at.AddDate(0, 0, -400) }

func (s *table) Insert(_ context.Context, batch []visit.QueuedVisit) (out visit.Outcome, err error) {
	s.batches++
	if s.away {
		return out, visit.ErrAway
	}
	for _, q := range batch {
		if s.refuses != nil && s.refuses(q.Row) {
			return out, fmt.Errorf("%w: made up", visit.ErrRefused)
		}
	}
	for _, q := range batch {
		if _, there := s.rows[q.Row.ID]; there {
			out.Duplicate++
			continue
		}
		s.rows[q.Row.ID] = q.Row
		out.Stored++
	}
	return out, nil
}

func (s *table) Standing(_ context.Context, rows []visit.Row) (list []visit.Standing, err error) {
	for i, row := range rows {
		if there, ok := s.rows[row.ID]; ok {
			list = append(list, visit.Standing{Index: i, Same: there.Path == row.Path})
		}
	}
	return list, nil
}

func (s *table) Erase(_ context.Context, e visit.Erasure, _ time.Time) (visit.Erased, error) {
	s.erased = append(s.erased, e)
	return visit.Erased{Visits: 1, Days: 2}, nil
}

// line is a queue that stores at once, unless it is full.
type line struct {
	queue
	to       *table
	full     error
	accepted int
}

func (q *line) Accept(ctx context.Context, list []visit.QueuedVisit) (uint64, error) {
	if q.full != nil {
		return 0, q.full
	}
	q.accepted += len(list)
	_, err := q.to.Insert(ctx, list)
	return 1, err
}

func (*line) Wait(context.Context, uint64) error { return nil }

// asIs keeps all of a visit, and knows a hash of every address.
type asIs struct{ privacyKeys }

func (asIs) Keep(v *visit.Visit, _ visit.Mode, private bool) error {
	if private {
		v.Marks = append(v.Marks, visit.MarkPrivate)
	}
	return nil
}

func (asIs) Hashes(site string, a netip.Addr) ([]string, error) {
	return []string{site + " " + a.String()}, nil
}

type noAtlas struct{ *atlas.Atlas }

func (a noAtlas) Current() *atlas.Atlas { return a.Atlas }

func service(t *testing.T, list ...sites.Site) (*Visits, *table, *line) {
	t.Helper()
	if len(list) == 0 {
		list = []sites.Site{{Host: "heronlake.example", Privacy: visit.Whole}, {Host: "harbour.example", Privacy: visit.Whole}}
	}
	to := &table{rows: map[uuid.UUID]visit.Row{}}
	in := &line{to: to}
	s, err := New(Options{Cards: &card.Pipeline{Atlas: noAtlas{atlas.New()}}, Store: to, Queue: in, Privacy: asIs{}, Sites: sites.New(list...)}, func() time.Time { return now })
	require.NoError(t, err)
	return s, to, in
}

func from(scope access.Scope) *Request {
	return &Request{
		Peer: netip.MustParseAddr("198.18.3.40"), Header: map[string][]string{"User-Agent": {"Mozilla/5.0"}},
		Who:     access.Identity{Scope: scope},
		Context: func(map[string][]string, *sites.Site) card.RequestContext { return card.RequestContext{} },
		Own: func() *caller.Trail {
			trail := caller.Finder{}.Find(netip.MustParseAddr("198.18.3.40"), nil)
			trail.Obtained = caller.ObtainedHeader
			return &trail
		},
		Seen: func(*card.Card, netip.Addr, map[string][]string, *caller.Trail) {}, Decided: func(string, *card.Card, string) {},
	}
}

func text(s string) *string { return &s }

func TestOptionsAreRequired(t *testing.T) {
	s, _, _ := service(t)
	for i := range 5 {
		opt := s.Options
		switch i {
		case 0:
			opt.Cards = nil
		case 1:
			opt.Store = nil
		case 2:
			opt.Queue = nil
		case 3:
			opt.Privacy = nil
		case 4:
			opt.Sites = nil
		}
		_, err := New(opt, time.Now)
		require.Error(t, err)
	}
}

func TestAVisitThatIsWrongNamesTheField(t *testing.T) {
	s, _, _ := service(t)
	for field, change := range map[string]func(*api.NewVisit){
		"site":       func(v *api.NewVisit) { v.Site = "elsewhere.example" },
		"path":       func(v *api.NewVisit) { v.Path = "programme" },
		"referrer":   func(v *api.NewVisit) { v.Referrer = text("a\x00b") },
		"link":       func(v *api.NewVisit) { v.Link = text("") },
		"id":         func(v *api.NewVisit) { v.ID = text(uuid.NewString()) }, // of version 4
		"time":       func(v *api.NewVisit) { v.Time = text("yesterday") },
		"address":    func(v *api.NewVisit) { v.Address = text("198.18.3") },
		"peer":       func(v *api.NewVisit) { v.Headers = api.Headers{"X-Forwarded-For": {"198.18.3.40"}} },
		"attributes": func(v *api.NewVisit) { v.Attributes = []byte(`[1]`) },
	} {
		body := api.NewVisit{Site: "heronlake.example", Path: "/"}
		change(&body)
		_, err := s.Read(&body, from(access.Server))
		var wrong *invalid.FieldError
		require.ErrorAs(t, err, &wrong, field)
		assert.Equal(t, field, wrong.Field)
		assert.NotEmpty(t, wrong.Hint, field)
	}
}

// A server that does not say whose visit it reports is not taken for the visitor, unless a
// trusted proxy names one; a page and the owner are.
func TestAServerSaysWhoseVisitItReports(t *testing.T) {
	s, _, _ := service(t)
	for scope, obtained := range map[access.Scope]map[string]bool{
		access.Page:   {caller.ObtainedPeer: true, caller.ObtainedHeader: true},
		access.Server: {caller.ObtainedPeer: false, "": false, caller.ObtainedHeader: true},
		access.Admin:  {caller.ObtainedPeer: true, caller.ObtainedHeader: true},
	} {
		for how, taken := range obtained {
			ask := from(scope)
			ask.Own = func() *caller.Trail {
				trail := caller.Finder{}.Find(netip.MustParseAddr("198.18.3.40"), nil)
				trail.Obtained = how
				return &trail
			}
			_, err := s.Read(&api.NewVisit{Site: "heronlake.example", Path: "/"}, ask)
			if taken {
				require.NoError(t, err, "%s, %s", scope, how)
				continue
			}
			var wrong *invalid.FieldError
			require.ErrorAs(t, err, &wrong)
			assert.Equal(t, "address", wrong.Field)
		}
	}
	_, err := s.Read(&api.NewVisit{Site: "heronlake.example", Path: "/", Address: text("198.18.3.40")}, from(access.Server))
	require.NoError(t, err)
}

func TestTheSiteIsNamedOrTheOnlyOne(t *testing.T) {
	several, _, _ := service(t)
	one, _, _ := service(t, sites.Site{Host: "harbour.example", Privacy: visit.Whole})
	bound := &keys.Key{Sites: []string{"harbour.example"}}
	wide := &keys.Key{Sites: []string{"harbour.example", "heronlake.example"}}
	for _, c := range []struct {
		in   *Visits
		key  *keys.Key
		site string
		want string
	}{
		{several, nil, "heronlake.example", "heronlake.example"},
		{several, bound, "", "harbour.example"},
		{several, wide, "", ""},
		{several, nil, "", ""},
		{several, nil, "else.example", ""},
		{one, nil, "", "harbour.example"},
		{one, wide, "", "harbour.example"},
	} {
		ask := from(access.Admin)
		ask.Who.Key = c.key
		taken, err := c.in.Read(&api.NewVisit{Site: c.site, Path: "/"}, ask)
		if c.want == "" {
			var wrong *invalid.FieldError
			require.ErrorAs(t, err, &wrong)
			assert.Equal(t, "site", wrong.Field)
			assert.Contains(t, wrong.Hint, "heronlake.example, harbour.example")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, taken.queued.Row.Site)
	}
}

func TestTimesLieWithinWhatIsKept(t *testing.T) {
	s, _, _ := service(t)
	for at, ok := range map[time.Duration]bool{
		0: true, ahead: true, ahead + time.Second: false, -399 * 24 * time.Hour: true, -401 * 24 * time.Hour: false,
	} {
		when := now.Add(at)
		taken, err := s.Read(&api.NewVisit{Site: "heronlake.example", Path: "/", Time: text(when.Format(time.RFC3339))}, from(access.Server))
		if !ok {
			require.Error(t, err, at)
			continue
		}
		require.NoError(t, err, at)
		of, is7 := visit.TimeOf(taken.ID)
		assert.True(t, is7)
		assert.True(t, of.Equal(when), "the id says when")
	}
}

// What says who the visitor is, or when, is only believed of servers.
func TestAPageSpeaksOnlyForItself(t *testing.T) {
	s, _, _ := service(t)
	for name, change := range map[string]func(*api.NewVisit){
		"id":         func(v *api.NewVisit) { v.ID = text("x") },
		"time":       func(v *api.NewVisit) { v.Time = text("x") },
		"user_agent": func(v *api.NewVisit) { v.UserAgent = text("x") },
		"address":    func(v *api.NewVisit) { v.Address = text("x") },
		"peer":       func(v *api.NewVisit) { v.Peer = text("x") },
		"headers":    func(v *api.NewVisit) { v.Headers = api.Headers{} },
	} {
		body := api.NewVisit{Site: "heronlake.example", Path: "/"}
		change(&body)
		_, err := s.Read(&body, from(access.Page))
		var scope *access.ScopeError
		require.ErrorAs(t, err, &scope, name)
	}
	_, err := s.Read(&api.NewVisit{Site: "heronlake.example", Path: "/"}, from(access.Page))
	require.NoError(t, err)
	limited := from(access.Page)
	limited.Who.Key = &access.Key{Sites: []string{"harbour.example"}}
	_, err = s.Read(&api.NewVisit{Site: "heronlake.example", Path: "/"}, limited)
	var site *access.SiteError
	require.ErrorAs(t, err, &site)
}

func TestWhatBecameOfEachVisitIsSaid(t *testing.T) {
	s, to, in := service(t)
	read := func(path string, id *string, dry bool) *Taken {
		ask := from(access.Server)
		ask.ShowsVisit = true
		taken, err := s.Read(&api.NewVisit{Site: "heronlake.example", Path: path, ID: id, DryRun: dry}, ask)
		require.NoError(t, err)
		return taken
	}
	first := read("/first", nil, false)
	id := text(first.ID.String())
	again, other, dry := read("/first", id, false), read("/other", id, false), read("/dry", nil, true)
	require.NoError(t, s.Take(t.Context(), time.Second, first, again, other, dry))
	assert.Equal(t, []string{Stored, Stored, Conflict, DryRun}, []string{first.State, again.State, other.State, dry.State})
	assert.Nil(t, other.Visit, "what stands there is another")
	assert.NotNil(t, dry.Visit)
	assert.Equal(t, 3, in.accepted)
	assert.Len(t, to.rows, 1)

	gone := read("/gone", nil, false)
	require.NoError(t, s.Take(t.Context(), 0, gone))
	assert.Equal(t, Accepted, gone.State)
	delete(to.rows, gone.ID)
	s.await(t.Context(), time.Second, 1, []*Taken{gone})
	assert.Equal(t, Missing, gone.State)

	in.full = errors.New("full")
	require.ErrorIs(t, s.Take(t.Context(), 0, read("/late", nil, false)), in.full)
	assert.Len(t, to.rows, 1)
}

// file is visits as an export writes them.
func file(t *testing.T, list []visit.Visit) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	w, err := visitfile.NewWriter(&b, "ndjson", false)
	require.NoError(t, err)
	for _, v := range list {
		require.NoError(t, w.Write(v))
	}
	require.NoError(t, w.Close())
	return &b
}

// Whatever the database refuses, and whatever is no visit: all others are stored once, and
// each line that is not stands among the rejects.
func TestAnImportStoresAllThatCanBe(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 1))
	for range 150 {
		s, to, _ := service(t)
		to.refuses = func(row visit.Row) bool { return strings.HasPrefix(row.Path, "/refused") }
		var list []visit.Visit
		good := map[uuid.UUID]bool{}
		twice := 0
		for i := range 1 + r.IntN(40) {
			path := "/good"
			switch r.IntN(5) {
			case 0:
				path = "/refused"
			case 1:
				path = "no path"
			}
			v := visit.Visit{Site: "heronlake.example", Path: path, Earlier: []visit.EarlierFacts{}}
			v.ID, _ = visit.NewID(now.Add(-time.Duration(i)*time.Minute), strings.NewReader(fmt.Sprintf("%016d", r.Uint32())))
			v.Time, _ = visit.TimeOf(v.ID)
			v.Card = s.Cards.Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, card.RequestContext{}, v.Time)
			if path == "/good" {
				good[v.ID] = true
				if r.IntN(6) == 0 {
					list = append(list, v)
					twice++
				}
			}
			list = append(list, v)
		}
		var rejects []int
		for i, v := range list {
			if v.Path != "/good" {
				rejects = append(rejects, i+1)
			}
		}
		done, err := s.Import(t.Context(), file(t, list), "ndjson")
		require.NoError(t, err)
		var lines []int
		for _, reject := range done.Rejects {
			lines = append(lines, reject.Line)
			assert.NotEmpty(t, reject.Reason)
		}
		slices.Sort(lines)
		require.Equal(t, len(list), done.Read)
		require.Equal(t, len(good), done.Stored)
		require.Equal(t, twice, done.Duplicate)
		require.Equal(t, len(rejects), done.Rejected)
		require.ElementsMatch(t, rejects, lines)
		require.Len(t, to.rows, len(good))
		for id := range good {
			require.Contains(t, to.rows, id)
		}
	}
}

func TestAnImportEndsWhereTheDatabaseIsAway(t *testing.T) {
	s, to, _ := service(t)
	to.away = true
	v := visit.Visit{Site: "heronlake.example", Path: "/"}
	v.ID, _ = visit.NewID(now, strings.NewReader("0123456789abcdef"))
	v.Time, _ = visit.TimeOf(v.ID)
	done, err := s.Import(t.Context(), file(t, []visit.Visit{v}), "ndjson")
	require.ErrorIs(t, err, visit.ErrAway)
	assert.Equal(t, 1, done.Read)
	assert.Zero(t, done.Stored)
	assert.Equal(t, 1, to.batches, "an absence is not tried by halves")
}

// By an address, each site is erased as far as it can be told to be of it, and the rest is named.
func TestErasingAnAddressNamesWhatIsLeft(t *testing.T) {
	modes := []visit.Mode{visit.Whole, visit.Truncated, visit.Hashed}
	ip := netip.MustParseAddr("198.18.3.40")
	r := rand.New(rand.NewPCG(16, 2))
	for range 300 {
		var list []sites.Site
		var hashed, left []string
		whole := false
		for i := range 1 + r.IntN(5) {
			site := sites.Site{Host: fmt.Sprintf("s%d.example", i), Privacy: modes[r.IntN(len(modes))]}
			list = append(list, site)
			switch site.Privacy {
			case visit.Whole:
				whole = true
			case visit.Truncated:
				left = append(left, site.Host)
			case visit.Hashed:
				hashed = append(hashed, site.Host+" "+ip.String())
			}
		}
		s, to, _ := service(t, list...)
		receipt, err := s.Erase(t.Context(), api.Erase{Address: text(ip.String())})
		if !whole && len(hashed) == 0 {
			var wrong *invalid.FieldError
			require.ErrorAs(t, err, &wrong)
			require.Equal(t, "address", wrong.Field)
			require.Empty(t, to.erased)
			continue
		}
		require.NoError(t, err)
		require.ElementsMatch(t, left, receipt.Left)
		var words []string
		addresses := 0
		for _, e := range to.erased {
			words = append(words, e.Placeholder...)
			if e.Address == ip {
				addresses++
			}
		}
		require.ElementsMatch(t, hashed, words)
		require.Equal(t, whole, addresses == 1)
		require.Equal(t, len(to.erased), receipt.Visits)
	}
}

func TestOneThingIsErasedAtATime(t *testing.T) {
	s, to, _ := service(t)
	for _, ask := range []api.Erase{
		{},
		{ID: text(uuid.NewString()), Address: text("198.18.3.40")},
		{ID: text(uuid.Nil.String())},
		{Prefix: text("0.0.0.0/0")},
		{Prefix: text("198.18.3.0/33")},
		{Address: text("nobody")},
	} {
		_, err := s.Erase(t.Context(), ask)
		var wrong *invalid.FieldError
		require.ErrorAs(t, err, &wrong, "%+v", ask)
	}
	assert.Empty(t, to.erased)
}
