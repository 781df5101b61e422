package documents

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/keys"
	"eastporch/internal/core/notice"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// What docs/notices.md hands out is used as it stands there: its files and commands, and the form on a page of another
// origin, in a real browser, by a stranger who confirms a mail address.
func TestNoticesAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	live.WithWeather(t, s)
	sink, inbox := live.WithMail(t, s.Client)
	list, err := s.Client.Notices(t.Context(), demo.Site)
	require.NoError(t, err)
	server := list.Channels[slices.IndexFunc(list.Channels, func(c notice.ChannelState) bool { return c.Name == "mail" })].Said.Server
	require.NoError(t, demo.Notices(t.Context(), s.Client, server, inbox, sink.Password))
	for _, name := range []string{"first-visit", "checkup-warns"} {
		require.NoError(t, s.Client.DropNotice(t.Context(), demo.Site, name))
	}
	dir := t.TempDir()
	for name, text := range map[string]string{
		"mail.yaml": strings.ReplaceAll(live.BlockOf(t, "yaml", "kind: mail"), demo.MailAddress, server), "first-visit.yaml": live.BlockOf(t, "yaml", "title: First visit"), "password.txt": sink.Password,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	ran := 0
	for line := range strings.Lines(live.BlockOf(t, "sh", "eastporch standin mail") + live.BlockOf(t, "sh", "eastporch notices ask")) {
		command, _, _ := strings.Cut(line, "#")
		words := strings.Fields(command)
		if len(words) < 2 || words[1] != "notices" {
			continue
		}
		for i, word := range words {
			if strings.HasSuffix(word, ".yaml") || strings.HasSuffix(word, ".txt") {
				words[i] = filepath.Join(dir, word)
			}
		}
		code, out, errors := live.RunIn(t, t.TempDir(), "", append([]string{"--server", s.AdminURL, "--key", s.Admin}, words[1:]...)...)
		require.Zero(t, code, "%s: %s", line, errors)
		assert.NotContains(t, out, sink.Password)
		ran++
	}
	assert.Equal(t, 6, ran)
	mails := live.Mails(t, sink, 2)
	assert.Equal(t, "Test: First visit from Kenya", mails[0].Subject)
	assert.Contains(t, mails[1].Text, "Country: Portugal\n")
	assert.Contains(t, mails[1].HTML, "<td style=\"padding:4px 0\">Portugal</td>")

	var key string
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		form := strings.NewReplacer("https://porch.heronlake.example", s.PublicURL, "PAGE_KEY", key).Replace(live.BlockOf(t, "html", `<form id="ask">`))
		fmt.Fprintf(w, "<!doctype html><html lang=en><title>Ask</title><link rel=icon href=\"data:,\">%s", form)
	}))
	t.Cleanup(page.Close)
	made, err := s.Client.CreateKey(t.Context(), keys.NewKey{Name: "the form", Scope: "page", Sites: []string{demo.Site}, Origins: []string{page.URL}})
	require.NoError(t, err)
	key = made.Secret
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(page.URL), chromedp.SendKeys(chromedp.CSS(`[name="address"]`), "198.18.3.40"), chromedp.SendKeys(chromedp.CSS(`[name="to"]`), "mara@crew.example"), live.Click("#ask button"))
	p.Says("[role=status]", "A mail is on its way")
	mails = live.Mails(t, sink, 3)
	assert.Equal(t, "Confirm your mail address at Heron Lake Regatta", mails[2].Subject)
	link := regexp.MustCompile(`http://\S+/mail\?token=\S+`).FindString(mails[2].Text)
	p.Do(chromedp.Navigate(link))
	p.Says("h1", "Is this mail address yours?")
	p.Do(live.Click("button"))
	p.Says("h1", "The answer is on its way.")
	mails = live.Mails(t, sink, 4)
	assert.Equal(t, []string{"mara@crew.example"}, mails[3].To)
	assert.Equal(t, "Where 198.18.3.40 is", mails[3].Subject)
	p.Do(chromedp.Navigate(regexp.MustCompile(`http://\S+/mail\?token=\S+`).FindString(mails[3].Text)))
	p.Says("h1", "No more mails?")
	p.Do(live.Click("button"))
	p.Says("h1", "No more mails.")
	p.NothingWrong()

	// The key is revoked: the form is refused, in words.
	_, err = s.Client.RevokeKey(t.Context(), made.Key.ID.String(), false)
	require.NoError(t, err)
	p.Expected("/ask")
	p.Do(chromedp.Navigate(page.URL), chromedp.SendKeys(chromedp.CSS(`[name="address"]`), "198.18.3.40"), chromedp.SendKeys(chromedp.CSS(`[name="to"]`), "sol@crew.example"), live.Click("#ask button"))
	p.Says("[role=status]", "It is not known here, or was revoked.")
}

// The receiver of docs/notices.md, run by Node.js, takes what is signed with its key and in time, and nothing else.
func TestTheReceiverChecksSignatures(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "receiver.mjs"), []byte(live.BlockOf(t, "js", "// receiver.mjs")), 0o600))
	const key = "made-up-key-of-the-receiver"
	port := live.FreePort(t)
	receiver := exec.Command("node", filepath.Join(dir, "receiver.mjs"), port)
	receiver.Env = append(os.Environ(), "PORCH_KEY="+key)
	out, err := receiver.StdoutPipe()
	require.NoError(t, err)
	receiver.Stderr = os.Stderr
	require.NoError(t, receiver.Start())
	t.Cleanup(func() {
		_ = receiver.Process.Kill() // it ends by no other way
		_ = receiver.Wait()
	})
	at := "http://127.0.0.1:" + port
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 10*time.Minute, 20*time.Millisecond)
	post := func(body string, header map[string]string) int {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, at, strings.NewReader(body))
		require.NoError(t, err)
		for name, value := range header {
			r.Header.Set(name, value)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		return answer.StatusCode
	}
	now, body := time.Now(), `{"id":"1","subject":"by hand","facts":{}}`
	good := notice.Signature("1", []byte(body), []byte(key), "hook", now)
	assert.Equal(t, 204, post(body, good))
	assert.Equal(t, 204, post(body, good), "twice is once")
	assert.Equal(t, 401, post(body+" ", good), "another body")
	assert.Equal(t, 401, post(body, nil))
	assert.Equal(t, 401, post(body, notice.Signature("1", []byte(body), []byte("another key"), "hook", now)))
	assert.Equal(t, 401, post(body, notice.Signature("1", []byte(body), []byte(key), "hook", now.Add(-time.Hour))), "too old")
	for _, name := range []string{"Idempotency-Key", "Signature-Input", "Signature"} {
		bad := map[string]string{}
		for n, v := range good {
			bad[n] = v
		}
		bad[name] = strings.Replace(bad[name], "1", "2", 1)
		if name == "Signature" {
			bad[name] = "porch=:AAAA:"
		}
		assert.Equal(t, 401, post(body, bad), name)
	}
	_, err = s.Client.SaveChannel(t.Context(), demo.Site, "hook", notice.ChannelSave{Said: notice.ChannelSaid{Kind: notice.Webhook, URL: at}, NewSecret: key})
	require.NoError(t, err)
	m, err := s.Client.TestNotice(t.Context(), demo.Site, notice.Test{Said: notice.Said{
		Title: "Refusals", Trigger: notice.Trigger{Kind: notice.OnRefusals, Times: 3, Least: 30}, Channel: "hook", Subject: "Refusals: {{.refusals}}", Text: "x", Limit: notice.Limit{Most: 1, Every: "hour"},
	}})
	require.NoError(t, err)
	live.Delivered(t, s.Client, m.ID.String())
	said := make([]byte, 200)
	n, err := out.Read(said)
	require.NoError(t, err)
	for !strings.Contains(string(said[:n]), "Refusals") {
		more, err := out.Read(said[n:])
		require.NoError(t, err)
		n += more
	}
	assert.Equal(t, "by hand\nTest: Refusals: 96\n", string(said[:n]))
}
