package answers

import (
	"bytes"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// The database away: links are followed and their clicks wait; what was made at one instance is followed at
// the other, with one limit for both.
func TestLinksOfTwoInstances(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	one := live.Start(t, map[string]any{"database.url": database})
	other := live.Start(t, map[string]any{"database.url": database})
	one.Admin = other.Admin // the second start made it anew
	var err error
	one.Client, err = client.New(one.AdminURL, one.Admin, one.Contract)
	require.NoError(t, err)
	require.Eventually(t, func() bool { _, err := one.Client.Sites(t.Context()); return err == nil }, 10*time.Minute, 50*time.Millisecond)
	_, err = one.Client.CreateLink(t.Context(), client.NewLink{Code: "few", Said: link.Said{Destination: "/x", Limit: new(int64(3))}})
	require.NoError(t, err)
	follow := func(s *live.Service) int {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/few", "", live.Firefox).Status
	}
	assert.Eventually(t, func() bool { return follow(other) == http.StatusFound }, 10*time.Minute, 50*time.Millisecond)
	for range 5 {
		follow(one)
	}
	assert.Eventually(t, func() bool { return follow(one) == http.StatusGone && follow(other) == http.StatusGone }, 10*time.Minute, 50*time.Millisecond, "the limit is of both")
	_, err = other.Client.ChangeLink(t.Context(), "few", map[string]any{"limit": nil, "destination": "/y"})
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		return one.Call(t, "127.0.0.1", http.MethodGet, one.PublicURL+"/to/few", "").Header.Get("Location") == "https://heronlake.example/y" || follow(one) == http.StatusFound
	}, 10*time.Minute, 50*time.Millisecond)
	_, err = one.Client.ChangeLink(t.Context(), "few", map[string]any{"disabled": true})
	require.NoError(t, err)
	assert.Equal(t, http.StatusGone, follow(one), "at once where it was disabled")
	assert.Eventually(t, func() bool { return follow(other) == http.StatusGone }, 10*time.Minute, 50*time.Millisecond)
}

// What is printed can be read: a reader of QR codes gives the address back, from the PNG and from the SVG as
// a browser draws it.
func TestQRCodesCanBeRead(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	made, err := s.Client.CreateLink(t.Context(), client.NewLink{Code: "a-rather-long-code-of-thirty-two", Said: link.Said{Destination: "/x"}})
	require.NoError(t, err)
	read := func(text []byte) string {
		t.Helper()
		picture, err := png.Decode(bytes.NewReader(text))
		require.NoError(t, err)
		bits, err := gozxing.NewBinaryBitmapFromImage(picture)
		require.NoError(t, err)
		found, err := qrcode.NewQRCodeReader().Decode(bits, nil)
		require.NoError(t, err)
		return found.GetText()
	}
	for _, size := range []int{100, 400, 800, 4000} {
		var text bytes.Buffer
		require.NoError(t, s.Client.LinkQR(t.Context(), made.Code, "png", size, &text))
		assert.Equal(t, made.URL, read(text.Bytes()), size)
	}
	file := filepath.Join(t.TempDir(), "x.svg")
	code, _, errs := live.RunIn(t, t.TempDir(), "", "links", "qr", made.Code, "--out", file, "--server", s.AdminURL, "--key", s.Admin)
	require.Zero(t, code, errs)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(400, 400), chromedp.Navigate(s.AdminURL+"/v1/links/"+made.Code+"/qr.svg"))
	drawn, err := chromedp.Run(p.Ctx, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	assert.Equal(t, made.URL, read(drawn))
	written, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/links/"+made.Code+"/qr.svg", "").Body, string(written))
}
