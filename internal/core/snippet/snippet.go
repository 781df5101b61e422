// Package snippet writes code to paste: how a page, an application or a proxy asks for
// a visitor's facts, for the facts that somebody chose. The texts are templates of this
// package; the tests run each in its language where that is on the machine.
package snippet

import (
	"embed"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
)

// Want says what a snippet is for.
type Want struct {
	Base   string   // the public listener as it is reached, such as https://in.heronlake.example
	Key    string   // of scope page or server
	Site   string   // the host of the site that a proxy stands before
	Fields []string // paths of the card; none for all
}

// A Snippet is one piece of code.
type Snippet struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	File  string `json:"file"` // what such a file is usually called
	Text  string `json:"text"`
	Note  string `json:"note"`

	recipe bool // its text is a file of recipes, which the documentation shows too
}

//go:embed templates
var templates embed.FS

// Recipes are whole files for proxies, with the example values that [All] replaces.
//
//go:embed recipes
var recipes embed.FS

// What stands in the recipes.
const (
	exampleService = "127.0.0.1:8080"
	exampleSite    = "heronlake.example"
)

const asksFromThere = "The service must trust the proxy: list its address under proxies.trusted."

const asksAsProxy = "The service sees your application as a proxy: list its address under proxies.trusted. Pass on the forwarding header that reached you, with the peer's address at its end."

const behindHandover = "A whole application that greets on the server, for behind the nginx, HAProxy or Apache of this list. It wants no key, and greets without a town where the service is away."

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
	{Name: "nginx", Title: "nginx", File: "nginx-handover.conf", recipe: true, Note: "The application reads the Porch- header fields. Put it into conf.d; the application is at 127.0.0.1:3000. " + asksFromThere},
	{Name: "haproxy", Title: "HAProxy", File: "haproxy-handover.cfg", recipe: true, Note: "The application reads the Porch- header fields; it is at 127.0.0.1:3000. Wants haproxy-handover.lua beside it. " + asksFromThere},
	{Name: "haproxy-lua", Title: "HAProxy, Lua", File: "haproxy-handover.lua", recipe: true, Note: "Save it as /etc/haproxy/haproxy-handover.lua."},
	{Name: "apache", Title: "Apache", File: "apache-handover.conf", recipe: true, Note: "The application reads the Porch- header fields; it is at 127.0.0.1:3000. Wants apache-handover.lua beside it. " + asksFromThere},
	{Name: "apache-lua", Title: "Apache, Lua", File: "apache-handover.lua", recipe: true, Note: "Save it as /etc/apache2/apache-handover.lua. It speaks plain HTTP within your own network."},
	{Name: "greeting-python", Title: "Greeting by town, Python", File: "greeting.py", recipe: true, Note: behindHandover},
	{Name: "greeting-node", Title: "Greeting by town, Node", File: "greeting.mjs", recipe: true, Note: behindHandover},
}

// All writes every snippet that can ask the service at want.Base. The error says which part of want cannot
// stand in code.
func All(want Want) ([]Snippet, error) {
	u, err := url.Parse(want.Base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.ContainsAny(want.Base, "'\"`\\<> \n$") {
		return nil, fmt.Errorf("%.80q is not an address such as https://in.heronlake.example", want.Base)
	}
	if strings.Trim(want.Key, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") != "" {
		return nil, fmt.Errorf("%.80q is not a key", want.Key)
	}
	if want.Site == "" {
		want.Site = exampleSite
	}
	if strings.Trim(want.Site, "abcdefghijklmnopqrstuvwxyz0123456789.-") != "" {
		return nil, fmt.Errorf("%.80q is not a host of a site", want.Site)
	}
	for _, f := range want.Fields {
		if strings.Trim(f, "abcdefghijklmnopqrstuvwxyz_.0123456789") != "" {
			return nil, fmt.Errorf("%.80q is not a path such as location.city", f)
		}
	}
	first := "location.names.city"
	if len(want.Fields) > 0 {
		first = want.Fields[0]
	}
	for _, telling := range []string{"location.names.city", "location.city"} { // the most telling one
		if slices.Contains(want.Fields, telling) {
			first = telling
			break
		}
	}
	fields := strings.Join(want.Fields, ",")
	fill := strings.NewReplacer(
		"{{base}}", strings.TrimSuffix(want.Base, "/"), "{{host}}", u.Hostname(), "{{port}}", portOf(u), "{{key}}", want.Key,
		"{{fields}}", fields, "{{spacedFields}}", strings.Join(want.Fields, ",\n                     "), "{{first}}", first, "{{firstJS}}", strings.ReplaceAll(first, ".", "?."),
	)
	all := make([]Snippet, 0, len(kinds))
	for _, s := range kinds {
		if !s.reaches(u) {
			continue
		}
		if s.recipe {
			s.Text, err = fillRecipe(s.File, u, want)
		} else {
			var text []byte
			text, err = templates.ReadFile("templates/" + s.Name)
			s.Text = fill.Replace(string(text))
		}
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// reaches says whether a snippet can ask a service at base: the scripts of HAProxy and
// Apache know no path, and that of Apache no TLS.
func (s Snippet) reaches(base *url.URL) bool {
	switch {
	case strings.HasPrefix(s.Name, "apache"):
		return base.Scheme == "http" && strings.Trim(base.Path, "/") == ""
	case strings.HasPrefix(s.Name, "haproxy"):
		return strings.Trim(base.Path, "/") == ""
	}
	return true
}

// fillRecipe puts the service, the site and the key in place of the example values of a
// recipe.
func fillRecipe(file string, base *url.URL, want Want) (string, error) {
	text, err := recipes.ReadFile("recipes/" + file)
	if err != nil {
		return "", err
	}
	service, server := net.JoinHostPort(base.Hostname(), portOf(base)), ""
	if base.Scheme == "https" {
		server = " ssl verify required ca-file @system-ca sni str(" + base.Hostname() + ")"
	}
	return strings.NewReplacer(
		"http://"+exampleService, strings.TrimSuffix(want.Base, "/"),
		"server porch "+exampleService, "server porch "+service+server,
		exampleService, service, exampleSite, want.Site,
		"PORCH_KEY KEY", "PORCH_KEY "+want.Key, "Bearer KEY", "Bearer "+want.Key, `"KEY"`, `"`+want.Key+`"`,
	).Replace(string(text)), nil
}

func portOf(u *url.URL) string {
	if port := u.Port(); port != "" {
		return port
	}
	return map[string]string{"http": "80", "https": "443"}[u.Scheme]
}

// locations are the recipes of a part of a site that reaches the service, by the proxy in front.
var locations = map[string]string{"nginx": "nginx-location.conf", "haproxy": "haproxy-location.cfg", "apache": "apache-location.conf"}

// Location is the part of a proxy's configuration by which the pages of a site reach the service
// at base, such as http://127.0.0.1:8080, under /porch/; ok is false for a proxy that has none.
func Location(proxy, base string) (text string, ok bool) {
	file, ok := locations[proxy]
	if !ok {
		return "", false
	}
	whole, err := recipes.ReadFile("recipes/" + file)
	if err != nil {
		panic("snippet: " + err.Error()) // it is embedded
	}
	u, err := url.Parse(base)
	if err != nil {
		return "", false
	}
	return strings.ReplaceAll(string(whole), exampleService, net.JoinHostPort(u.Hostname(), portOf(u))), true
}
