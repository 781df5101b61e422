package refusal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"eastporch/internal/core/gate"
)

func page(t *testing.T, s Subject) string {
	t.Helper()
	text, err := Standard().Write(s, "n0nce")
	require.NoError(t, err)
	_, err = html.Parse(strings.NewReader(string(text)))
	require.NoError(t, err)
	return string(text)
}

func TestTheVisitorsLanguageComesFirst(t *testing.T) {
	s := Subject{
		Site: "Heron Lake Regatta", Default: "en", Accept: "pt-PT,pt;q=0.9", TimeZone: "Europe/Zurich", Reference: gate.Reference{CountryCode: "PT", Code: "5F2K-81QD", At: 1795847520},
		Refusal: gate.Refusal{Status: 451, Contact: "inscricoes@heronlake.example", Elsewhere: "/programme", Texts: map[string]string{"pt": "Só para clubes nórdicos.", "en": "Only for Nordic clubs."}},
	}
	text := page(t, s)
	for _, want := range []string{
		`<html lang="pt" dir="ltr">`, "Esta página não está disponível", "Pensamos que está neste país: Portugal.", "Só para clubes nórdicos.", `<section lang="en"`, "Only for Nordic clubs.",
		`href="mailto:inscricoes@heronlake.example?subject=5F2K-81QD"`, `href="/programme"`, "<code>5F2K-81QD</code> 2026-11-28 07:32 CET", `<style nonce="n0nce">`,
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, strings.ReplaceAll(text, "/1.45", ""), "451", "neither status nor rule are the visitor's business")
	assert.NotContains(t, text, "<script")
	assert.Less(t, strings.Index(text, "Só para"), strings.Index(text, "Only for"))

	s.Accept = "ar"
	text = page(t, s)
	assert.Contains(t, text, `<html lang="en" dir="ltr">`, "the site's language stands for one that nobody wrote")
	assert.NotContains(t, text, "<section", "and is not repeated")
	s.Refusal.Texts["ar"] = "غير متاح"
	text = page(t, s)
	assert.Contains(t, text, `<html lang="ar" dir="rtl">`)
	s.Accept, s.Refusal.Texts = "ja", nil
	assert.Contains(t, page(t, s), "ポルトガル")
	s.Reference, s.Refusal = gate.Reference{}, gate.Refusal{}
	text = page(t, s)
	assert.NotContains(t, text, "<code>")
	assert.NotContains(t, text, "<ul>")
}

// Whatever an owner writes stays text.
func TestTextsAreNoMarkup(t *testing.T) {
	text := page(t, Subject{Site: "<b>a</b>", Accept: "en", Default: `"><script>`, Refusal: gate.Refusal{
		Contact: "https://heronlake.example/?a=\"><script>", Elsewhere: `/a"onclick="x`, Texts: map[string]string{"en": "<script>alert(1)</script>"},
	}})
	assert.NotContains(t, text, "<script>")
	assert.NotContains(t, text, "<b>a</b>")
	assert.NotContains(t, text, `"onclick`)
}

func TestAnOwnersTemplate(t *testing.T) {
	own, err := Parse(`<html lang="{{.Language}}"><title>{{.Title}}</title>{{.Reference}}`)
	require.NoError(t, err)
	text, err := own.Write(Subject{Accept: "de", Reference: gate.Reference{Code: "5F2K-81QD"}}, "")
	require.NoError(t, err)
	assert.Equal(t, `<html lang="de"><title>Diese Seite ist dort, wo Sie sind, nicht zugänglich.</title>5F2K-81QD`, string(text))
	_, err = Parse("{{.Titel}}")
	require.ErrorContains(t, err, "Titel")
	_, err = Parse("\n{{if}}")
	require.ErrorContains(t, err, "refusal:2")
}
