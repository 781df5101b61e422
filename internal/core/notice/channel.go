package notice

import (
	"fmt"
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/secret"
)

// Securities say how a mail server is spoken to.
var Securities = []string{"starttls", "tls", "none"}

// CheckChannel checks what is said of a channel, and empties what belongs to the other kind. inside says that
// webhooks may be reached without TLS.
func CheckChannel(s ChannelSaid, inside bool) (ChannelSaid, error) {
	if s.Secret != "" {
		if _, _, ok := secret.Name(s.Secret); !ok {
			return s, invalid.Field("secret", fmt.Sprintf("%.60q names no secret", s.Secret), "Write file:NAME for a file in the directory of secrets, without a path, or env:"+secret.VariablePrefix+"NAME.")
		}
	}
	switch s.Kind {
	case Mail:
		return s.checkMail()
	case Webhook:
		return s.checkWebhook(inside)
	}
	return s, invalid.Word("kind", s.Kind, []string{Mail, Webhook})
}

func (s ChannelSaid) checkMail() (ChannelSaid, error) {
	s.URL = ""
	host, port, err := net.SplitHostPort(strings.TrimSpace(s.Server))
	if n, wrong := net.LookupPort("tcp", port); err != nil || wrong != nil || n == 0 || host == "" || plain.Check(host, 253) != nil || strings.ContainsAny(host, " /@") {
		return s, invalid.Field("server", fmt.Sprintf("%.80q is not a server with a port", s.Server), "Write it like smtp.heronlake.example:587.")
	}
	s.Server = strings.TrimSpace(s.Server)
	if !slices.Contains(Securities, s.Security) {
		return s, invalid.Word("security", s.Security, Securities)
	}
	if err := plain.Check(s.Login, maxAddress); err != nil {
		return s, invalid.Field("login", err.Error(), "Give the name that the server knows.")
	}
	if s.Login != "" && s.Security == "none" && !isHere(host) {
		return s, invalid.Field("security", "a password would go to the server where everybody on the way can read it", "Give starttls or tls.")
	}
	if s.Login != "" && s.Secret == "" {
		return s, invalid.Field("secret", "the login has no password", "Enter it, or name a secret.")
	}
	from, err := mail.ParseAddress(s.From)
	if err != nil || CheckRecipient(from.Address) != nil || plain.Check(s.From, 300) != nil {
		return s, invalid.Field("from", fmt.Sprintf("%.80q is not a sender", s.From), "Write it like Heron Lake Regatta <porch@heronlake.example>.")
	}
	if s.ADay < 1 || s.ADay > 100_000 {
		return s, invalid.Field("a_day", fmt.Sprintf("%d is not how many mails", s.ADay), "Give 1 to 100000.")
	}
	if s.RecipientAnHour < 1 || s.RecipientAnHour > 1000 {
		return s, invalid.Field("recipient_an_hour", fmt.Sprintf("%d is not how many mails", s.RecipientAnHour), "Give 1 to 1000.")
	}
	return s, nil
}

// isHere says whether a host is this machine by what it is called.
func isHere(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}

func (s ChannelSaid) checkWebhook(inside bool) (ChannelSaid, error) {
	s = ChannelSaid{Kind: Webhook, URL: strings.TrimSpace(s.URL), Secret: s.Secret}
	u, err := url.Parse(s.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || plain.Check(s.URL, 500) != nil:
		return s, invalid.Field("url", fmt.Sprintf("%.80q is not where a message can be posted", s.URL), "Write it like https://hooks.crew.example/porch.")
	case u.User != nil || u.Fragment != "":
		return s, invalid.Field("url", "it holds a login or a fragment", "Messages are signed instead; leave it out.")
	case u.Scheme == "http" && !inside:
		return s, invalid.Field("url", "messages would go where everybody on the way can read them", "Write https://.")
	case s.Secret == "":
		return s, invalid.Field("secret", "messages need a key to be signed with", "Enter one of at least 16 characters, or name a secret.")
	}
	return s, nil
}

// Where says where a channel leads, in words: the server or host, and how it is kept safe.
func (s *ChannelSaid) Where() string {
	if s.Kind == Webhook {
		return s.Host() + ", signed"
	}
	return s.Host() + map[string]string{"starttls": ", STARTTLS", "tls": ", TLS", "none": ", without TLS"}[s.Security]
}

// Host is the host of the server or webhook.
func (s *ChannelSaid) Host() string {
	if s.Kind == Webhook {
		u, err := url.Parse(s.URL)
		if err != nil {
			return ""
		}
		return u.Hostname()
	}
	host, _, err := net.SplitHostPort(s.Server)
	if err != nil {
		return s.Server
	}
	return host
}
