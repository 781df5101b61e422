package console

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

func TestAtlasPageActivatesCorrectsAndDescribes(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	s.Next(t)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/atlas"), live.Visible(".activate-sentence"), live.Visible(".accuracy-table tbody tr"))
	assert.Contains(t, p.Text(".activate-sentence"), "11 ranges")
	assert.Contains(t, p.Text(".sources"), "Harbour Net geofeed")
	assert.Contains(t, p.Text(".coverage-countries"), "Portugal")
	p.Do(live.Click(".activate-actions button:nth-child(2)"), live.Visible("[role=dialog] .changes"))
	assert.Contains(t, p.Text("[role=dialog] .changes"), "198.18.64.0/24")
	p.Do(chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog] .changes"))) // a click could miss a dialog that still moves
	p.Do(live.Press(".coverage-head", "radio", "Map"), live.Visible(".coverage-map circle"))
	p.Do(live.Click(".activate-actions button:first-child"), chromedp.WaitNotPresent(chromedp.CSS(".activate-sentence")))
	assert.Contains(t, p.Text(".activate"), "No newer edition")
	assert.Contains(t, p.Text(".editions"), "Go back to it")

	_, err := s.Client.Correct(t.Context(), map[string]any{"range": "198.18.7.0/24", "country_code": "PT", "city": "Faro"})
	require.NoError(t, err)
	p.Do(chromedp.Navigate(s.AdminURL+"/atlas"), live.Visible(".sources tbody tr"))
	assert.Contains(t, p.Text(".sources"), "Corrections")

	p.Do(chromedp.Navigate(s.AdminURL+"/lookup/many"), live.Visible(".many-choose textarea"),
		chromedp.SendKeys(chromedp.CSS(".many-choose textarea"), "198.18.3.40\n300.1.1.1\n3fff:1a0:7::9\n3323069224\n"),
		live.Press("", "button", "Look them up"), live.Visible(".many-table tr.rejected"))
	answers := p.Text(".many-table")
	assert.Contains(t, answers, "Lisbon, Portugal")
	assert.Contains(t, answers, "not an address")
	assert.Contains(t, answers, "skipped")
	assert.Contains(t, answers, "an integer")
	p.Do(chromedp.EmulateViewport(390, 844))
	for _, path := range []string{"/atlas", "/lookup/many"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(".tabs"), live.Visible("#content > *"))
		assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= 390)"), "%s scrolls sideways", path)
	}
	p.NothingWrong()
}
