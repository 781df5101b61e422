package notices

import (
	"bytes"
	"context"
	crypto "crypto/rand"
	"crypto/tls"
	"encoding/pem"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
	"eastporch/internal/demo/standin"
	"eastporch/internal/fetch"
	"eastporch/internal/server/documents"
	secretstore "eastporch/internal/server/secrets"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/store"
	"eastporch/internal/testkit/db"
)

const (
	host     = "heronlake.example"
	password = "made-up-password-21"
	hookKey  = "made-up-key-of-the-webhook"
)

// own is a certificate for this machine, whose authority the tests trust.
var own tls.Certificate

func TestMain(m *testing.M) {
	server := httptest.NewTLSServer(nil)
	own = server.TLS.Certificates[0]
	server.Close()
	dir, err := os.MkdirTemp("", "notices-")
	if err == nil {
		file := filepath.Join(dir, "ca.pem")
		err = os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own.Certificate[0]}), 0o600)
		_ = os.Setenv("SSL_CERT_FILE", file) // which fails for no such name
	}
	code := 1
	if err == nil {
		code = db.Run(m, db.Model{Tables: func(ctx context.Context, url string) error {
			s, err := store.Open(ctx, url, 0)
			if err == nil {
				s.Close()
			}
			return err
		}})
	}
	_ = os.RemoveAll(dir) // it is of the tests alone
	os.Exit(code)
}

// A house is the service with a database, a mail server and a clock.
type house struct {
	*Notices
	store *store.Store
	site  *sites.Site
	sink  *standin.Mail
	at    string // of the mail server
	log   *bytes.Buffer
	dir   string
	lead  *leader
	set   atomic.Pointer[Settings]
	cards *card.Pipeline

	mu       sync.Mutex
	ahead    time.Duration // of the clock
	category string        // what the weather says
	findings []checkup.Diagnostic
	waiting  string // edition
}

const feed = `198.18.3.0/26,PT,PT-11,Lisbon,
198.18.4.0/24,JP,,,
198.18.5.0/24,KE,KE-30,Nairobi,
`

func newHouse(t *testing.T) *house {
	t.Helper()
	s, err := store.Open(t.Context(), db.New(t), 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	src, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: 1, Dated: "2026-11-01"})
	require.NoError(t, err)
	languages, err := locale.NewLanguages([]string{"en", "pt-PT"}, "")
	require.NoError(t, err)
	h := &house{store: s, sink: &standin.Mail{Login: "porch", Password: password}, log: &bytes.Buffer{}, dir: t.TempDir(), category: "calm"}
	h.cards = &card.Pipeline{Finder: caller.Finder{}, Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: shelf{atlas.New(src)}}
	h.at = h.serve(t, h.sink, nil)
	known := sites.New(sites.Site{Host: host, Name: "Heron Lake Regatta", Privacy: visit.Whole, TimeZone: "Europe/Lisbon", Local: &card.Local{Languages: languages, Companions: h}})
	h.site = known.Of(host)
	docs := documents.New(documents.Options{
		Rows: s.Documents(), Set: func() *document.Set { return h.set.Load().Documents }, Now: h.clock,
		Take: func(_ context.Context, list []document.Document) error {
			next := *h.set.Load()
			next.Documents = next.Documents.With(list)
			h.set.Store(&next)
			return nil
		},
		Kind: func(kind document.Kind) documents.Kind {
			ofNotices, ofChannels := h.Kinds()
			return map[document.Kind]documents.Kind{document.Notice: ofNotices, document.Channel: ofChannels}[kind]
		},
	})
	h.Notices = New(Options{
		Rows: s.Notices(), Documents: docs, Running: h.set.Load, Visits: s, Secret: []byte("a secret of the tests"), Log: slog.New(slog.NewTextHandler(h.log, nil)), Now: h.clock,
		Outside: Outside{
			Post: &fetch.Client{Inside: true}, Inside: true, Within: 2 * time.Second, Secrets: secretstore.Store{Dir: filepath.Join(h.dir, "secrets"), Environ: func() []string { return nil }},
			PublicURL: func() string { return "https://porch.heronlake.example" }, ConsoleURL: func() string { return "https://in.heronlake.example" },
		},
	})
	h.lead = h.leader(func(context.Context) error { return nil })
	h.set.Store(&Settings{
		Sites: known, Cards: h.cards, Labels: func(name string) bool { return name == "office" }, Companions: func(string) Companions { return h },
		Findings: func() []checkup.Diagnostic { return h.findings }, Editions: func() (string, string) { return h.waiting, "2026-11-01-old" },
	})
	return h
}

type shelf struct{ a *atlas.Atlas }

func (s shelf) Current() *atlas.Atlas { return s.a }

// serve runs a mail server until the test ends.
func (h *house) serve(t *testing.T, sink *standin.Mail, config *tls.Config) string {
	t.Helper()
	var l net.Listener
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	if config != nil {
		l = tls.NewListener(l, config)
	}
	done := make(chan error, 1)
	go func() { done <- sink.Serve(l) }()
	t.Cleanup(func() {
		sink.Stop()
		require.NoError(t, l.Close())
		<-done
	})
	return l.Addr().String()
}

func (h *house) clock() time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return time.Now().Add(h.ahead)
}

// pass lets time pass, and does what is due then.
func (h *house) pass(t *testing.T, d time.Duration) {
	t.Helper()
	h.mu.Lock()
	h.ahead += d
	h.mu.Unlock()
	h.turn(t)
}

// turn does what the leader does once.
func (h *house) turn(t *testing.T) {
	t.Helper()
	var delivering sync.WaitGroup
	h.lead.due = time.Time{}
	require.NoError(t, h.lead.look(t.Context(), &delivering))
	delivering.Wait()
}

// Answers, Categories and Values make the house the site's companions.
func (h *house) Answers(*companion.Subject, bool, time.Time) companion.Answers {
	return companion.Answers{{Name: "weather", Answer: companion.Answer{Category: &h.category, Human: map[string]string{"wind": "4 m/s"}, Missing: map[string]string{}}}}
}
func (h *house) Categories() []string        { return []string{"weather.calm", "weather.storm"} }
func (h *house) Values() map[string][]string { return map[string][]string{"weather": {"wind"}} }

// channel saves the mail server as a channel.
func (h *house) channel(t *testing.T) {
	t.Helper()
	_, err := h.SaveChannel(t.Context(), h.site, "mail", notice.ChannelSave{Said: mailTo(h.at), NewSecret: password}, "a test")
	require.NoError(t, err)
}

func mailTo(at string) notice.ChannelSaid {
	return notice.ChannelSaid{Kind: notice.Mail, Server: at, Security: "none", Login: "porch", From: "Heron Lake Regatta <porch@heronlake.example>", ADay: 200, RecipientAnHour: 50}
}

// hook serves a webhook, and saves it as a channel.
func (h *house) hook(t *testing.T, handler http.HandlerFunc) {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	_, err := h.SaveChannel(t.Context(), h.site, "hook", notice.ChannelSave{Said: notice.ChannelSaid{Kind: notice.Webhook, URL: server.URL + "/porch"}, NewSecret: hookKey}, "a test")
	require.NoError(t, err)
}

// save saves a notice.
func (h *house) save(t *testing.T, name string, said notice.Said) {
	t.Helper()
	_, err := h.Save(t.Context(), h.site, name, notice.Save{Said: said}, "a test")
	require.NoError(t, err)
}

func firstVisit() notice.Said {
	return notice.Said{
		Title: "First visit from a new country", Enabled: true, Trigger: notice.Trigger{Kind: notice.OnCountry, Days: 90}, Channel: "mail",
		To: []string{"office@heronlake.example"}, Subject: "First visit from {{.country}}",
		Text:  "From {{.country}}.\nTown: {{.city}}, within {{.radius}}\nClock there: {{.local_time}}\nSky: {{.weather.category}}, {{.weather.wind}}\nIn {{or .city \"an unknown town\"}}.\n{{.visit_url}}",
		HTML:  "<p>Town: <b>{{.city}}</b></p>\n<p>{{or .city \"an <unknown> town\"}}</p>",
		Limit: notice.Limit{Most: 1, Every: "day", Each: true},
	}
}

func byLabel() notice.Said {
	s := firstVisit()
	s.Trigger = notice.Trigger{Kind: notice.OnLabel, Labels: []string{"office"}}
	s.Subject, s.Text, s.HTML = "The {{.label}} came", "{{.label}} at {{.path}}", ""
	return s
}

func whereIs() notice.Said {
	s := firstVisit()
	s.Trigger, s.To, s.Limit = notice.Trigger{Kind: notice.OnAsk}, []string{notice.Asker}, notice.Limit{Most: 100, Every: "hour"}
	s.Subject, s.Text = "Where {{.question}} is", "Country: {{.country}}\nTown: {{.city}}\nAddress: {{.address}}"
	return s
}

// come stores visits of now from addresses, with labels.
func (h *house) come(t *testing.T, labels []string, addresses ...string) []uuid.UUID {
	t.Helper()
	var batch []visit.QueuedVisit
	var ids []uuid.UUID
	for _, a := range addresses {
		at := time.Now().UTC().Truncate(time.Millisecond)
		id, err := visit.NewID(at, crypto.Reader)
		require.NoError(t, err)
		v := visit.Visit{ID: id, Time: at, Site: host, Path: "/programme", Marks: []string{}, Trail: caller.Trail{Hops: []caller.Hop{}, Notes: []string{}}, Earlier: []visit.EarlierFacts{}}
		v.Card = h.cards.Card(netip.MustParseAddr(a), caller.ObtainedHeader, card.RequestContext{At: h.site.Local}, at)
		v.Card.Labels = labels
		v.Keep(visit.Whole, "")
		q, err := v.Queued()
		require.NoError(t, err)
		batch, ids = append(batch, q), append(ids, id)
	}
	out, err := h.store.Insert(t.Context(), batch)
	require.NoError(t, err)
	require.Equal(t, len(addresses), out.Stored)
	return ids
}

// messages lists what was written, the oldest first.
func (h *house) messages(t *testing.T) []notice.Letter {
	t.Helper()
	list, err := h.Rows.Messages(context.WithoutCancel(t.Context()), host, "", uuid.Nil, 1000)
	require.NoError(t, err)
	for i, j := 0, len(list)-1; i < j; i, j = i+1, j-1 {
		list[i], list[j] = list[j], list[i]
	}
	return list
}
