package e2e

import (
	"context"
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

	"eastporch/internal/client"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/notice"
	"eastporch/internal/demo"
	"eastporch/internal/demo/standin"
	"eastporch/internal/testkit/db"
)

// withMail gives a service a mail server that stands in, as the channel mail.
func withMail(t *testing.T, c *client.Client) (sink *standin.Mail, page string) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, page, sink, err := demo.StartMail(ctx)
	require.NoError(t, err)
	said := notice.ChannelSaid{Kind: notice.Mail, Server: at, Security: "none", Login: sink.Login, From: "porch@heronlake.example", ADay: 200, RecipientAnHour: 50}
	_, err = c.SaveChannel(t.Context(), demo.Site, "mail", notice.ChannelSave{Said: said, NewSecret: sink.Password})
	require.NoError(t, err)
	return sink, page
}

// arrived waits until so many mails were taken, and gives them.
func arrived(t *testing.T, sink *standin.Mail, n int) []standin.Received {
	t.Helper()
	require.Eventually(t, func() bool { return len(sink.Taken()) >= n }, time.Minute, 20*time.Millisecond)
	return sink.Taken()
}

// blockOf gives the block of a kind in docs/notices.md that begins with some words.
func blockOf(t *testing.T, kind, begins string) string {
	t.Helper()
	text, err := os.ReadFile("../../docs/notices.md")
	require.NoError(t, err)
	for _, part := range strings.Split(string(text), "```"+kind+"\n")[1:] {
		if inside, _, _ := strings.Cut(part, "```"); strings.HasPrefix(inside, begins) {
			return inside
		}
	}
	t.Fatalf("no block of %s begins with %q", kind, begins)
	return ""
}

// What docs/notices.md hands out is used as it stands there: its files and commands, and the form on a page of another
// origin, in a real browser, by a stranger who confirms a mail address.
func TestNoticesAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	withWeather(t, s)
	sink, inbox := withMail(t, s.client)
	list, err := s.client.Notices(t.Context(), demo.Site)
	require.NoError(t, err)
	server := list.Channels[slices.IndexFunc(list.Channels, func(c notice.ChannelState) bool { return c.Name == "mail" })].Said.Server
	require.NoError(t, demo.Notices(t.Context(), s.client, server, inbox, sink.Password))
	for _, name := range []string{"first-visit", "checkup-warns"} {
		require.NoError(t, s.client.DropNotice(t.Context(), demo.Site, name))
	}
	dir := t.TempDir()
	for name, text := range map[string]string{
		"mail.yaml": strings.ReplaceAll(blockOf(t, "yaml", "kind: mail"), demo.MailAddress, server), "first-visit.yaml": blockOf(t, "yaml", "title: First visit"), "password.txt": sink.Password,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	ran := 0
	for line := range strings.Lines(blockOf(t, "sh", "eastporch standin mail") + blockOf(t, "sh", "eastporch notices ask")) {
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
		code, out, errors := runIn(t, t.TempDir(), "", append([]string{"--server", s.adminURL, "--key", s.admin}, words[1:]...)...)
		require.Zero(t, code, "%s: %s", line, errors)
		assert.NotContains(t, out, sink.Password)
		ran++
	}
	assert.Equal(t, 6, ran)
	mails := arrived(t, sink, 2)
	assert.Equal(t, "Test: First visit from Kenya", mails[0].Subject)
	assert.Contains(t, mails[1].Text, "Country: Portugal\n")
	assert.Contains(t, mails[1].HTML, "<td style=\"padding:4px 0\">Portugal</td>")

	var key string
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		form := strings.NewReplacer("https://porch.heronlake.example", s.publicURL, "PAGE_KEY", key).Replace(blockOf(t, "html", `<form id="ask">`))
		fmt.Fprintf(w, "<!doctype html><html lang=en><title>Ask</title><link rel=icon href=\"data:,\">%s", form)
	}))
	t.Cleanup(page.Close)
	made, err := s.client.CreateKey(t.Context(), keys.NewKey{Name: "the form", Scope: "page", Sites: []string{demo.Site}, Origins: []string{page.URL}})
	require.NoError(t, err)
	key = made.Secret
	p := openTab(t)
	p.do(chromedp.Navigate(page.URL), chromedp.SendKeys(chromedp.CSS(`[name="address"]`), "198.18.3.40"), chromedp.SendKeys(chromedp.CSS(`[name="to"]`), "mara@crew.example"), click("#ask button"))
	p.says("[role=status]", "A mail is on its way")
	mails = arrived(t, sink, 3)
	assert.Equal(t, "Confirm your mail address at Heron Lake Regatta", mails[2].Subject)
	link := regexp.MustCompile(`http://\S+/mail\?token=\S+`).FindString(mails[2].Text)
	p.do(chromedp.Navigate(link))
	p.says("h1", "Is this mail address yours?")
	p.do(click("button"))
	p.says("h1", "The answer is on its way.")
	mails = arrived(t, sink, 4)
	assert.Equal(t, []string{"mara@crew.example"}, mails[3].To)
	assert.Equal(t, "Where 198.18.3.40 is", mails[3].Subject)
	p.do(chromedp.Navigate(regexp.MustCompile(`http://\S+/mail\?token=\S+`).FindString(mails[3].Text)))
	p.says("h1", "No more mails?")
	p.do(click("button"))
	p.says("h1", "No more mails.")
	p.nothingWrong()

	// The key is revoked: the form is refused, in words.
	_, err = s.client.RevokeKey(t.Context(), made.Key.ID.String(), false)
	require.NoError(t, err)
	p.expected("/ask")
	p.do(chromedp.Navigate(page.URL), chromedp.SendKeys(chromedp.CSS(`[name="address"]`), "198.18.3.40"), chromedp.SendKeys(chromedp.CSS(`[name="to"]`), "sol@crew.example"), click("#ask button"))
	p.says("[role=status]", "It could not be sent. Try again.")
}

// The receiver of docs/notices.md, run by Node.js, takes what is signed with its key and in time, and nothing else.
func TestTheReceiverChecksSignatures(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "receiver.mjs"), []byte(blockOf(t, "js", "// receiver.mjs")), 0o600))
	const key = "made-up-key-of-the-receiver"
	port := freePort(t)
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
	}, time.Minute, 20*time.Millisecond)
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
	_, err = s.client.SaveChannel(t.Context(), demo.Site, "hook", notice.ChannelSave{Said: notice.ChannelSaid{Kind: notice.Webhook, URL: at}, NewSecret: key})
	require.NoError(t, err)
	m, err := s.client.TestNotice(t.Context(), demo.Site, notice.Test{Said: notice.Said{
		Title: "Refusals", Trigger: notice.Trigger{Kind: notice.OnRefusals, Times: 3, Least: 30}, Channel: "hook", Subject: "Refusals: {{.refusals}}", Text: "x", Limit: notice.Limit{Most: 1, Every: "hour"},
	}})
	require.NoError(t, err)
	delivered(t, s.client, m.ID.String())
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

// delivered waits until a message was delivered.
func delivered(t *testing.T, c *client.Client, id string) notice.MessageWhole {
	t.Helper()
	var m notice.MessageWhole
	require.Eventually(t, func() bool {
		var err error
		m, err = c.Message(t.Context(), demo.Site, id)
		require.NoError(t, err)
		return m.Message.State != notice.Waiting
	}, time.Minute, 20*time.Millisecond)
	require.Equal(t, notice.Delivered, m.Message.State, m)
	return m
}

// kill -9 between what triggers a notice and its delivery, and in the middle of one: each mail arrives, and once more
// at the most, as the Message-ID tells.
func TestFaultNoticesAcrossKills(t *testing.T) {
	t.Parallel()
	p := newProcess(t, db.New(t))
	p.args = append(p.args, "--notices-send-inside", "true")
	p.start()
	dial := func() *client.Client {
		t.Helper()
		c, err := client.New(p.adminURL, p.key, nil)
		require.NoError(t, err)
		return c
	}
	sink, _ := withMail(t, dial())
	said, err := notice.ReadFile([]byte(blockOf(t, "yaml", "title: First visit")))
	require.NoError(t, err)
	said.To, said.Quiet = []string{"race-office@heronlake.example", "ida@heronlake.example"}, nil
	_, err = dial().SaveNotice(t.Context(), demo.Site, "first-visit", notice.Save{Said: said})
	require.NoError(t, err)
	visit := func(address string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, p.adminURL+"/v1/visits", strings.NewReader(visitBody("203.0.113.4", address)))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+p.key)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Less(t, answer.StatusCode, 300)
	}
	from := []string{"198.18.3.40", "198.19.141.9", "198.18.41.12", "198.19.45.7", "2001:db8:5e1:40::1f", "203.0.113.187"}
	for i, address := range from {
		require.NoError(t, sink.Fail([]string{"none", "hang"}[i%2]))
		visit(address)
		if i%2 == 1 { // in the middle of it
			require.Eventually(t, func() bool { return len(sink.Tried()) > 0 }, time.Minute, time.Millisecond)
		}
		p.kill()
		require.NoError(t, sink.Fail("none"))
		p.start()
		arrived(t, sink, 2*(i+1)) // two recipients
	}
	mails := sink.Taken()
	times, subjects := map[string]int{}, map[string]bool{}
	for _, m := range mails {
		times[m.Header["Message-Id"][0]]++
		subjects[m.Subject] = true
	}
	assert.Len(t, subjects, len(from), "one country each: %v", subjects)
	assert.Len(t, times, 2*len(from), "nothing is written twice")
	for id, n := range times {
		assert.LessOrEqual(t, n, 2, id)
	}
	list, err := dial().Messages(t.Context(), demo.Site, "first-visit", nil)
	require.NoError(t, err)
	for _, m := range list.Messages {
		delivered(t, dial(), m.ID.String())
	}
	require.NoError(t, p.stop())
	assert.NotContains(t, p.output.String(), sink.Password)
	assert.NotContains(t, p.output.String(), "race-office@", "recipients are in no log")
}

// The page Notices: a channel and a notice are made and tested by clicks, at seven widths, with long texts and a channel
// that fails.
func TestNoticesPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 60)
	p := openPage(t, s)
	p.expected("/v1/notices/preview") // which says what is wrong while somebody types
	p.do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.adminURL+"/notices"))
	p.says(".state", "No channel yet")
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, _, sink, err := demo.StartMail(ctx)
	require.NoError(t, err)
	typed := func(label, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(label), text)
	}
	p.do(click(".state .ant-btn-primary"), visible(".channel-form"),
		typed(`.channel-form [placeholder^="smtp."]`, at), typed(`.channel-form [placeholder*="<porch@"]`, "Regatta <porch@heronlake.example>"), typed(`.channel-form .dialog-field:nth-of-type(5) input`, "porch"))
	p.do(visible("#channel-secret"), typed("#channel-secret", sink.Password), click(".channel-foot .ant-btn-primary"))
	p.says(".notices-channels", "not used yet")
	p.says(".state", "No notices yet")
	p.do(click(".state .ant-btn-primary"), visible(`[aria-label="New notice"]`), typed(`[aria-label="Name"]`, "first-visit"), typed("#notice-to", "race-office@heronlake.example,ida@heronlake.example,"))
	p.says(".notice-preview", "First visit from")
	p.do(click(".sentence-choice"))
	p.says(".choice-body", "not seen for")
	p.do(click(".notice-foot .ant-btn-primary"))
	p.says(".notices-list li.chosen", "First visit from a new country")
	made, err := s.client.Notice(t.Context(), demo.Site, "first-visit")
	require.NoError(t, err)
	assert.Equal(t, []string{"race-office@heronlake.example", "ida@heronlake.example"}, made.Said.To)
	p.do(click(".notice-foot .ant-btn:nth-child(2)"), visible(".ant-modal .dialog-field input"), click(".ant-modal-footer .ant-btn-primary"))
	p.says(".sent-table", "speaks no TLS")
	p.says(".notices-channels", "fails")
	channels, err := s.client.Notices(t.Context(), demo.Site)
	require.NoError(t, err)
	said := channels.Channels[0].Said
	said.Security = "none"
	_, err = s.client.SaveChannel(t.Context(), demo.Site, "mail", notice.ChannelSave{Said: said})
	require.NoError(t, err)
	mails := arrived(t, sink, 1)
	assert.True(t, strings.HasPrefix(mails[0].Subject, "Test: First visit from "), mails[0].Subject)
	p.says(".sent-table", "delivered")
	p.do(chromedp.Navigate(regexp.MustCompile(`http://\S+/visits\?\S+`).FindString(mails[0].Text)))
	p.says("aside.visit", strings.TrimPrefix(mails[0].Subject, "Test: First visit from "))
	p.do(chromedp.Navigate(s.adminURL+"/notices"), visible(".sent-table"))
	p.do(click(".sent-table .plainbutton"))
	p.says(".message-whole", "Attempts")
	p.do(click(".ant-modal-close"))

	long := made.Said
	long.Title, long.Subject = strings.Repeat("Visits ", 8), strings.Repeat("A very long subject ", 8)+"{{.country}}"
	long.Text, long.HTML = strings.Repeat("Town: {{.city}} and a long text without an end ", 20)+"\n"+long.Text, "<p style=\"color:#16262e\">{{.city}}</p>"
	_, err = s.client.SaveNotice(t.Context(), demo.Site, "long", notice.Save{Said: long})
	require.NoError(t, err)
	for _, path := range []string{"/notices?notice=long", "/notices?notice=first-visit", "/notices?notice=%2B"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(".notice-editor"))
		p.says(".notice-preview", "visit")
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	// The HTML is shown as it will look, though the console allows no styles in a page's text.
	p.do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.adminURL+"/notices?notice=long"), visible(".notice-editor"), click(".notice-layout .ant-segmented-item:nth-child(2)"), visible(".preview-mail iframe"))
	p.until(`document.querySelector(".preview-mail iframe").contentDocument?.querySelector("p")?.style.color === "rgb(22, 38, 46)"`)
	assert.NotContains(t, p.eval("document.documentElement.outerHTML"), sink.Password)
	p.nothingWrong()
}
