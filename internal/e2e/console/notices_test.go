package console

import (
	"context"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/notice"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// The page Notices: a channel and a notice are made and tested by clicks, at seven widths, with long texts and a channel
// that fails.
func TestNoticesPage(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	p := live.OpenPage(t, s)
	p.Expected("/v1/notices/preview") // which says what is wrong while somebody types
	p.Do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.AdminURL+"/notices"))
	p.Says(".state", "No channel yet")
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, _, sink, err := demo.StartMail(ctx)
	require.NoError(t, err)
	typed := func(label, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(label), text)
	}
	p.Do(live.Press("", "button", "Add a channel"), live.Visible(".channel-form"),
		typed(`.channel-form [placeholder^="smtp."]`, at), typed(`.channel-form [placeholder*="<porch@"]`, "Regatta <porch@heronlake.example>"), typed(`.channel-form .dialog-field:nth-of-type(5) input`, "porch"))
	p.Do(live.Visible("#channel-secret"), typed("#channel-secret", sink.Password), live.Press(".channel-foot", "button", "Save"))
	p.Says(".notices-channels", "not used yet")
	p.Says(".state", "No notices yet")
	p.Do(live.Press("", "button", "Write a notice"), live.Visible(`[aria-label="New notice"]`), typed(`[aria-label="Name"]`, "first-visit"), typed("#notice-to", "race-office@heronlake.example,ida@heronlake.example,"))
	p.Says(".notice-preview", "First visit from")
	p.Do(live.Click(".sentence-choice"))
	p.Says(".choice-body", "not seen for")
	p.Do(live.Press(".notice-foot", "button", "Save"))
	p.Says(".notices-list li.chosen", "First visit from a new country")
	made, err := s.Client.Notice(t.Context(), demo.Site, "first-visit")
	require.NoError(t, err)
	assert.Equal(t, []string{"race-office@heronlake.example", "ida@heronlake.example"}, made.Said.To)
	p.Do(live.Press("", "button", "Send me a test"), live.Visible("[role=dialog] .dialog-field input"), live.Press("[role=dialog]", "button", "Send"))
	p.Says(".sent-table", "speaks no TLS")
	p.Says(".notices-channels", "fails")
	channels, err := s.Client.Notices(t.Context(), demo.Site)
	require.NoError(t, err)
	said := channels.Channels[0].Said
	said.Security = "none"
	_, err = s.Client.SaveChannel(t.Context(), demo.Site, "mail", notice.ChannelSave{Said: said})
	require.NoError(t, err)
	mails := live.Mails(t, sink, 1)
	assert.True(t, strings.HasPrefix(mails[0].Subject, "Test: First visit from "), mails[0].Subject)
	p.Says(".sent-table", "delivered")
	p.Do(chromedp.Navigate(regexp.MustCompile(`http://\S+/visits\?\S+`).FindString(mails[0].Text)))
	p.Says("aside.visit", strings.TrimPrefix(mails[0].Subject, "Test: First visit from "))
	p.Do(chromedp.Navigate(s.AdminURL+"/notices"), live.Visible(".sent-table"))
	p.Do(live.Click(".sent-table .plainbutton"))
	p.Says(".message-whole", "Attempts")
	p.Do(live.Press("[role=dialog]", "button", "Close"))

	long := made.Said
	long.Title, long.Subject = strings.Repeat("Visits ", 8), strings.Repeat("A very long subject ", 8)+"{{.country}}"
	long.Text, long.HTML = strings.Repeat("Town: {{.city}} and a long text without an end ", 20)+"\n"+long.Text, "<p style=\"color:#16262e\">{{.city}}</p>"
	_, err = s.Client.SaveNotice(t.Context(), demo.Site, "long", notice.Save{Said: long})
	require.NoError(t, err)
	for _, path := range []string{"/notices?notice=long", "/notices?notice=first-visit", "/notices?notice=%2B"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(".notice-editor"))
		p.Says(".notice-preview", "visit")
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.Do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	// The HTML is shown as it will look, though the console allows no styles in a page's text.
	p.Do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.AdminURL+"/notices?notice=long"), live.Visible(".notice-editor"), live.Press(".notice-layout", "radio", "HTML"), live.Visible(".preview-mail iframe"))
	p.Until(`document.querySelector(".preview-mail iframe").contentDocument?.querySelector("p")?.style.color === "rgb(22, 38, 46)"`)
	assert.NotContains(t, p.Eval("document.documentElement.outerHTML"), sink.Password)
	p.NothingWrong()
}
