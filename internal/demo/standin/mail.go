package standin

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// MailFailures are the ways in which [Mail] fails when it is told to: one takes no mail for recipients called full, greylist
// puts everybody off the first time.
var MailFailures = []string{"none", "one", "greylist", "refuse", "busy", "hang", "drop"}

// A Mail is a mail server that keeps what it takes, for nobody but whoever looks at its page. It is safe for
// concurrent use.
type Mail struct {
	// Login and Password are what it wants, "" for nothing; TLS has it offer STARTTLS, or speak TLS from the beginning
	// where the listener does.
	Login, Password string
	TLS             *tls.Config

	mu      sync.Mutex
	kind    string
	seen    map[string]bool // recipients that were put off
	tried   []string
	taken   []Received
	stopped chan struct{}
}

// A Received is a mail that was taken.
type Received struct {
	From    string              `json:"from"`
	To      []string            `json:"to"` // of the envelope
	Header  map[string][]string `json:"header"`
	Subject string              `json:"subject"`
	Text    string              `json:"text"`
	HTML    string              `json:"html"`
	Raw     string              `json:"raw"`
}

const (
	mostMails = 2000
	mostMail  = 4 << 20 // bytes
)

// Fail has the server fail in one of the ways of [MailFailures], from now on.
func (s *Mail) Fail(kind string) error {
	if !slices.Contains(MailFailures, kind) {
		return fmt.Errorf("%.40q is none of its failures: give %s", kind, strings.Join(MailFailures, ", "))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.kind, s.seen, s.tried = kind, map[string]bool{}, nil
	return nil
}

// Tried gives the recipients that mails were to go to since the server was told how to fail, taken or not.
func (s *Mail) Tried() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.tried)
}

// Taken gives the mails that were taken, the oldest first.
func (s *Mail) Taken() []Received {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.taken)
}

// Serve speaks SMTP on a listener until it is closed.
func (s *Mail) Serve(l net.Listener) error {
	s.mu.Lock()
	if s.stopped == nil {
		s.stopped = make(chan struct{})
	}
	s.mu.Unlock()
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailSession{of: s}, nil }))
	server.Domain, server.MaxMessageBytes, server.TLSConfig = "mail.heronlake.example", mostMail, s.TLS
	server.AllowInsecureAuth = s.TLS == nil
	server.ErrorLog = quiet{}
	err := server.Serve(l)
	if errors.Is(err, net.ErrClosed) {
		err = nil
	}
	return err
}

// Stop lets go of whoever is left hanging.
func (s *Mail) Stop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped != nil {
		close(s.stopped)
		s.stopped = nil
	}
}

// quiet logs nothing: whoever hangs up is no error here.
type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

type mailSession struct {
	of   *Mail
	in   bool // logged in
	from string
	to   []string
}

func (m *mailSession) AuthMechanisms() []string {
	if m.of.Login == "" {
		return nil
	}
	return []string{sasl.Plain}
}

var errLogin = &smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "Authentication credentials invalid"}

func (m *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, name, password string) error {
		if name != m.of.Login || password != m.of.Password {
			return errLogin
		}
		m.in = true
		return nil
	}), nil
}

func (m *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if m.of.Login != "" && !m.in {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "Authentication required"}
	}
	m.from, m.to = from, nil
	return nil
}

func (m *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	m.of.mu.Lock()
	kind, before, stopped := m.of.kind, m.of.seen[to], m.of.stopped
	if m.of.tried = append(m.of.tried, to); len(m.of.tried) > mostMails {
		m.of.tried = m.of.tried[1:]
	}
	if m.of.seen != nil {
		m.of.seen[to] = true
	}
	m.of.mu.Unlock()
	switch {
	case kind == "one" && strings.HasPrefix(to, "full@"):
		return &smtp.SMTPError{Code: 552, EnhancedCode: smtp.EnhancedCode{5, 2, 2}, Message: "Mailbox full"}
	case kind == "greylist" && !before:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "Greylisted, try again in five minutes"}
	case kind == "refuse":
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "No such mailbox"}
	case kind == "busy":
		return &smtp.SMTPError{Code: 421, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "Too busy"}
	case kind == "hang":
		<-stopped
	}
	m.to = append(m.to, to)
	return nil
}

func (m *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	read, err := ReadMail(raw)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: err.Error()}
	}
	read.From, read.To = m.from, m.to
	m.of.mu.Lock()
	defer m.of.mu.Unlock()
	if m.of.kind == "drop" { // it takes the mail, and says nothing
		return &smtp.SMTPError{Code: 421, EnhancedCode: smtp.EnhancedCode{4, 4, 2}, Message: "Connection lost"}
	}
	if m.of.taken = append(m.of.taken, read); len(m.of.taken) > mostMails {
		m.of.taken = m.of.taken[1:]
	}
	return nil
}

func (m *mailSession) Reset()        { m.to = nil }
func (m *mailSession) Logout() error { return nil }

// ReadMail reads a mail (RFC 5322) of text, of HTML, or of both (RFC 2046).
func ReadMail(raw []byte) (r Received, err error) {
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return r, err
	}
	r.Header, r.Raw = m.Header, string(raw)
	if r.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return r, err
	}
	return r, r.part(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body)
}

func (r *Received) part(contentType, encoding string, body io.Reader) error {
	kind, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		return err
	}
	if strings.HasPrefix(kind, "multipart/") {
		parts := multipart.NewReader(body, params["boundary"])
		for {
			p, err := parts.NextRawPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err == nil {
				err = r.part(p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), p)
			}
			if err != nil {
				return err
			}
		}
	}
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if clean := strings.ReplaceAll(string(text), "\r\n", "\n"); kind == "text/html" {
		r.HTML = clean
	} else {
		r.Text = clean
	}
	return err
}

// ServeHTTP shows the mails that were taken: a list at /, one at /mails/1 as mail programs show it, all as JSON at
// /mails.json. POST /failure?kind=greylist has the server fail.
func (s *Mail) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:")
	list := s.Taken()
	switch {
	case r.URL.Path == "/failure":
		if r.Method == http.MethodPost {
			if err := s.Fail(r.FormValue("kind")); err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		fmt.Fprintln(w, "failure:", s.kind)
	case r.URL.Path == "/mails.json":
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(list) // whoever hung up does not read it
	case r.URL.Path == "/":
		slices.Reverse(list)
		_ = inbox.ExecuteTemplate(w, "list", list) // whoever hung up does not read it
	default:
		n, err := strconv.Atoi(strings.TrimPrefix(r.URL.Path, "/mails/"))
		if err != nil || n < 1 || n > len(list) {
			http.NotFound(w, r)
			return
		}
		_ = inbox.ExecuteTemplate(w, "mail", shownMail{list[n-1], template.HTML(list[n-1].HTML), r.URL.Query().Has("text")}) // whoever hung up does not read it
	}
}

type shownMail struct {
	Received
	Page   template.HTML // nobody but the owner's own service writes here
	AsText bool
}

// Date is when the mail was written.
func (r Received) Date() string {
	at, err := mail.ParseDate(mail.Header(r.Header).Get("Date"))
	if err != nil {
		return ""
	}
	return at.Format(time.DateTime)
}

var inbox = template.Must(template.New("inbox").Funcs(template.FuncMap{"number": func(i, n int) int { return n - i }}).Parse(`
{{define "head"}}<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{.}}</title><style>
body{margin:0;background:#eceff1;color:#16262e;font:16px/1.5 system-ui,sans-serif}main{max-width:760px;margin:32px auto;background:#fff;border:1px solid #d7dfe2;border-radius:8px;overflow:hidden}
h1{margin:0;padding:20px 28px 4px;font-size:22px;line-height:1.3;overflow-wrap:anywhere}dl{margin:0;padding:0 28px 16px;border-bottom:1px solid #d7dfe2;display:grid;grid-template-columns:72px 1fr;color:#4a5c65;font-size:14px}dd{margin:0;overflow-wrap:anywhere}
.body{padding:20px 28px 28px}pre{margin:0;font:15px/1.6 ui-monospace,monospace;white-space:pre-wrap;overflow-wrap:anywhere}li{padding:12px 28px;border-bottom:1px solid #eceff1}ol{list-style:none;margin:0;padding:0}a{color:#1b6175}.empty{padding:20px 28px}
</style></head><body><main>{{end}}
{{define "list"}}{{template "head" "Mails"}}<h1>Mails, the newest first</h1>{{$n := len .}}{{if not .}}<p class="empty">None yet.</p>{{end}}<ol>{{range $i, $m := .}}<li><a href="/mails/{{number $i $n}}">{{.Subject}}</a><br><small>to {{range .To}}{{.}} {{end}} · {{.Date}}</small></li>{{end}}</ol></main></body></html>{{end}}
{{define "mail"}}{{template "head" .Subject}}<h1>{{.Subject}}</h1><dl><dt>From</dt><dd>{{range index .Header "From"}}{{.}}{{end}}</dd><dt>To</dt><dd>{{range .To}}{{.}} {{end}}</dd><dt>Date</dt><dd>{{.Date}}</dd></dl><div class="body">{{if and .HTML (not .AsText)}}{{.Page}}{{else}}<pre>{{.Text}}</pre>{{end}}</div></main></body></html>{{end}}
`))
