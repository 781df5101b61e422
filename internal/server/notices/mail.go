package notices

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/smtp"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/notice"
)

// serverCloses is how a server says that it takes nothing now, from nobody (RFC 5321, section 3.8).
const serverCloses = 421

const mailWithin = 30 * time.Second // to one server, for a connection and each recipient

// mail sends a letter to each of its recipients who do not have it yet, each a mail of its own, and keeps what came
// of each before the next.
func (n *Notices) mail(ctx context.Context, k *notice.KeptChannel, l *notice.Letter, password string, hide func(string) string, try func(string, outcome)) error {
	free, err := n.allowance(ctx, k, l)
	if err != nil || free == 0 {
		return err
	}
	server := &mailServer{said: &k.Said, password: password, inside: n.Inside, within: cmp.Or(n.Within, mailWithin)}
	defer server.close()
	put := "" // off by the other side, and why
	for i := range l.Recipients {
		r := &l.Recipients[i]
		if r.State != notice.Waiting {
			continue
		}
		if free--; free < 0 {
			break // the next look finds out for how long
		}
		o := server.send(ctx, l, i)
		if ctx.Err() != nil && o.verdict == away {
			return nil // the service stops: as if it had not been tried
		}
		o.says = hide(o.says)
		if o.verdict == away {
			return n.recordDown(ctx, k, l, o, n.Now())
		}
		if err := n.health(ctx, k, o); err != nil {
			return err
		}
		try(notice.MaskRecipient(r.Address), o)
		r.Result = o.says
		var went []string
		switch o.verdict {
		case taken:
			r.State, went = notice.Delivered, []string{r.Address}
		case later:
			put = o.says
		default:
			r.State = notice.Failed
		}
		if err := n.record(ctx, l, went); err != nil {
			return err
		}
	}
	switch sumUp(l, n.Now()); {
	case l.State != notice.Waiting:
		l.Tried++
	case put != "":
		putOff(l, n.Now(), put, 0)
	}
	return n.record(ctx, l, nil)
}

// sumUp says what became of a letter by its recipients.
func sumUp(l *notice.Letter, now time.Time) {
	failed, waiting, reason := 0, 0, ""
	for _, r := range l.Recipients {
		switch r.State {
		case notice.Failed:
			failed++
			reason = r.Result
		case notice.Waiting:
			waiting++
		}
	}
	switch now = now.UTC().Truncate(time.Millisecond); {
	case waiting > 0:
	case failed == 0:
		l.State, l.Result, l.Finished = notice.Delivered, "delivered", &now
	default:
		l.State, l.Finished = notice.Failed, &now
		if l.Result = reason; len(l.Recipients) > 1 {
			l.Result = fmt.Sprintf("%d of %d refused: %s", failed, len(l.Recipients), reason)
		}
	}
}

// allowance says how many mails of a letter may go now. Where none may, the letter waits until some may again; that
// is no attempt.
func (n *Notices) allowance(ctx context.Context, k *notice.KeptChannel, l *notice.Letter) (free int, err error) {
	now := n.Now()
	sent, err := n.Rows.Sent(ctx, k.Site, k.Name, now.Add(-24*time.Hour))
	if err != nil {
		return 0, err
	}
	var all []time.Time
	for _, times := range sent {
		all = append(all, times...)
	}
	until, why := time.Time{}, ""
	if len(all) >= k.Said.ADay {
		until, why = oldest(all, k.Said.ADay).Add(24*time.Hour), fmt.Sprintf("the %d mails of a day are used up", k.Said.ADay)
	}
	for _, r := range l.Recipients {
		var hour []time.Time
		for to, times := range sent {
			for _, at := range times {
				if notice.Mailbox(to) == notice.Mailbox(r.Address) && at.After(now.Add(-time.Hour)) {
					hour = append(hour, at)
				}
			}
		}
		if r.State != notice.Waiting || len(hour) < k.Said.RecipientAnHour {
			continue
		}
		if at := oldest(hour, k.Said.RecipientAnHour).Add(time.Hour); at.After(until) {
			until, why = at, fmt.Sprintf("%s had %d mails in an hour", notice.MaskRecipient(r.Address), k.Said.RecipientAnHour)
		}
	}
	if until.IsZero() {
		return k.Said.ADay - len(all), nil
	}
	l.NextTry, l.Result = until.UTC().Add(time.Second).Truncate(time.Millisecond), why
	return 0, n.record(ctx, l, nil)
}

// oldest gives the time of the oldest of the last so many.
func oldest(times []time.Time, last int) time.Time {
	slices.SortFunc(times, func(a, b time.Time) int { return b.Compare(a) })
	return times[last-1]
}

// A mailServer is a connection to one, which is made when it is needed.
type mailServer struct {
	said     *notice.ChannelSaid
	password string
	inside   bool
	within   time.Duration

	hears  atomic.Int64 // how much it may still say to this mail, in bytes
	client *mail.Client
	smtp   *smtp.Client
	conn   atomic.Pointer[net.Conn]
}

// send sends a letter to one of its recipients.
func (s *mailServer) send(ctx context.Context, l *notice.Letter, recipient int) outcome {
	m, err := message(s.said, l, recipient)
	if err != nil {
		return outcome{refused, err.Error(), 0}
	}
	ctx, cancel := begun(ctx, s.within)
	defer cancel()
	s.hears.Store(mostHeard)
	if s.smtp == nil {
		if err := s.connect(ctx); err != nil {
			s.close()
			return outcome{away, s.why(ctx, err), 0}
		}
	}
	defer context.AfterFunc(ctx, s.hangUp)() // which ends whatever it waits for
	err = s.client.SendWithSMTPClient(s.smtp, m)
	if m.IsDelivered() {
		if err != nil { // after the mail was taken
			s.close()
		}
		return outcome{taken, "delivered: " + m.ServerResponse(), 0}
	}
	var of *mail.SendError
	if !errors.As(err, &of) || of.ErrorCode() == 0 {
		s.close()
		return outcome{away, s.why(ctx, err), 0}
	}
	says := "the mail server said " + reply(err)
	switch {
	case of.ErrorCode() == serverCloses:
		s.close()
		return outcome{away, says, 0}
	case of.IsTemp():
		return outcome{later, says, 0}
	}
	return outcome{refused, says, 0}
}

// answers finds what a server said in an error: a code of three digits and words (RFC 5321, section 4.2).
var answers = regexp.MustCompile(`\b([45]\d\d)[ -]"?([^"]*)`)

// reply takes what a server said out of an error.
func reply(err error) string {
	if found := answers.FindStringSubmatch(err.Error()); found != nil {
		return strings.Join(strings.Fields(found[1]+" "+found[2]), " ")
	}
	return strings.Join(strings.Fields(err.Error()), " ")
}

func (s *mailServer) close() {
	s.hangUp()
	s.smtp = nil
}

func (s *mailServer) hangUp() {
	if conn := s.conn.Swap(nil); conn != nil {
		_ = (*conn).Close() // what was to be said is said
	}
}

// mostHeard is how much a server may say to one mail, in bytes. Its lines are of 512 (RFC 5321, section
// 4.5.3.1.5); the certificates of TLS come along.
const mostHeard = 256 << 10

var errFlood = fmt.Errorf("the mail server said more than %d bytes to one mail", mostHeard)

// heard is a connection that ends when the other side floods it.
type heard struct {
	net.Conn
	left *atomic.Int64
}

func (h *heard) Read(p []byte) (int, error) {
	left := h.left.Load()
	if left <= 0 {
		return 0, errFlood
	}
	n, err := h.Conn.Read(p[:min(int64(len(p)), left)])
	h.left.Add(-int64(n))
	return n, err
}

// connect opens a connection, which reaches public addresses only unless told otherwise.
func (s *mailServer) connect(ctx context.Context) error {
	host, port, err := net.SplitHostPort(s.said.Server)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	options := []mail.Option{
		mail.WithPort(number), mail.WithTimeout(s.within), mail.WithHELO(domainOf(s.said.From)), mail.WithoutNoop(),
		mail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := s.dialer().DialContext(ctx, network, address)
			if err != nil {
				return nil, err
			}
			conn = &heard{conn, &s.hears}
			s.conn.Store(&conn)
			if s.said.Security != "tls" {
				return conn, nil
			}
			secure := tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
			return secure, secure.HandshakeContext(ctx)
		}),
	}
	switch s.said.Security {
	case "tls":
		options = append(options, mail.WithSSL())
	case "starttls":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}))
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if s.said.Login != "" {
		options = append(options, s.auth(), mail.WithUsername(s.said.Login), mail.WithPassword(s.password))
	}
	if s.client, err = mail.NewClient(host, options...); err != nil {
		return err
	}
	defer context.AfterFunc(ctx, s.hangUp)()
	s.smtp, err = s.client.DialToSMTPClientWithContext(ctx)
	return err
}

// auth says how to log in. The library knows of TLS after STARTTLS alone: where the connection is TLS from the
// beginning, or the server is this machine, it is told that it may send the password.
func (s *mailServer) auth() mail.Option {
	if s.said.Security == "starttls" {
		return mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover)
	}
	return mail.WithOpportunisticSMTPAuth(mail.SMTPAuthSCRAMSHA256, mail.SMTPAuthSCRAMSHA1, mail.SMTPAuthPlainNoEnc, mail.SMTPAuthLoginNoEnc)
}

func (s *mailServer) dialer() *net.Dialer {
	d := &net.Dialer{Timeout: s.within}
	if !s.inside {
		d.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err == nil && addr.KindOf(addr.Canonical(at.Addr())) != addr.Public {
				err = fmt.Errorf("%s is not public: notices.send_inside allows it", at.Addr())
			}
			return err
		}
	}
	return d
}

// why words why a server did not take anything.
func (s *mailServer) why(ctx context.Context, err error) string {
	var name x509.HostnameError
	var authority x509.UnknownAuthorityError
	var wrong x509.CertificateInvalidError
	switch {
	case errors.Is(err, errFlood):
		return errFlood.Error()
	case errors.As(err, &name), errors.As(err, &authority), errors.As(err, &wrong):
		return "the mail server's certificate is not good for it: " + err.Error()
	case err == nil, isLate(ctx, err):
		return whyNot(ctx, err, "the mail server")
	case strings.Contains(strings.ToLower(err.Error()), "starttls"):
		return "the mail server speaks no TLS; nothing was sent, and no password"
	case isLogin(err):
		return "the mail server does not accept the login: " + reply(err)
	}
	return whyNot(ctx, err, "the mail server")
}

// isLogin says whether an error is about the login (RFC 4954).
func isLogin(err error) bool {
	text := err.Error()
	return strings.Contains(text, "535") || strings.Contains(text, "534") || strings.Contains(strings.ToUpper(text), "AUTH")
}

// message makes the mail of a letter to one of its recipients. Its Message-ID is always the same, so that one that
// comes twice is known.
func message(said *notice.ChannelSaid, l *notice.Letter, recipient int) (*mail.Msg, error) {
	to := l.Recipients[recipient].Address
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := m.From(said.From); err != nil {
		return nil, fmt.Errorf("the sender: %w", err)
	}
	if err := m.To(to); err != nil {
		return nil, fmt.Errorf("the recipient: %w", err)
	}
	m.Subject(l.Subject)
	m.SetDateWithValue(l.Created)
	m.SetMessageIDWithValue(fmt.Sprintf("%s.%d@%s", l.ID, recipient, domainOf(said.From)))
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	m.SetBodyString(mail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		m.AddAlternativeString(mail.TypeTextHTML, "<!doctype html>\n<html><head><meta charset=\"utf-8\"></head><body>\n"+l.HTML+"\n</body></html>\n")
	}
	return m, nil
}

// domainOf gives the domain of a sender that was checked.
func domainOf(from string) string {
	read, err := netmail.ParseAddress(from)
	if err != nil {
		return "localhost"
	}
	return read.Address[strings.LastIndexByte(read.Address, '@')+1:]
}
