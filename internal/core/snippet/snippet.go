// Package snippet writes code to paste: how a page, an application or a proxy asks for
// a visitor's facts, for the facts that somebody chose. The texts are templates of this
// package; the tests run each in its language where that is on the machine.
package snippet

import (
	"embed"
	"fmt"
	"net/url"
	"strings"
)

// Want says what a snippet is for.
type Want struct {
	Base   string   // the visitor listener as it is reached, such as https://in.heronlake.example
	Key    string   // of scope page or server
	Fields []string // paths of the card; none for all
}

// A Snippet is one piece of code.
type Snippet struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	File  string `json:"file"` // what such a file is usually called
	Text  string `json:"text"`
	Note  string `json:"note"`
}

//go:embed templates
var templates embed.FS

const asksAsProxy = "The service sees your application as a proxy: list its address under proxies.trusted. Pass on the forwarding header that reached you, with the peer's address at its end."

// kinds are the snippets in the order that they are shown in.
var kinds = []Snippet{
	{Name: "page", Title: "Page", File: "page.html", Note: "The element's own text stands until the answer comes, and if it never does. The key is one of scope page."},
	{Name: "react", Title: "React", File: "usePorch.ts", Note: "Include porch.js in index.html first; its types are at /porch.d.ts."},
	{Name: "vue", Title: "Vue", File: "usePorch.js", Note: "Include porch.js in index.html first; its types are at /porch.d.ts."},
	{Name: "go", Title: "Go", File: "porch.go", Note: asksAsProxy + " Package eastporch/porch does the same without a service."},
	{Name: "node", Title: "Node", File: "porch.mjs", Note: asksAsProxy},
	{Name: "python", Title: "Python", File: "porch_card.py", Note: asksAsProxy},
	{Name: "php", Title: "PHP", File: "porch.php", Note: asksAsProxy},
	{Name: "csharp", Title: "C#", File: "Porch.cs", Note: asksAsProxy},
	{Name: "java", Title: "Java", File: "Porch.java", Note: asksAsProxy},
	{Name: "rust", Title: "Rust", File: "porch.rs", Note: asksAsProxy + " It needs no crate, and speaks plain HTTP within your own network."},
	{Name: "shell", Title: "Shell", File: "porch.sh", Note: asksAsProxy},
	{Name: "nginx", Title: "nginx", File: "porch.conf", Note: "The application reads the Porch- header fields; copies from outside are replaced. docs/recipes has the whole file."},
	{Name: "haproxy", Title: "HAProxy", File: "haproxy.cfg", Note: "Wants HAProxy 2.6 or later with Lua, and porch.lua of docs/recipes."},
}

// All writes every snippet. The error says which part of want cannot stand in code.
func All(want Want) ([]Snippet, error) {
	u, err := url.Parse(want.Base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.ContainsAny(want.Base, "'\"`\\<> \n$") {
		return nil, fmt.Errorf("%.80q is no address such as https://in.heronlake.example", want.Base)
	}
	if strings.Trim(want.Key, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") != "" {
		return nil, fmt.Errorf("%.80q is no key", want.Key)
	}
	for _, f := range want.Fields {
		if strings.Trim(f, "abcdefghijklmnopqrstuvwxyz_.0123456789") != "" {
			return nil, fmt.Errorf("%.80q is no path such as whereabouts.city", f)
		}
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	first := "whereabouts.city"
	if len(want.Fields) > 0 {
		first = want.Fields[0]
	}
	for _, f := range want.Fields { // the most telling one
		if f == "whereabouts.city" {
			first = f
		}
	}
	fields := strings.Join(want.Fields, ",")
	fill := strings.NewReplacer(
		"{{base}}", strings.TrimSuffix(want.Base, "/"), "{{host}}", u.Hostname(), "{{port}}", port, "{{key}}", want.Key,
		"{{fields}}", fields, "{{spacedFields}}", strings.Join(want.Fields, ",\n                     "), "{{first}}", first, "{{firstJS}}", strings.ReplaceAll(first, ".", "?."),
	)
	all := make([]Snippet, len(kinds))
	for i, s := range kinds {
		text, err := templates.ReadFile("templates/" + s.Name)
		if err != nil {
			return nil, err
		}
		s.Text = fill.Replace(string(text))
		all[i] = s
	}
	return all, nil
}
