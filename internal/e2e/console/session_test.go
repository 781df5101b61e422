package console

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// A session ends while a form is open and filled in: whoever saves is asked to sign in, over the page, finds the
// form as it was, and saves it.
func TestAnEndedSessionLosesNothing(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	p := live.OpenPage(t, s)
	p.Expected("/v1/")
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/links"), live.Click(".links-new"), live.Visible(".link-form"))
	p.Do(chromedp.SendKeys(chromedp.CSS(".link-form input"), "/en/tickets"), chromedp.SendKeys(chromedp.CSS(".link-form-two input"), "tickets"))
	sessions := live.Parse[struct {
		Sessions []struct {
			ID string `json:"id"`
		} `json:"sessions"`
	}](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/sessions", ""))
	require.NotEmpty(t, sessions.Sessions)
	for _, one := range sessions.Sessions {
		s.Call(t, "127.0.0.1", http.MethodDelete, s.AdminURL+"/v1/sessions/"+one.ID, "")
	}
	p.Do(live.Press("[role=dialog]", "button", "Make the link"), live.Visible("#admin-key"))
	p.Says(".signin-form", "The page behind is as you left it")
	assert.Equal(t, "hidden", p.Eval(`getComputedStyle(document.querySelector(".link-form")).visibility`), "nothing of it is seen")
	assert.Equal(t, "admin-key", p.Eval("document.activeElement.id"))
	p.Do(chromedp.SendKeys(chromedp.CSS("#admin-key"), s.Admin), live.Press(".signin-form", "button", "Sign in"))
	p.Until(`document.querySelector("#admin-key") === null`)
	assert.Equal(t, "/en/tickets tickets", p.Eval(`[...document.querySelectorAll(".link-form input")].slice(0, 2).map((e) => e.value).join(" ")`))
	p.Do(live.Press("[role=dialog]", "button", "Make the link"))
	p.Says(".link-url", "/to/tickets")
}
