package link

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
)

var regatta = Site{Host: "heronlake.example", Hosts: []string{"tickets.example"}, Variants: map[string][]string{"offer": {"club", "open"}}}

// Destinations by country, exact language and variant, for random links and visitors, as a model reads the
// routes that knows nothing of ours.
func TestTheFirstRouteThatFits(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 3))
	countries, languages, variants := []string{"PT", "BR", "JP", "NO", ""}, []string{"en", "pt", "fr", "ja"}, []string{"club", "open"}
	some := func(of []string) (list []string) {
		for _, one := range of {
			if one != "" && r.IntN(4) == 0 {
				list = append(list, one)
			}
		}
		return list
	}
	for range 20_000 {
		said := Said{Destination: "/else"}
		for i := range r.IntN(5) {
			route := Route{Countries: some(countries), Languages: some(languages), Destination: fmt.Sprint("/route-", i)}
			for _, v := range some(variants) {
				route.Variants = append(route.Variants, "offer="+v)
			}
			if len(route.Countries)+len(route.Languages)+len(route.Variants) > 0 {
				said.Routes = append(said.Routes, route)
			}
		}
		clean, err := regatta.Check(said, nil, time.Now())
		require.NoError(t, err)
		v := Visitor{CountryCode: countries[r.IntN(5)], Accept: languages[r.IntN(4)], Variants: map[string]string{"offer": variants[r.IntN(2)]}}
		spoken := []string{"en"} // what the site has, and what routes name
		for _, route := range clean.Routes {
			spoken = append(spoken, route.Languages...)
		}
		want := "/else"
		for _, route := range clean.Routes {
			if (len(route.Countries) == 0 || slices.Contains(route.Countries, v.CountryCode)) &&
				(len(route.Languages) == 0 || slices.Contains(route.Languages, v.Accept) && slices.Contains(spoken, v.Accept)) &&
				(len(route.Variants) == 0 || slices.Contains(route.Variants, "offer="+v.Variants["offer"])) {
				want = route.Destination
				break
			}
		}
		got, address := Compile(Link{Said: clean}, nil, "en").Choose(v, "https://heronlake.example", "")
		require.Equal(t, want, got, "%+v for %+v", clean.Routes, v)
		require.Equal(t, "https://heronlake.example"+want, address)
	}
}

func TestTheLanguageThatSuitsBest(t *testing.T) {
	said, err := regatta.Check(Said{Destination: "/en", Routes: []Route{{Languages: []string{"fr"}, Destination: "/fr"}, {Languages: []string{"pt-BR"}, Destination: "/br"}, {Languages: []string{"pt"}, Destination: "/pt"}}}, nil, time.Now())
	require.NoError(t, err)
	link := Compile(Link{Said: said}, nil, "en")
	for accept, want := range map[string]string{
		"fr-CH": "/fr", "fr;q=0.4,en;q=0.9": "/en", "de,fr;q=0.5": "/fr", "pt-BR,pt": "/br", "pt-PT": "/pt", "pt": "/pt", "": "/en", "*": "/en", "x;q=nonsense": "/en", "ja": "/en", strings.Repeat("a-", 4000): "/en",
	} {
		got, _ := link.Choose(Visitor{Accept: accept}, "", "")
		assert.Equal(t, want, got, "%.40q", accept)
	}
	got, _ := link.Choose(Visitor{Accept: "fr", Choice: "pt-PT"}, "", "")
	assert.Equal(t, "/pt", got, "what the visitor chose before comes first")
}

// Whatever is said and whatever is asked with: nobody is led to a host that the owner did not name, by no
// scheme but HTTP, and never to a link.
func TestNobodyIsLedElsewhere(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 4))
	parts := []string{"/", "//", "\\", "@", ":", "?", "#", "&", "=", "..", "%2f", "%5c", "%2e", "%00", "evil.example", "heronlake.example", "tickets.example", "http:", "https:", "javascript:", "HTTPS://", "to", "/to/", "TO", "x", "next", "http://evil.example", " ", "\t", "\n", "é", ";", ".", "[::1]"}
	text := func(most int) string {
		var b strings.Builder
		for range 1 + r.IntN(most) {
			b.WriteString(parts[r.IntN(len(parts))])
		}
		return b.String()
	}
	accepted := 0
	for range 200_000 {
		said, err := regatta.Check(Said{Destination: text(5), HandOn: []string{"*"}}, nil, time.Now())
		if err != nil {
			continue
		}
		accepted++
		_, address := Compile(Link{Said: said}, nil, "en").Choose(Visitor{}, "https://heronlake.example", text(6))
		to, err := url.Parse(address)
		require.NoError(t, err, "%q", said.Destination)
		require.Contains(t, []string{"http", "https"}, to.Scheme, "%q", said.Destination)
		require.Contains(t, []string{"heronlake.example", "tickets.example"}, strings.ToLower(to.Hostname()), "%q leads to %q", said.Destination, address)
		require.Nil(t, to.User, "%q", said.Destination)
		require.NotContains(t, address, "\n")
		if strings.EqualFold(to.Hostname(), "heronlake.example") {
			require.False(t, strings.HasPrefix(strings.ToLower(to.Path), "/to/"), "%q leads to %q", said.Destination, address)
		}
	}
	assert.Greater(t, accepted, 1000)
}

func TestCodesAreFolded(t *testing.T) {
	for code, want := range map[string]string{
		"Tickets": "tickets", "JETTY-3": "jetty-3", "k7q2m": "k7q2m", "a": "", "": "", "-a": "", "a-": "", "a--b": "", "a_b": "", "a b": "", "a/b": "", "ticket\u017f": "", "\u212a7": "",
		strings.Repeat("x", 32): strings.Repeat("x", 32), strings.Repeat("x", 33): "",
	} {
		assert.Equal(t, want, Fold(code), "%.40q", code)
	}
	for range 1000 {
		code := NewCode()
		require.Equal(t, code, Fold(code))
	}
}

func TestThePageIsInTheVisitorsLanguage(t *testing.T) {
	for _, l := range spoken {
		for _, ended := range []bool{false, true} {
			text, err := Standard().Write(Missing{Site: "Heron <Lake>", Home: "https://heronlake.example/", Ended: ended, Accept: l.tag}, "n0nce")
			require.NoError(t, err)
			_, err = html.Parse(strings.NewReader(string(text)))
			require.NoError(t, err)
			want := l.unknown
			if ended {
				want = l.ended
			}
			assert.Contains(t, string(text), want)
			assert.Contains(t, string(text), "Heron &lt;Lake&gt;")
			assert.Contains(t, string(text), `<html lang="`+l.tag+`"`)
		}
	}
	_, err := Parse("{{.NoSuch}}")
	require.Error(t, err)
	_, err = Parse("{{")
	require.Error(t, err)
}

// Readers of simplified and of traditional Chinese are led apart, whatever the spelling of their language.
func TestScriptsAreTwoLanguages(t *testing.T) {
	c := Compile(Link{Said: Said{Destination: "/en", Routes: []Route{{Languages: []string{"zh-Hant"}, Destination: "/hant"}, {Languages: []string{"sr-Latn"}, Destination: "/latin"}, {Languages: []string{"nb"}, Destination: "/nb"}}}}, nil, "en")
	for accept, want := range map[string]string{
		"zh-Hant": "/hant", "zh-TW": "/hant", "zh-HK": "/hant", "zh-Hant-MO": "/hant", "zh-CN": "/en", "zh-Hans": "/en", "zh": "/en", "zh-SG": "/en", "cmn": "/en",
		"sr-Latn-RS": "/latin", "sr": "/en", "sr-Cyrl": "/en", "no": "/nb", "nn": "/nb", "zh-CN,zh;q=0.9,en;q=0.8": "/en", "zh-TW,zh;q=0.9": "/hant",
	} {
		got, _ := c.Choose(Visitor{Accept: accept}, "", "")
		assert.Equal(t, want, got, accept)
	}
}

// The same links are followed at every site that is served, so none may lead to a link there.
func TestNoLinkLeadsToALinkOfAnotherSite(t *testing.T) {
	site := Site{Host: "heronlake.example", Hosts: []string{"club.example", "shop.example"}, Served: []string{"heronlake.example", "club.example"}}
	for destination, refused := range map[string]bool{
		"https://club.example/to/tickets": true, "https://CLUB.example//to/tickets": true, "https://club.example/porch/to/tickets": true, "https://heronlake.example/to/x": true,
		"https://shop.example/to/tickets": false, "https://club.example/tickets": false,
	} {
		_, err := site.Check(Said{Destination: destination}, nil, time.Now())
		assert.Equal(t, refused, err != nil, "%s: %v", destination, err)
	}
}

// No destination looks like another than it is.
func TestDestinationsAreReadAsTheyAreWritten(t *testing.T) {
	for _, mark := range "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u2028\u2029" {
		_, err := Site{Host: "heronlake.example"}.Check(Said{Destination: "/en/" + string(mark) + "stekcit"}, nil, time.Now())
		assert.ErrorContains(t, err, "direction of text", "%U", mark)
	}
	_, err := Site{Host: "heronlake.example"}.Check(Said{Destination: "/he/כרטיסים"}, nil, time.Now())
	assert.NoError(t, err, "text from right to left is text")
}
