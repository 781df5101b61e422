package notices

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/notice"
)

// receiver takes messages, and answers as it is told.
type receiver struct {
	mu      sync.Mutex
	status  int
	header  map[string]string
	slow    bool
	bodies  []notice.Payload
	ids     []string
	heads   []http.Header
	raw     [][]byte
	stopped chan struct{}
}

func (r *receiver) serve(w http.ResponseWriter, q *http.Request) {
	body, _ := io.ReadAll(q.Body) // what broke off is no JSON
	r.mu.Lock()
	status, slow := r.status, r.slow
	r.raw, r.heads = append(r.raw, body), append(r.heads, q.Header)
	for name, value := range r.header {
		w.Header().Set(name, value)
	}
	var p notice.Payload
	if json.Unmarshal(body, &p) == nil && status/100 == 2 {
		r.bodies, r.ids = append(r.bodies, p), append(r.ids, q.Header.Get("Idempotency-Key"))
	}
	r.mu.Unlock()
	if slow {
		<-r.stopped
	}
	w.WriteHeader(status)
}

// answer has the receiver answer so from now on.
func (r *receiver) answer(status int, header map[string]string, slow bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.status, r.header, r.slow = status, header, slow
}

// got gives what was taken, and how much came at all.
func (r *receiver) got() (bodies []notice.Payload, ids []string, came int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.bodies), slices.Clone(r.ids), len(r.raw)
}

func (h *house) receive(t *testing.T) *receiver {
	t.Helper()
	r := &receiver{status: http.StatusNoContent, stopped: make(chan struct{})}
	h.hook(t, r.serve)
	t.Cleanup(func() { close(r.stopped) }) // before the server waits for whoever hangs
	return r
}

func toHook() notice.Said {
	s := byLabel()
	s.Channel, s.To, s.Limit = "hook", []string{}, notice.Limit{Most: 100, Every: "hour"}
	s.Subject, s.Text = "{{.label}} from {{.country}}", "{{.city}} at {{.path}}"
	return s
}

// TestAWebhookIsSigned over the time, the id and the body, and holds nothing that the layout does not name.
func TestAWebhookIsSigned(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	r := h.receive(t)
	h.save(t, "label", toHook())
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	r.mu.Lock()
	defer r.mu.Unlock()
	require.Len(t, r.bodies, 1)
	got, head := r.bodies[0], r.heads[0]
	assert.Equal(t, map[string]string{"label": "office", "country": "Portugal", "city": "Lisbon", "path": "/programme"}, got.Facts)
	assert.Equal(t, []any{"office from Portugal", "Lisbon at /programme", "label", false}, []any{got.Subject, got.Text, got.Notice, got.Test})
	sum := sha256.Sum256(r.raw[0])
	assert.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", head.Get("Content-Digest"))
	assert.Equal(t, `"`+got.ID+`"`, head.Get("Idempotency-Key"))
	input := strings.TrimPrefix(head.Get("Signature-Input"), "porch=")
	assert.Regexp(t, `^\("content-digest" "idempotency-key"\);created=\d{10};keyid="hook";alg="hmac-sha256"$`, input)
	mac := hmac.New(sha256.New, []byte(hookKey))
	fmt.Fprintf(mac, "\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s", head.Get("Content-Digest"), head.Get("Idempotency-Key"), input)
	assert.Equal(t, "porch=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", head.Get("Signature"))
	for name := range head {
		assert.Contains(t, []string{"Accept-Encoding", "Content-Digest", "Content-Length", "Content-Type", "Idempotency-Key", "Signature", "Signature-Input", "User-Agent"}, name)
	}
}

// TestWebhooksThatFail: what is tried again, what is not, and in which order.
func TestWebhooksThatFail(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	r := h.receive(t)
	h.save(t, "label", toHook())
	arrive := func() notice.Letter {
		t.Helper()
		h.come(t, []string{"office"}, "198.18.3.40")
		h.turn(t)
		list := h.messages(t)
		return list[len(list)-1]
	}
	r.answer(http.StatusFound, map[string]string{"Location": "http://127.0.0.1:1/inside"}, false)
	l := arrive()
	assert.Equal(t, notice.Failed, l.State)
	assert.Contains(t, l.Result, "the webhook answered 302: redirects are not followed")
	r.answer(http.StatusBadRequest, nil, false)
	assert.Equal(t, notice.Failed, arrive().State)

	r.answer(http.StatusServiceUnavailable, map[string]string{"Retry-After": "600"}, false)
	first := arrive()
	assert.Equal(t, notice.Waiting, first.State)
	assert.WithinDuration(t, h.Now().Add(10*time.Minute), first.NextTry, 10*time.Second)
	second := arrive()
	assert.Empty(t, second.Tries, "it waits behind the first")
	r.answer(http.StatusNoContent, nil, false)
	h.pass(t, 5*time.Minute)
	bodies, _, _ := r.got()
	assert.Empty(t, bodies, "as late as was asked for")
	h.pass(t, 6*time.Minute)
	_, ids, _ := r.got()
	assert.Equal(t, []string{`"` + first.ID.String() + `"`, `"` + second.ID.String() + `"`}, ids, "in their order")

	r.answer(http.StatusNoContent, nil, true)
	slow := arrive()
	assert.Equal(t, []any{notice.Waiting, "the webhook did not answer in time"}, []any{slow.State, slow.Result})
	r.answer(http.StatusNoContent, nil, false)
	h.pass(t, 2*time.Minute)
	bodies, _, _ = r.got()
	require.Equal(t, slow.ID.String(), bodies[len(bodies)-1].ID, "under the same id")

	r.answer(http.StatusGone, nil, false)
	assert.Contains(t, arrive().Result, "the webhook answered 410, gone for good")
	_, _, seen := r.got()
	last := arrive()
	assert.Equal(t, notice.Failed, last.State)
	assert.Contains(t, last.Result, "not tried")
	_, _, came := r.got()
	assert.Equal(t, seen, came, "nobody asks again")
	list, err := h.List(t.Context(), h.site)
	require.NoError(t, err)
	assert.Equal(t, notice.Gone, list.Channels[0].Standing)
	r.answer(http.StatusOK, nil, false)
	_, err = h.SaveChannel(t.Context(), h.site, "hook", notice.ChannelSave{Said: list.Channels[0].Said}, "a test")
	require.NoError(t, err)
	again, err := h.Resend(t.Context(), h.site, last.ID)
	require.NoError(t, err)
	h.turn(t)
	bodies, _, _ = r.got()
	assert.Equal(t, again.ID.String(), bodies[len(bodies)-1].ID)
	assert.NotEqual(t, last.ID, again.ID, "what was finished under an id never goes under it again")
}

// TestAChannelThatWasChangedMeanwhile: nothing more goes where it led before, also of what waited then.
func TestAChannelThatWasChangedMeanwhile(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	old := h.receive(t)
	h.save(t, "label", toHook())
	old.answer(http.StatusServiceUnavailable, nil, false)
	for range 5 {
		h.come(t, []string{"office"}, "198.18.3.40")
		h.turn(t)
	}
	_, _, before := old.got()
	fresh := h.receive(t)
	h.pass(t, time.Second)
	_, ids, _ := fresh.got()
	_, _, after := old.got()
	assert.Len(t, ids, 5)
	assert.Equal(t, before, after)
	for range 3 {
		h.come(t, []string{"office"}, "198.18.3.40")
	}
	require.NoError(t, h.Drop(t.Context(), h.site, "label", "a test"))
	require.NoError(t, h.DropChannel(t.Context(), h.site, "hook", "a test"))
	h.turn(t)
	_, ids, _ = fresh.got()
	assert.Len(t, ids, 5)
}

// TestStoppedAtRandomMoments: whatever is stopped while messages are written and sent, each arrives, in its order, and
// once.
func TestStoppedAtRandomMoments(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	r := h.receive(t)
	h.save(t, "label", toHook())
	byMail := byLabel()
	byMail.Limit = notice.Limit{Most: 100, Every: "hour"}
	h.save(t, "by-mail", byMail)
	random := rand.New(rand.NewPCG(21, 3))
	const visits = 40
	stops := 0
	for range visits {
		h.come(t, []string{"office"}, "198.18.3.40")
		for range 2 {
			ctx, stop := context.WithCancel(t.Context())
			timer := time.AfterFunc(time.Duration(random.IntN(20_000))*time.Microsecond, stop)
			var delivering sync.WaitGroup
			h.lead.due = time.Time{}
			_ = h.lead.look(ctx, &delivering) // it was stopped, or not
			delivering.Wait()
			if ctx.Err() != nil {
				stops++
			}
			timer.Stop()
			stop()
		}
	}
	for range 5 {
		h.pass(t, 3*time.Hour)
	}
	assert.Greater(t, stops, 10)
	times := map[string]int{}
	_, ids, _ := r.got()
	for _, id := range ids {
		times[id]++
	}
	for _, m := range h.sink.Taken() {
		times[m.Header["Message-Id"][0]]++
	}
	assert.Len(t, times, 2*visits)
	for id, n := range times {
		require.Equal(t, 1, n, "what has begun is noted: %s", id)
	}
	var order []string
	for _, l := range h.messages(t) {
		require.Equal(t, notice.Delivered, l.State)
		if l.Kind == notice.Webhook {
			order = append(order, `"`+l.ID.String()+`"`)
		}
	}
	assert.Equal(t, order, ids, "in the order of writing")
}

// TestSecretsStayWhereTheyAre: neither lists, messages, logs nor errors tell a password or key, and none goes to another
// host than it was entered for.
func TestSecretsStayWhereTheyAre(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	r := h.receive(t)
	h.save(t, "label", toHook())
	r.answer(http.StatusTeapot, map[string]string{"X-Echo": hookKey}, false)
	h.come(t, []string{"office"}, "198.18.3.40")
	h.turn(t)
	list, err := h.List(t.Context(), h.site)
	require.NoError(t, err)
	messages, err := h.Messages(t.Context(), h.site, "", uuid.Nil, 10)
	require.NoError(t, err)
	said, err := json.Marshal([]any{list, messages, h.messages(t), h.Check(t.Context())})
	require.NoError(t, err)
	for _, secret := range []string{password, hookKey} {
		assert.NotContains(t, string(said)+h.log.String(), secret)
	}
	file := filepath.Join(h.dir, "secrets", "notices-heronlake.example-mail")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	moved := mailTo("smtp.elsewhere.example:25")
	moved.Security, moved.Secret = "starttls", "file:notices-heronlake.example-mail"
	_, err = h.SaveChannel(t.Context(), h.site, "mail", notice.ChannelSave{Said: moved}, "a test")
	assert.ErrorContains(t, err, "leads to another host")
	for _, weak := range []string{"short", "fifteen-letters"} {
		_, err = h.SaveChannel(t.Context(), h.site, "hook", notice.ChannelSave{Said: notice.ChannelSaid{Kind: notice.Webhook, URL: "https://x.example/"}, NewSecret: weak}, "a test")
		assert.ErrorContains(t, err, "fewer than")
	}
	assert.ErrorContains(t, h.DropChannel(t.Context(), h.site, "hook", "a test"), "the notice label uses the channel")
	require.NoError(t, os.Remove(file))
	list, err = h.List(t.Context(), h.site)
	require.NoError(t, err)
	assert.Equal(t, []any{false, notice.Failing}, []any{list.Channels[1].SecretReady, list.Channels[1].Standing})
}

// TestNothingIsReachedInside: without the owner's word neither a mail server nor a webhook of an address that is not
// public is reached.
func TestNothingIsReachedInside(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.Inside = false
	_, err := h.Test(t.Context(), h.site, notice.Test{Said: firstVisit(), To: "ida@heronlake.example"})
	require.NoError(t, err)
	h.turn(t)
	assert.Contains(t, h.messages(t)[0].Result, "127.0.0.1 is not public: notices.send_inside allows it")
	assert.Empty(t, h.sink.Taken())
}
