package rehearsals

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"golang.org/x/net/html"

	"eastporch/api"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/fetch"
	"eastporch/internal/server/sites"
)

// Bounds of a page that is fetched.
const (
	pageWithin = 10 * time.Second
	mostPage   = 512 << 10 // bytes
	mostText   = 2000      // bytes of its text
)

// page asks the site for a page as if a visitor did.
func (s *Rehearsals) page(ctx context.Context, site *sites.Site, v *api.RehearsalVisitor, path string, ip netip.Addr, languages string) *api.RehearsedPage {
	ctx, cancel := context.WithTimeout(ctx, pageWithin)
	defer cancel()
	failed := func(err error) *api.RehearsedPage {
		return &api.RehearsedPage{Problem: plain.Optional(plain.Clean(err.Error(), 300))}
	}
	origin, err := url.Parse(site.Origin)
	if err != nil {
		return failed(err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, site.Origin+path, nil)
	if err != nil {
		return failed(err)
	}
	request.Host = site.Host
	if origin.Hostname() == site.Host {
		request.Host = origin.Host
	}
	request.Header.Set("User-Agent", v.UserAgent)
	request.Header.Set("Accept-Language", languages)
	request.Header.Set("Cache-Control", "no-store")
	request.Header.Set(rehearsal.Header, s.opt.Signer.Sign(rehearsal.Token{
		Site: site.Host, Scheme: origin.Scheme, Host: request.Host, Method: http.MethodGet, Target: path, As: persona(v, ip, languages),
	}))
	client := fetch.Client{Inside: site.Inside, InsideKey: "sites[].fetch_inside"}
	answer, body, err := client.Once(request, mostPage)
	if err != nil {
		return failed(err)
	}
	page := &api.RehearsedPage{
		Status: answer.StatusCode, Language: answer.Header.Get("Content-Language"), Location: plain.Optional(plain.Clean(answer.Header.Get("Location"), 500)),
		Honoured: answer.Header.Get(rehearsal.Header) != "",
	}
	read(page, body, answer.Header.Get("Content-Type"))
	return page
}

// read takes the language, the title and the text out of a page.
func read(page *api.RehearsedPage, body []byte, kind string) {
	if !strings.Contains(kind, "html") {
		if strings.HasPrefix(kind, "text/") {
			page.Text = plain.Clean(strings.Join(strings.Fields(string(body)), " "), mostText)
		}
		return
	}
	var text strings.Builder
	hidden, inTitle := 0, false
	tokens := html.NewTokenizer(strings.NewReader(string(body)))
	for text.Len() < mostText {
		switch tokens.Next() {
		case html.ErrorToken:
			page.Text = plain.Clean(strings.TrimSpace(text.String()), mostText)
			return
		case html.StartTagToken:
			t := tokens.Token()
			switch t.Data {
			case "html":
				for _, a := range t.Attr {
					if a.Key == "lang" {
						page.Language = plain.Clean(a.Val, 40)
					}
				}
			case "script", "style", "template", "noscript":
				hidden++
			case "title":
				inTitle = true
			}
		case html.EndTagToken:
			switch name, _ := tokens.TagName(); string(name) {
			case "script", "style", "template", "noscript":
				hidden = max(0, hidden-1)
			case "title":
				inTitle = false
			}
		case html.TextToken:
			words := strings.Join(strings.Fields(string(tokens.Text())), " ")
			switch {
			case words == "" || hidden > 0:
			case inTitle && page.Title != "": // of a picture
			case inTitle:
				page.Title = plain.Clean(words, 200)
			default:
				text.WriteString(words + " ")
			}
		}
	}
	page.Text = plain.Clean(strings.TrimSpace(text.String()), mostText)
}
