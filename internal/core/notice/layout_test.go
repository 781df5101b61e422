package notice

import (
	"fmt"
	"html"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var someNames = []string{"city", "region", "country", "radius", "weather.category", "weather.wind", "path"}

func isSome(name string) bool {
	for _, one := range someNames {
		if one == name {
			return true
		}
	}
	return false
}

// A madeLine is a line of a layout, and how it reads with facts.
type madeLine struct {
	text  string
	reads func(values map[string]string) (string, bool)
}

// madeUp makes a line at random; in HTML facts stand in text and in attributes.
func madeUp(random *rand.Rand, inHTML bool) madeLine {
	words := []string{"Town: ", ", within ", " at ", "  ", "— ", "{ not a fact }", "100% ", "ä漢 "}
	var text strings.Builder
	var parts []func(map[string]string) (string, bool)
	for range random.IntN(5) {
		switch random.IntN(3) {
		case 0:
			word := words[random.IntN(len(words))]
			text.WriteString(word)
			parts = append(parts, func(map[string]string) (string, bool) { return word, true })
		case 1:
			name := someNames[random.IntN(len(someNames))]
			open, end := "", ""
			if inHTML && random.IntN(2) == 0 {
				open, end = `<b title="`, `">x</b>`
			}
			fmt.Fprintf(&text, "%s{{.%s}}%s", open, name, end)
			parts = append(parts, func(values map[string]string) (string, bool) { return open + values[name] + end, values[name] != "" })
		default:
			first, second := someNames[random.IntN(len(someNames))], someNames[random.IntN(len(someNames))]
			fmt.Fprintf(&text, `{{or .%s .%s "an unknown <place>"}}`, first, second)
			parts = append(parts, func(values map[string]string) (string, bool) {
				for _, name := range []string{first, second} {
					if values[name] != "" {
						return values[name], true
					}
				}
				return "an unknown <place>", true
			})
		}
	}
	return madeLine{text.String(), func(values map[string]string) (string, bool) {
		out := ""
		for _, part := range parts {
			word, ok := part(values)
			if !ok {
				return "", false
			}
			out += word
		}
		return out, true
	}}
}

// TestLayoutsAgainstTheirMaking holds layouts against how they were made, with facts there and missing.
func TestLayoutsAgainstTheirMaking(t *testing.T) {
	random := rand.New(rand.NewPCG(21, 1))
	values := []string{"Lisbon", "<b>&\"'", "35 km", "{{.city}}", "a\tb", "=1+1", "日本"}
	dropped := 0
	for range 10_000 {
		inHTML := random.IntN(2) == 0
		f := NewFacts()
		for _, name := range someNames {
			if random.IntN(3) > 0 {
				f.Set(name, values[random.IntN(len(values))], "")
			} else {
				f.Set(name, "", "the source gives none here")
			}
		}
		var lines, want []string
		for range 1 + random.IntN(6) {
			line := madeUp(random, inHTML)
			lines = append(lines, line.text)
			if read, ok := line.reads(f.Values); ok {
				want = append(want, read)
			} else {
				dropped++
			}
		}
		text := strings.Join(lines, "\n")
		parse := ParseText
		if inHTML {
			parse = ParseHTML
		}
		l, err := parse(text, isSome)
		require.NoError(t, err, text)
		got, said, err := l.Write(f)
		require.NoError(t, err, text)
		if inHTML {
			got = html.UnescapeString(got)
		}
		if text == "" {
			require.Empty(t, got)
			continue
		}
		require.Equal(t, strings.Join(want, "\n"), got, text)
		require.Len(t, said, len(lines))
	}
	assert.Greater(t, dropped, 1000)
}

func TestLayoutsThatAreNone(t *testing.T) {
	for text, reason := range map[string]string{
		"Town: {{.citty}}":                      `line 1: there is no fact "citty" here`,
		"x\n{{range .city}}{{.}}{{end}}":        "line 2: layouts have no range; a line is dropped by itself where its fact is missing",
		"{{if .city}}x{{end}}":                  "layouts have no if",
		"{{- with .city}}{{end}}":               "layouts have no with",
		`{{define "x"}}{{template "x"}}{{end}}`: "layouts have no define",
		`{{template "x"}}`:                      "layouts have no template",
		"{{printf \"%s\" .city}}":               `function "printf" not defined`,
		"{{.city | html}}":                      `function "html" not defined`,
		"{{.city.country}}":                     `there is no fact "city.country" here`,
		"{{or .city}}":                          "write {{.city}} for a fact",
		"{{or \"x\" .city}}":                    "write {{.city}} for a fact",
		"{{or .city \"\"}}":                     "write {{.city}} for a fact",
		"{{$x := .city}}":                       "write {{.city}} for a fact",
		"{{.}}":                                 "write {{.city}} for a fact",
		"{{\"x\"}}":                             "write {{.city}} for a fact",
		"{{(or .city .path).x}}":                "write {{.city}} for a fact",
		"{{.city":                               "unclosed action",
		"{{.city\n}}":                           "line 1: unclosed action",
		"a\rb":                                  "line 1: it has a control character",
		"a\x00b":                                "line 1: it has a control character",
		"{{.city}}\nb\u2028c":                   "line 2: it has a control character",
		"{{or .city `a\nb`}}":                   "line 1: unterminated raw quoted string",
		strings.Repeat("{{or .city ", 400) + "\"x\"}}": "",
	} {
		_, err := ParseText(text, isSome)
		require.Error(t, err, text)
		var at *LayoutError
		require.ErrorAs(t, err, &at)
		assert.Contains(t, err.Error(), reason, text)
	}
	for text, reason := range map[string]string{
		"<html><body>x":              "line 1: <html> has no place in a mail",
		"a\n<SCRIPT>x":               "line 2: <script> has no place",
		"<a href={{.city}}\n":        "",
		"<p>\n<!-- {{.city}}":        "",
		"<img src=\"{{.city}}\nx\">": "",
	} {
		_, err := ParseHTML(text, isSome)
		if reason == "" { // it must not panic, whatever it is
			continue
		}
		require.ErrorContains(t, err, reason, text)
	}
}

// TestHTMLIsSafeWhateverFactsSay: nothing of a fact becomes markup, a script or an address of one.
func TestHTMLIsSafeWhateverFactsSay(t *testing.T) {
	l, err := ParseHTML(`<p title="{{.city}}">{{.city}}</p><a href="{{.path}}">x</a><i style="color:{{.region}}">y</i>`, isSome)
	require.NoError(t, err)
	for _, nasty := range []string{"<script>alert(1)</script>", `"><img src=x onerror=alert(1)>`, "javascript:alert(1)", "red;background:url(//x)", "</p><h1>"} {
		f := NewFacts()
		for _, name := range []string{"city", "path", "region"} {
			f.Set(name, nasty, "")
		}
		text, _, err := l.Write(f)
		require.NoError(t, err)
		for _, bad := range []string{"<script", "<img", "<h1", `href="javascript`, `"color:red;`} {
			assert.NotContains(t, text, bad)
		}
	}
}

func FuzzLayout(f *testing.F) {
	for _, seed := range []string{"Town: {{.city}}", `{{or .city "x"}}`, "{{", "}}", "{{/* x */}}", "<a href='{{.path}}'>", "{{`x`}}", "{{.city}}{{.city}}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		full := NewFacts()
		for _, name := range someNames {
			full.Values[name] = "x"
		}
		for _, parse := range []func(string, func(string) bool) (Layout, error){ParseText, ParseHTML} {
			l, err := parse(text, isSome)
			if err != nil {
				continue
			}
			for _, facts := range []Facts{full, NewFacts()} {
				_, lines, err := l.Write(facts)
				require.NoError(t, err)
				require.LessOrEqual(t, len(lines), strings.Count(text, "\n")+1)
			}
		}
	})
}
