package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/link"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/report"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/demo/standin"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/intake"
	"eastporch/internal/server/links"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/metrics"
	"eastporch/internal/server/privacy"
	"eastporch/internal/server/rates"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
	"eastporch/internal/testkit/papers"
)

const testSite = "heronlake.example"

var testNow = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

// memory keeps everything that a database would, as far as the handlers see it.
type memory struct {
	lock       sync.Mutex
	keys       []access.Key
	refused    refusedRows
	sessions   map[[32]byte]access.Session
	events     []access.Event
	visits     []visit.Visit
	papers     papers.Rows
	tallies    map[visit.By]visit.Tally
	rules      gateRows
	links      linkRows
	clicks     clicks
	away       error // what every question of visits fails with
	companions companionRows
	weather    standin.Weather
}

func (m *memory) Keys(context.Context) ([]access.Key, error) { return m.keys, nil }

func (m *memory) AddKey(_ context.Context, key access.Key, _ access.Event) error {
	m.keys = append(m.keys, key)
	return nil
}

func (m *memory) RenameKey(_ context.Context, id uuid.UUID, name string, _ access.Event) error {
	for i := range m.keys {
		if m.keys[i].ID == id {
			m.keys[i].Name = name
			return nil
		}
	}
	return access.ErrNoSuch
}

func (m *memory) RevokeKey(_ context.Context, id uuid.UUID, _ bool, _ access.Event) ([]uuid.UUID, error) {
	for i := range m.keys {
		if m.keys[i].ID == id && m.keys[i].Revoked == nil {
			m.keys[i].Revoked = &testNow
			return []uuid.UUID{id}, nil
		}
	}
	return nil, access.ErrNoSuch
}

func (*memory) MadeWith(context.Context, uuid.UUID, time.Time, time.Time) (access.Made, error) {
	return access.Made{}, nil
}

func (*memory) CountKeyUses(context.Context, map[uuid.UUID]int64, time.Time) error { return nil }

func (m *memory) AddEvent(_ context.Context, e access.Event) error {
	m.events = append(m.events, e)
	return nil
}

func (m *memory) Events(context.Context, uuid.UUID, int) ([]access.Event, error) {
	return m.events, nil
}

func (*memory) Oldest(time.Time) time.Time { return time.Time{} }

func (m *memory) Insert(_ context.Context, batch []visit.QueuedVisit) (out visit.Outcome, err error) {
	m.lock.Lock()
	defer m.lock.Unlock()
	for _, q := range batch {
		v, err := q.Row.Visit(q.Facts)
		if err != nil {
			return out, err
		}
		m.visits = append(m.visits, v)
		out.Stored++
	}
	return out, m.away
}

func (*memory) SetApart(context.Context, []visit.SetApart) error { return nil }

func (m *memory) Standing(_ context.Context, rows []visit.Row) (list []visit.Standing, err error) {
	m.lock.Lock()
	defer m.lock.Unlock()
	for i, row := range rows {
		for _, v := range m.visits {
			if v.ID == row.ID {
				list = append(list, visit.Standing{Index: i, Same: v.Path == row.Path})
			}
		}
	}
	return list, m.away
}

func (m *memory) picked(f visit.Filter) (list []visit.Visit) {
	m.lock.Lock()
	defer m.lock.Unlock()
	for _, v := range m.visits {
		if v.Site == f.Site && strings.HasPrefix(v.Path, f.Path) {
			list = append(list, v)
		}
	}
	return list
}

func (m *memory) Visits(_ context.Context, f visit.Filter, _ uuid.UUID, limit int) ([]visit.Visit, error) {
	list := m.picked(f)
	slices.Reverse(list)
	return list[:min(limit, len(list))], m.away
}

func (m *memory) Visit(_ context.Context, id uuid.UUID) (visit.Visit, error) {
	for _, v := range m.visits {
		if v.ID == id {
			return v, m.away
		}
	}
	return visit.Visit{}, fmt.Errorf("%s: %w", id, errors.Join(visit.ErrNoVisit, m.away))
}

func (m *memory) Count(_ context.Context, f visit.Filter, _ time.Time) (visit.Count, error) {
	n := int64(len(m.picked(f)))
	return visit.Count{Matching: n, All: int64(len(m.visits))}, m.away
}

func (m *memory) StoredAfter(_ context.Context, f visit.Filter, after, _ int64, limit int) (list []visit.StoredVisit, err error) {
	for i, v := range m.picked(f) {
		if n := int64(i + 1); n > after && len(list) < limit {
			list = append(list, visit.StoredVisit{Sequence: n, Visit: v})
		}
	}
	return list, m.away
}

func (m *memory) StoredThrough(context.Context) (int64, error) { return int64(len(m.visits)), m.away }

func (m *memory) VisitsFrom(_ context.Context, f visit.Filter, after uuid.UUID, limit int) ([]visit.Visit, error) {
	list := slices.DeleteFunc(m.picked(f), func(v visit.Visit) bool { return v.ID.String() <= after.String() })
	slices.SortFunc(list, func(a, b visit.Visit) int { return strings.Compare(a.ID.String(), b.ID.String()) })
	return list[:min(limit, len(list))], m.away
}

func (m *memory) Erase(_ context.Context, e visit.Erasure, _ time.Time) (visit.Erased, error) {
	before := len(m.visits)
	m.visits = slices.DeleteFunc(m.visits, func(v visit.Visit) bool { return v.ID == e.ID })
	return visit.Erased{Visits: before - len(m.visits)}, m.away
}

func (m *memory) Quarantine(context.Context, int) ([]visit.SetApart, int, error) {
	return nil, 0, m.away
}

func (m *memory) FromQuarantine(_ context.Context, id uuid.UUID) (visit.SetApart, error) {
	return visit.SetApart{}, fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
}

func (m *memory) Release(context.Context, uuid.UUID) (bool, error) { return false, m.away }

func (m *memory) Days(context.Context, string, time.Time) ([]time.Time, error) {
	return []time.Time{testNow.Truncate(24 * time.Hour)}, m.away
}

func (m *memory) Verify(context.Context, string, time.Time, bool) ([]visit.CountMismatch, int64, error) {
	return nil, int64(len(m.visits)), m.away
}

func (m *memory) Kept(context.Context) (visit.Kept, error) { return visit.Kept{Weeks: 1}, m.away }

func (m *memory) Reenrich(_ context.Context, _ time.Time, again func(visit.Visit) (card.Card, bool), progress func(seen, changed int)) error {
	changed := 0
	for _, v := range m.visits {
		if _, ok := again(v); ok {
			changed++
		}
	}
	progress(len(m.visits), changed)
	return m.away
}

func (m *memory) Tally(_ context.Context, _ visit.Filter, by visit.By, _ time.Time) (visit.Tally, error) {
	return m.tallies[by], m.away
}

func (m *memory) Timeline(_ context.Context, _ visit.Filter, starts []time.Time, _ time.Time) (rows []visit.TimeCount, t visit.Tally, err error) {
	for _, at := range starts {
		rows = append(rows, visit.TimeCount{From: at, Visits: 1})
	}
	return rows, visit.Tally{Counted: true}, m.away
}

func (m *memory) Visitors(context.Context, visit.Filter) ([]visit.TimeCount, error) {
	return nil, m.away
}

func (m *memory) FirstSeen(context.Context, string, visit.By) (map[string]time.Time, error) {
	return map[string]time.Time{}, m.away
}

func (m *memory) LeftOut(context.Context, visit.Filter, time.Time) (map[string]int64, error) {
	return map[string]int64{"bot": 4}, m.away
}

func (m *memory) EachAddress(_ context.Context, _ time.Time, do func(netip.Addr, int)) error {
	for _, v := range m.visits {
		do(v.Card.Address.Text.Addr, 1)
	}
	return m.away
}

func (m *memory) WithoutAddress(context.Context, time.Time) (int, int, error) { return 0, 0, m.away }

func (m *memory) AddLink(context.Context, [32]byte, time.Time, access.Event) error { return nil }

// shelfOfOne has one edition, in use.
type shelfOfOne struct{ edition *atlas.Atlas }

func (s shelfOfOne) Current() *atlas.Atlas { return s.edition }

func (s shelfOfOne) Open(name string) (*atlas.Atlas, error) {
	if name != s.edition.Name() {
		return nil, fmt.Errorf("%w: %s", editions.ErrNoEdition, name)
	}
	return s.edition, nil
}

func (s shelfOfOne) Use(name string) error { _, err := s.Open(name); return err }

func (s shelfOfOne) Back() (string, error) { return "", editions.ErrNoBack }

func (s shelfOfOne) List() ([]api.Edition, error) {
	return []api.Edition{{Name: s.edition.Name(), State: "in use", Uses: []api.Use{}}}, nil
}

func (s shelfOfOne) Job() api.Job { return api.Job{Sources: []api.SourceRunning{}} }

// idle changes nothing.
type idle struct{}

func (idle) Rebuild() error                         { return editions.ErrBusy }
func (idle) Publish(context.Context) (int64, error) { return 7, nil }

// sink stores what the queue gives it, in memory or nowhere.
type sink interface {
	Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error)
	SetApart(ctx context.Context, list []visit.SetApart) error
}

// fixture is everything that the API asks, without a database or a network.
type fixture struct {
	*memory
	opt Options
	in  *intake.Intake
}

// newFixture makes one whose visits go to a sink, nil for its own memory, and whose atlas is a
// geofeed.
func newFixture(t testing.TB, feed string, to sink) *fixture {
	t.Helper()
	m := &memory{sessions: map[[32]byte]access.Session{}, tallies: map[visit.By]visit.Tally{}}
	if to == nil {
		to = m
	}
	src, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: 1, Dated: "2026-11-01"})
	require.NoError(t, err)
	shelf := shelfOfOne{atlas.New(src)}
	finder := caller.Trusting(netip.MustParsePrefix("127.0.0.1/32"), netip.MustParsePrefix("203.0.113.0/28"))
	cards := &card.Pipeline{Finder: finder, Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: shelf}
	log := slog.New(slog.DiscardHandler)
	now := func() time.Time { return testNow }
	keys, err := access.NewKeys(t.Context(), m, log, time.Now)
	require.NoError(t, err)
	spool, err := intake.OpenSpool(t.TempDir())
	require.NoError(t, err)
	in, err := intake.New(intake.Options{Log: spool, Sink: to, MaxBytes: 1 << 40, Logger: log, Now: time.Now})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ran := make(chan struct{})
	go func() { _ = in.Run(ctx); close(ran) }()
	t.Cleanup(func() {
		stop()
		<-ran
		require.NoError(t, in.Close())
	})
	keep, err := privacy.Open(t.TempDir(), 7*24*time.Hour)
	require.NoError(t, err)
	watch := checkup.NewWatch(finder, false, testNow)
	languages, err := locale.NewLanguages([]string{"pt-PT", "en"}, "")
	require.NoError(t, err)
	m.weather.Now = now
	kinds := papers.Kinds{}
	var known *sites.Sites
	var book atomic.Pointer[links.Book]
	var besides atomic.Pointer[companions.Site]
	var beside *companions.Companions
	var followed *links.Links
	docs := papers.New(&m.papers, kinds, now, func(set *document.Set) {
		local := known.All()[0].Local
		if rev, err := gates.Rules(set, testSite); err == nil && rev.Revision > 0 {
			local.Gates = gate.New(rev.Rules, gateNames)
		}
		besides.Store(beside.Site(set, testSite, "Europe/Lisbon"))
		local.Companions = besides.Load()
		beside.Use(map[string]*companions.Site{testSite: besides.Load()})
		book.Store(followed.Book(set, known, book.Load()))
	})
	beside = newCompanions(&m.companions, docs, func(string) *companions.Site { return besides.Load() }, &m.weather, now)
	running := make(chan struct{})
	go func() { _ = beside.Run(ctx); close(running) }()
	t.Cleanup(func() { stop(); <-running })
	known = sites.New(sites.Site{Host: testSite, Name: "Heron Lake Regatta", Privacy: visit.Whole, TimeZone: "Europe/Lisbon", Local: &card.Local{Languages: languages, Currency: "EUR"}, Origin: "https://heronlake.example", Refusal: refusal.Standard(), Missing: link.Standard()})
	followed = newLinks(&m.links, docs, book.Load, &m.clicks)
	book.Store(followed.Book(docs.Set(), known, nil))
	noticed := newNotices(docs, known, now)
	kinds[document.Notice], kinds[document.Channel] = noticed.Kinds()
	feedOfRates := rates.New(rates.Options{StaleDays: 7}, now, func(locale.Rates) {})
	local, err := localize.New(localize.Options{Cards: cards, Rates: feedOfRates, Groups: almanac.Groups{}, Now: now})
	require.NoError(t, err)
	recorder, err := visits.New(visits.Options{Marker: visit.Marker{BotAgents: []string{"bot", "crawl"}, PreviewAgents: []string{"linkexpanding"}}, Cards: cards, Store: m, Queue: in, Privacy: keep, Sites: known}, now)
	require.NoError(t, err)
	ofAtlas, err := atlases.New(atlases.Options{Shelf: shelf, Workshop: idle{}, Store: m, Documents: docs, Now: now})
	require.NoError(t, err)
	asked, err := lookup.New(lookup.Options{Cards: cards, Edition: shelf.Current, Now: now})
	require.NoError(t, err)
	offered := &localize.Variants{Documents: docs, Known: variant.Known{Groups: almanac.Groups{}}, Sites: known}
	ofGates := m.gates(cards, docs, shelf.Current, now)
	kinds[document.Gate], kinds[document.Link], kinds[document.Companion] = ofGates.Rules.Kind(), followed.Kind(), beside.Kind()
	kinds[document.Variants], kinds[document.Correction] = offered.Kind(), ofAtlas.Kind()
	door := Door{Hosts: []string{"127.0.0.1"}, MaxBody: 1 << 20}
	return &fixture{memory: m, in: in, opt: Options{
		Public: Public{Cards: cards, Watch: watch, Sites: known, Localize: local, Handover: Handover{Key: []byte("a key of the tests"), Lasts: time.Minute}, Proxies: Proxies{
			Finder: finder, Settings: api.ProxySettings{Trusted: []string{"127.0.0.1/32"}},
			Try: func(p api.ProxySettings) (caller.Finder, error) {
				return caller.Finder{}, errors.New("not in the tests")
			},
		}},
		Visits: Visits{Service: recorder, Reports: report.New(m, now), Stored: m, Changed: func() <-chan struct{} { return nil }, Settle: in.Settle, Stopping: make(chan struct{})},
		Atlas:  Atlas{Service: ofAtlas, Lookup: asked},
		Access: Access{
			Keys: keys, Sessions: access.NewSessions(nil, time.Now), Audit: m,
			Limits:    &Limits{Keys: access.NewLimiter(1e9, 1<<30), Visitors: access.NewLimiter(1e9, 1<<30), SignIns: access.NewLimiter(1, 5), AllTries: access.NewLimiter(1, 60)},
			Listeners: map[Listener]Door{PublicListener: door, AdminListener: door},
			Refused:   refused.New(&m.refused, log, now), Held: refused.Setting{Hosts: []string{"in.heronlake.example"}, VisitorPerSecond: 20, KeyPerSecond: 1000, Keys: m.Keys},
		},
		Content: Content{
			Documents:  docs,
			Gates:      ofGates,
			Companions: beside,
			Notices:    noticed,
			Links:      followed,
			Variants:   offered,
			VisitorURL: func() string { return "http://in.heronlake.example" }, Console: http.NotFoundHandler(),
		},
		Service: Service{
			Version: "test", Log: log, Now: now, Queue: in, Ping: func(context.Context) error { return nil }, Findings: func() []checkup.Diagnostic { return nil },
			Metrics: metrics.New(metrics.Measured{
				Checkup: watch, Queue: in.State, Pool: func() metrics.PoolState { return metrics.PoolState{} },
				RatesAge: func() (time.Duration, bool) { return 0, false }, ClicksNotRecorded: func() int64 { return 0 },
			}),
		},
	}}
}

// key makes a key of a scope and gives its secret.
func (f *fixture) key(t testing.TB, scope access.Scope, origins ...string) string {
	t.Helper()
	_, secret, err := f.opt.Access.Keys.Create(t.Context(), access.Key{Name: string(scope), Scope: scope, Origins: origins})
	require.NoError(t, err)
	return secret
}

// serve makes the handler of a listener.
func (f *fixture) serve(t testing.TB, l Listener) *gin.Engine {
	t.Helper()
	engine, err := New(l, f.opt)
	require.NoError(t, err)
	return engine
}

// answer is what a handler wrote.
type answer struct {
	status int
	header http.Header
	body   string
}

// ask asks a handler with a key; headers are names and values in turn.
func ask(h http.Handler, key, method, path, body string, headers ...string) answer {
	var send io.Reader
	if body != "" {
		send = strings.NewReader(body)
	}
	req := httptest.NewRequest(method, path, send)
	req.Host, req.RemoteAddr = "127.0.0.1", "127.0.0.1:40000"
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if req.Header.Set(headers[i], headers[i+1]); headers[i] == "Host" {
			req.Host = headers[i+1]
		}
	}
	out := httptest.NewRecorder()
	h.ServeHTTP(out, req)
	return answer{out.Code, out.Header(), out.Body.String()}
}
