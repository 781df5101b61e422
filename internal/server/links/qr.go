package links

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"strings"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/qr"
	"github.com/gin-gonic/gin"

	"eastporch/internal/server/request"
)

// quiet is the zone around a QR code that stays light, in modules (ISO/IEC 18004).
const quiet = 4

// SVG draws a link's QR code.
func (a *API) SVG(c *gin.Context) {
	of, err := a.of(c)
	var code barcode.Barcode
	if err == nil {
		code, err = qr.Encode(of.URL, qr.M, qr.Auto)
	}
	if err != nil {
		a.own(c, 0, nil, err)
		return
	}
	n := code.Bounds().Dx()
	var path strings.Builder
	for y := range n {
		for x := range n {
			if isDark(code, x, y) {
				fmt.Fprintf(&path, "M%d %dh1v1h-1z", x+quiet, y+quiet)
			}
		}
	}
	c.Header("Cache-Control", "private, no-store")
	c.Header("Content-Disposition", fmt.Sprintf(`inline; filename="%s.svg"`, of.Code))
	c.Data(http.StatusOK, "image/svg+xml; charset=utf-8", fmt.Appendf(nil,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %[1]d %[1]d" shape-rendering="crispEdges" role="img" aria-label="QR code of %[3]s"><path fill="#fff" d="M0 0h%[1]dv%[1]dH0z"/><path d="%[2]s"/></svg>`,
		n+2*quiet, path.String(), of.URL))
}

func isDark(code image.Image, x, y int) bool {
	r, _, _, _ := code.At(x, y).RGBA()
	return r < 0x8000
}

// PNG draws a link's QR code, of at most so many pixels a side.
func (a *API) PNG(c *gin.Context) {
	size, err := request.Int(c, "size", 800, 100, 4000)
	var text bytes.Buffer
	name := ""
	if err == nil {
		of, wrong := a.of(c)
		if err = wrong; err == nil {
			name = of.Code
			var code barcode.Barcode
			if code, err = qr.Encode(of.URL, qr.M, qr.Auto); err == nil {
				err = png.Encode(&text, drawn(code, size))
			}
		}
	}
	if err != nil {
		a.own(c, 0, nil, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	c.Header("Content-Disposition", fmt.Sprintf(`inline; filename="%s.png"`, name))
	c.Data(http.StatusOK, "image/png", text.Bytes())
}

// drawn is a code whose modules have the same whole number of pixels.
func drawn(code image.Image, size int) image.Image {
	n := code.Bounds().Dx() + 2*quiet
	scale := max(1, size/n)
	out := image.NewPaletted(image.Rect(0, 0, n*scale, n*scale), color.Palette{color.White, color.Black})
	for y := range n * scale {
		for x := range n * scale {
			mx, my := x/scale-quiet, y/scale-quiet
			if mx >= 0 && my >= 0 && mx < n-2*quiet && my < n-2*quiet && isDark(code, mx, my) {
				out.SetColorIndex(x, y, 1)
			}
		}
	}
	return out
}
