package console

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// The page Companions: a companion is made, tried, its values picked by clicks and categories named, at seven
// widths and in the dark; then its service fails.
func TestCompanionsPage(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	weather, secret := live.WithWeather(t, s)
	there, err := s.Client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	p := live.OpenPage(t, s)
	p.Expected("/v1/companions/try") // which says what is wrong while somebody types
	p.Do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.AdminURL+"/companions"), live.Visible(".companion-editor"), live.Click(".companions-list .companions-head button"), live.Visible(`[aria-label="New companion"]`))
	p.Do(
		chromedp.SendKeys(chromedp.CSS(`[aria-label="Title"]`), "Sky"), chromedp.SendKeys(chromedp.CSS(`[aria-label="Name on the card"]`), "sky"),
		chromedp.SendKeys(chromedp.CSS(`[aria-label="Address of the service"]`), there.Said.URL), live.Click(`.companion-add button:last-child`), live.Click(`.companion-try > button:last-child`),
	)
	p.Says(".companion-answer", `"temp":`)
	p.Eval(`[...document.querySelectorAll("button.companion-line")].find((b) => b.textContent.includes('"wind"')).click(), "picked"`)
	p.Says(".companion-answer .companion-line.chosen", "/now/wind")
	p.Do(live.Click(".companion-more .textlink"), chromedp.SendKeys(chromedp.CSS(`[aria-label="Name of the category"]`), "windy"))
	p.Says(".companion-places .chip.category", "windy")
	p.Do(live.Press(".companion-buttons", "button", "Save"))
	p.Says(".companions-list li.chosen", "Sky")
	made, err := s.Client.Companion(t.Context(), demo.Site, "sky")
	require.NoError(t, err)
	assert.Equal(t, []companion.Pick{{Name: "wind", Pointer: "/now/wind", Type: "number"}}, made.Said.Values)
	assert.Equal(t, []companion.Category{{Name: "windy", When: "wind >= 0"}}, made.Said.Categories)
	p.Do(live.Click(`.companion-try > button:last-child`))
	p.Says(".companions-question", "key=••••")

	require.NoError(t, weather.Fail("503"))
	long := strings.Repeat("a very long note ", 11)
	live.SaidAnew(t, s.Client, func(c *companion.Said) {
		c.Grid, c.Note, c.Title, c.Credit = 5, long, strings.Repeat("Weather ", 7), strings.Repeat("Credit ", 25)
	})
	_, err = s.Client.TryCompanion(t.Context(), demo.Site, companion.Try{Name: "weather", Said: there.Said, Visitors: []string{"Oslo, NO"}, Ask: true})
	require.NoError(t, err)
	s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visitor?site="+demo.Site+"&companions=wait:2s", "", "X-Forwarded-For: 198.18.3.40")
	p.Do(chromedp.Navigate(s.AdminURL + "/companions?companion=weather"))
	p.Says(".companion-strip", "Answered 503")
	for _, path := range []string{"/companions?companion=weather", "/companions?companion=sky", "/companions?companion=%2B"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(".companion-editor"))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.Do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	require.NoError(t, weather.Fail("none"))
	p.Do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.AdminURL+"/companions?companion=weather"), live.Visible(".companion-strip"), live.Click(".companion-strip .textlink"))
	p.Says(".companion-ok", "answers")
	assert.NotContains(t, p.Eval("document.documentElement.outerHTML"), secret)
	p.NothingWrong()
}
