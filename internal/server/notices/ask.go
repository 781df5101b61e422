package notices

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/signed"
	"eastporch/internal/server/sites"
)

// Bounds of what is asked.
const (
	senderMost   = 10 // messages of one sender in an hour
	confirmedFor = 180 * 24 * time.Hour
	linkFor      = 24 * time.Hour
)

// An Asker is who asks: a sender that limits tell apart, and whether the owner's application answers for it.
type Asker struct {
	Sender  string
	Vouched bool
}

// Ask has what is known of an address sent. Errors are [notice.ErrNone], [notice.ErrTooMany] and
// [*invalid.FieldError].
func (n *Notices) Ask(ctx context.Context, site *sites.Site, name string, q notice.Ask, who Asker) (notice.Asked, error) {
	var out notice.Asked
	k, c, err := n.find(site, name)
	if err != nil {
		return out, err
	}
	q.Address = strings.TrimSpace(q.Address)
	ip, _, err := addr.Read(q.Address)
	if err != nil {
		return out, invalid.Field("address", fmt.Sprintf("%.80q is not an address", q.Address), "Give an address of IPv4 or IPv6, in any spelling.")
	}
	q.To = strings.ToLower(strings.TrimSpace(q.To)) // else each way of writing it would have limits of its own
	switch {
	case c.ToAsker() && q.To == "":
		return out, invalid.Field("to", "it is empty", "Give the mail address that the answer goes to.")
	case !c.ToAsker() && q.To != "":
		return out, invalid.Field("to", "the notice goes to a fixed list", "Leave it out.")
	case q.To != "":
		if err := notice.CheckRecipient(q.To); err != nil {
			return out, invalid.Field("to", err.Error(), "Write it like ida@crew.example.")
		}
	}
	if who.Sender = n.hash(site.Host, who.Sender); who.Vouched {
		who.Sender = "vouched " + who.Sender
	}
	now := n.Now()
	confirmed, stopped := who.Vouched, false
	if q.To != "" {
		isConfirmed, wantsNone, err := n.Rows.Recipient(ctx, site.Host, n.recipient(site.Host, q.To), now.Add(-confirmedFor))
		if err != nil {
			return out, err
		}
		_, boxWantsNone, err := n.Rows.Recipient(ctx, site.Host, n.recipient(site.Host, notice.Mailbox(q.To)), now)
		if err != nil {
			return out, err
		}
		confirmed, stopped = confirmed || isConfirmed, wantsNone || boxWantsNone
	}
	within := func() error {
		return n.withinLimits(ctx, site, k, c, question{to: q.To, who: who, confirmed: confirmed, at: now})
	}
	if err := within(); err != nil {
		return out, err
	}
	out.Said = "What is known goes to those who are named for it."
	if q.To != "" {
		out.Said = "A mail is on its way, if the address takes any: the answer, or first a link to confirm the address."
	}
	switch {
	case stopped && !who.Vouched: // strangers do not learn so
		return out, nil
	case stopped:
		return out, invalid.Field("to", "the recipient wants no mails from here", "Write to them yourself.")
	case !confirmed && q.To != "":
		return out, n.askToConfirm(ctx, site, k, q, who, within)
	}
	l, err := n.answer(ctx, site, k, c, ip.String(), q, who, now) // which may wait for companions
	if err != nil {
		return out, err
	}
	if who.Vouched {
		out.Message = &l.ID
	}
	return out, n.counting(within, func() error { return n.put(ctx, l) })
}

// counting does something that limits count, one after the other, so that the counts hold.
func (n *Notices) counting(within, do func() error) error {
	n.asking.Lock()
	defer n.asking.Unlock()
	if err := within(); err != nil {
		return err
	}
	return do()
}

// find gives a notice of the kind asked that is on.
func (n *Notices) find(site *sites.Site, name string) (*notice.Kept, *notice.Compiled, error) {
	set := n.Running()
	for _, k := range set.notices(site.Host) {
		if k.Name == name && k.Said.Enabled && k.Said.Trigger.Kind == notice.OnAsk {
			c, err := n.compile(set, &k)
			var wrong *invalid.FieldError
			if errors.As(err, &wrong) { // which is for its owner to know
				err = notice.ErrNone
			}
			return &k, c, err
		}
	}
	return nil, nil, notice.ErrNone
}

// A question is what limits count.
type question struct {
	to        string
	who       Asker
	confirmed bool
	at        time.Time
}

// withinLimits says whether another message may be written: [*notice.TooMany] where it may not. Mails that ask to
// confirm an address count like answers.
func (n *Notices) withinLimits(ctx context.Context, site *sites.Site, k *notice.Kept, c *notice.Compiled, q question) error {
	asked, err := n.Rows.Asked(ctx, site.Host, q.at.Add(-max(time.Hour, c.Limit.Window())))
	if err != nil {
		return err
	}
	most := 1 // mail to confirm
	if q.confirmed {
		for _, channel := range n.Running().channels(site.Host) {
			if channel.Name == k.Said.Channel {
				most = channel.Said.RecipientAnHour
			}
		}
	}
	var bySender, toMailbox, ofNotice []time.Time // of the last hour; of the notice's hour or day
	for _, a := range asked {
		inHour := a.At.After(q.at.Add(-time.Hour))
		if inHour && a.Sender == q.who.Sender {
			bySender = append(bySender, a.At)
		}
		if inHour && q.to != "" && slices.ContainsFunc(a.To, func(to string) bool { return notice.Mailbox(to) == notice.Mailbox(q.to) }) {
			toMailbox = append(toMailbox, a.At)
		}
		if a.Notice == k.Name && a.Counts && a.At.After(q.at.Add(-c.Limit.Window())) {
			ofNotice = append(ofNotice, a.At)
		}
	}
	switch {
	case !q.who.Vouched && len(bySender) >= senderMost:
		return &notice.TooMany{Limit: fmt.Sprintf("%d were asked for from here in the last hour, which is the most", senderMost), Until: oldest(bySender, senderMost).Add(time.Hour)}
	case len(toMailbox) >= most:
		return &notice.TooMany{Limit: "as many were asked for to this mail address in the last hour as may be", Until: oldest(toMailbox, most).Add(time.Hour)}
	case len(ofNotice) >= c.Limit.Most:
		return &notice.TooMany{Limit: fmt.Sprintf("the notice answers %d in one %s, and has", c.Limit.Most, c.Limit.Every), Until: oldest(ofNotice, c.Limit.Most).Add(c.Limit.Window())}
	}
	return nil
}

// answer writes the letter about an address.
func (n *Notices) answer(ctx context.Context, site *sites.Site, k *notice.Kept, c *notice.Compiled, address string, q notice.Ask, who Asker, now time.Time) (notice.Letter, error) {
	ip, err := addr.Parse(address)
	if err != nil {
		return notice.Letter{}, err
	}
	req := card.RequestContext{At: site.Local, Ask: c.WantsCompanions()}
	made := n.Running().Cards.Card(ip, caller.ObtainedGiven, req, now)
	if req.Ask {
		made.Companions.Wait(companionWait, ctx.Done())
		req.Ask = false
		made = n.Running().Cards.Card(ip, caller.ObtainedGiven, req, now)
	}
	f := n.aspect(site).OfCard(&made, now)
	f.Set("address", ip.String(), "")
	f.Set("asker", q.To, "nobody said who asks")
	f.Set("question", ip.String(), "") // never what a stranger typed
	draft, err := c.Write(f)
	if err != nil {
		return notice.Letter{}, err
	}
	kind := n.kindOf(k)
	if q.To != "" && !who.Vouched {
		draft = n.withStop(site, draft, q.To)
	}
	l, err := newLetter(k, kind, draft, now)
	l.Keys, l.Sender = []string{keyOf("")}, who.Sender
	return l, err
}

// withStop has a mail that was asked for say how to have no more.
func (n *Notices) withStop(site *sites.Site, d notice.Draft, to string) notice.Draft {
	link := n.link(mailLink{Stop: true, Site: site.Host, Recipient: to})
	words := fmt.Sprintf("You get this because somebody asked for it at %s with this mail address. No more mails:", site.Host)
	d.Text += "\n\n-- \n" + words + "\n" + link + "\n"
	if d.HTML != "" {
		d.HTML += fmt.Sprintf("\n<p><small>%s <a href=\"%[2]s\">%[2]s</a></small></p>", html.EscapeString(words), html.EscapeString(link))
	}
	return d
}

// askToConfirm sends a recipient a link that confirms the address. Nothing in the mail is of who asked.
func (n *Notices) askToConfirm(ctx context.Context, site *sites.Site, k *notice.Kept, q notice.Ask, who Asker, within func() error) error {
	now := n.Now()
	id, err := newID(now)
	if err != nil {
		return err
	}
	kind := n.kindOf(k)
	link := n.link(mailLink{Pending: id, Expires: now.Add(linkFor).Unix()})
	l, err := newLetter(k, kind, notice.Draft{
		To: []string{q.To}, Subject: "Confirm your mail address at " + cmp.Or(site.Name, site.Host), Facts: map[string]string{},
		Text: fmt.Sprintf("Somebody asked at %s to have an answer sent to this mail address. If it was you, open this link within a day:\n\n%s\n\nIf it was not, do nothing: no other mail comes.\n", site.Host, link),
	}, now)
	if err != nil {
		return err
	}
	l.Keys, l.Sender = []string{keyOf("")}, who.Sender
	return n.counting(within, func() error {
		return n.Rows.Ask(ctx, notice.Pending{ID: id, Site: site.Host, Notice: k.Name, Recipient: q.To, Question: q.Address, Sender: who.Sender, Created: now}, l)
	})
}

// A mailLink is what a link in a mail is for.
type mailLink struct {
	Pending   uuid.UUID `json:"p,omitzero"`
	Expires   int64     `json:"e,omitempty"`
	Stop      bool      `json:"s,omitempty"`
	Site      string    `json:"h,omitempty"`
	Recipient string    `json:"r,omitempty"`
}

func (n *Notices) link(to mailLink) string {
	return n.PublicURL() + "/mail?token=" + url.QueryEscape(signed.Sign(to, n.links))
}

// A Link is what a link in a mail leads to.
type Link struct {
	Stop bool
	Site *sites.Site
	to   mailLink
	from notice.Pending
}

// Open reads the token of a link in a mail; [notice.ErrLink] for one that is not good, or not any more.
func (n *Notices) Open(ctx context.Context, token string) (*Link, error) {
	l := &Link{}
	if signed.Open(token, n.links, &l.to) != nil {
		return nil, notice.ErrLink
	}
	host := l.to.Site
	if l.Stop = l.to.Stop; !l.Stop {
		if n.Now().Unix() >= l.to.Expires {
			return nil, notice.ErrLink
		}
		var err error
		if l.from, err = n.Rows.Pending(ctx, l.to.Pending); err != nil {
			return nil, err
		}
		host = l.from.Site
	}
	if l.Site = n.Running().Sites.Of(host); l.Site == nil {
		return nil, notice.ErrLink
	}
	return l, nil
}

// Follow does what a link is for: it confirms a recipient and has the answer sent, or sends that recipient no more. The
// error is [notice.ErrNone] where the recipient is confirmed, but the notice is off by now.
func (n *Notices) Follow(ctx context.Context, l *Link) error {
	now := n.Now()
	if l.Stop {
		host, to := l.Site.Host, l.to.Recipient
		return n.Rows.Stop(ctx, host, [][]byte{n.recipient(host, to), n.recipient(host, notice.Mailbox(to))}, to, now)
	}
	p := l.from
	key := n.recipient(p.Site, p.Recipient)
	k, c, err := n.find(l.Site, p.Notice)
	if errors.Is(err, notice.ErrNone) { // it was switched off meanwhile; the address is confirmed all the same
		if err := n.Rows.Confirm(ctx, p.ID, p.Site, key, nil, now); err != nil {
			return err
		}
		return notice.ErrNone
	}
	if err != nil {
		return err
	}
	ip, _, err := addr.Read(p.Question)
	if err != nil {
		return err
	}
	letter, err := n.answer(ctx, l.Site, k, c, ip.String(), notice.Ask{Address: p.Question, To: p.Recipient}, Asker{Sender: p.Sender}, now)
	if err != nil {
		return err
	}
	return n.Rows.Confirm(ctx, p.ID, p.Site, key, &letter, now)
}

// recipient stands for a mail address where confirmations are kept.
func (n *Notices) recipient(site, address string) []byte {
	h := hmac.New(sha256.New, n.hashes)
	h.Write([]byte(site + "\n" + address))
	return h.Sum(nil)
}

// hash stands for a sender where limits count.
func (n *Notices) hash(site, sender string) string {
	h := hmac.New(sha256.New, n.hashes)
	h.Write([]byte("sender\n" + site + "\n" + sender))
	return fmt.Sprintf("%x", h.Sum(nil)[:12])
}
