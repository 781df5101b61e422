package console

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/testkit/live"
)

// The page Links: a link is made, followed, looked at and disabled, at seven widths and in the dark.
func TestLinksPage(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for i := range 60 {
		_, err := s.Client.CreateLink(t.Context(), client.NewLink{Said: link.Said{Destination: "/" + strings.Repeat("long/", 20), Name: fmt.Sprintf("%d %s", i, strings.Repeat("wide ", 14))}})
		require.NoError(t, err)
	}
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/links"), live.Visible(".links-table tbody tr"), live.Click(".links-new"), live.Visible(".link-form"))
	p.Do(chromedp.SendKeys(chromedp.CSS(".link-form input"), "/en/tickets"), chromedp.SendKeys(chromedp.CSS(".link-form-two input"), "tickets"), live.Press("[role=dialog]", "button", "Make the link"))
	p.Says(".link-url", "/to/tickets")
	for i := range 3 {
		require.Equal(t, http.StatusFound, s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/tickets", "", live.Firefox, fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i)).Status)
	}
	s.Call(t, "127.0.0.1", http.MethodHead, s.PublicURL+"/to/tickets", "")
	p.Do(chromedp.Navigate(s.AdminURL + "/links?link=tickets"))
	p.Says(".link-legend", "3")
	p.Says(".link-left", "1 preview left out")
	for _, path := range []string{"/links", "/links?link=tickets"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(".linkspage"))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.Do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	p.Do(chromedp.EmulateViewport(1280, 800), live.Click(".link-disable"))
	p.Says(".link-stand", "disabled")
	assert.Equal(t, http.StatusGone, s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/tickets", "").Status)
	p.NothingWrong()
}
