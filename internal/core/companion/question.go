package companion

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"eastporch/internal/core/secret"
)

// A Field is one of a request's header.
type Field struct{ Name, Value string }

// A Request is a question as it is sent. Shown is the same as text, with its secrets masked.
type Request struct {
	Method, URL string
	Header      []Field
	Body        []byte // nil for none
	Shown       string
}

// Agent is what a question calls its sender.
const Agent = "EastPorch"

// Request writes a question. The secrets must have a value for each that the parameters name.
func (c *Compiled) Request(f *Facts, secrets secret.Values) Request {
	hidden := secret.Values{}
	for name := range secrets {
		hidden[name] = secret.Mask
	}
	sent, shown := c.write(f, secrets), c.write(f, hidden)
	u, _ := url.Parse(shown.URL) // which the other one is made like
	text := sent.Method + " " + u.EscapedPath()
	if u.RawQuery != "" {
		text += "?" + u.RawQuery
	}
	text = strings.ReplaceAll(text, url.QueryEscape(secret.Mask), secret.Mask) + "\nHost: " + u.Host
	for _, h := range shown.Header {
		text += "\n" + h.Name + ": " + h.Value
	}
	if shown.Body != nil {
		text += "\n\n" + string(shown.Body)
	}
	sent.Shown = text
	return sent
}

func (c *Compiled) write(f *Facts, secrets secret.Values) Request {
	r := Request{Method: c.Method, Header: []Field{{"User-Agent", Agent}, {"Accept", "application/json"}}}
	address := c.URL
	for _, name := range placeholders(address) {
		address = strings.ReplaceAll(address, "{"+name+"}", url.PathEscape(f.text(name, c.Grid)))
	}
	var query []string
	if path, rest, ok := strings.Cut(address, "?"); ok {
		address, query = path, append(query, rest)
	}
	body := []byte{'{'}
	for _, p := range c.Parameters {
		value := p.Fixed
		switch {
		case p.Fact != "":
			value = f.text(p.Fact, c.Grid)
		case p.Secret != "":
			value = secrets[p.Secret]
		}
		switch p.In {
		case inQuery:
			query = append(query, url.QueryEscape(p.Name)+"="+url.QueryEscape(value))
		case inHeader:
			r.Header = append(r.Header, Field{p.Name, value})
		case inBody:
			if len(body) > 1 {
				body = append(body, ',')
			}
			name, _ := json.Marshal(p.Name) // strings always marshal
			text, _ := json.Marshal(value)
			if p.Fact == latitude || p.Fact == longitude {
				text = []byte(value)
			}
			body = append(append(append(body, name...), ':'), text...)
		}
	}
	if r.URL = address; len(query) > 0 {
		r.URL += "?" + strings.Join(query, "&")
	}
	if c.Method == post {
		r.Body = append(body, '}')
		r.Header = append(r.Header, Field{"Content-Type", "application/json"})
	}
	return r
}

// Describe says in short how a question went.
func (q *Question) Describe() string {
	if q.Status == nil {
		return "no answer"
	}
	return fmt.Sprintf("%d, %d bytes, %d ms", *q.Status, q.Bytes, q.TookMs)
}
