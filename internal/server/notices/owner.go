package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/checkup"
	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// List lists the notices and channels of a site.
func (n *Notices) List(ctx context.Context, site *sites.Site) (notice.List, error) {
	out := notice.List{Site: site.Host, Notices: []notice.State{}, Channels: []notice.ChannelState{}, Secrets: n.Secrets.Names(), Inside: n.Inside}
	set := n.Running()
	known := set.known(site.Host)
	out.Facts = known.AllFacts()
	counted, err := n.Rows.Standings(ctx, site.Host, n.Now())
	if err != nil {
		return out, err
	}
	for _, k := range set.notices(site.Host) {
		c := counted[k.Name]
		s := notice.State{
			Name: k.Name, Site: k.Site, Revision: k.Revision, MadeBy: k.MadeBy, ChangedAt: k.ChangedAt, Said: k.Said, Sentence: k.Said.Trigger.Sentence(),
			Standing: "on", LastSent: c.LastSent, Waiting: c.Waiting, LeftOut: c.LeftOut,
		}
		_, wrong := notice.Compile(k.Said, known)
		switch {
		case !k.Said.Enabled:
			s.Standing = "off"
		case wrong != nil:
			s.Standing, s.Reason = "attention", plain.Optional("it is not written: "+wrong.Error())
		case c.Failed != "":
			s.Standing, s.Reason = "attention", plain.Optional(c.Failed)
		}
		out.Notices = append(out.Notices, s)
	}
	out.Channels, err = n.channels(ctx, site)
	return out, err
}

func (n *Notices) channels(ctx context.Context, site *sites.Site) ([]notice.ChannelState, error) {
	list := []notice.ChannelState{}
	healths, err := n.Rows.Healths(ctx)
	if err != nil {
		return list, err
	}
	traffic, err := n.Rows.Traffic(ctx, site.Host, n.Now().Add(-24*time.Hour))
	if err != nil {
		return list, err
	}
	for _, k := range n.Running().channels(site.Host) {
		k.ChannelHealth = healthOf(healths, &k)
		s := notice.ChannelState{
			Name: k.Name, Site: k.Site, Revision: k.Revision, MadeBy: k.MadeBy, ChangedAt: k.ChangedAt, Said: k.Said, SecretReady: true,
			Standing: k.Standing(), Reason: plain.Optional(k.Reason), SentToday: traffic[k.Name].Sent, Waiting: traffic[k.Name].Waiting,
		}
		if s.Standing == notice.Unused && s.SentToday > 0 { // it was saved again since
			s.Standing = notice.Ready
		}
		if k.Said.Secret != "" {
			if _, err := n.Secrets.Read([]string{k.Said.Secret}); err != nil {
				s.SecretReady = false
				if s.Standing == notice.Ready || s.Standing == notice.Unused {
					s.Standing, s.Reason = notice.Failing, plain.Optional(err.Error())
				}
			}
		}
		if s.Standing == notice.Failing || s.Standing == notice.Gone {
			s.Since = optional(k.Since)
			if s.Standing == notice.Failing {
				s.NextTry = optional(k.NextTry)
			}
		}
		list = append(list, s)
	}
	return list, nil
}

func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC().Truncate(time.Second)
	return &t
}

// Get gives a notice; [notice.ErrNone] where there is none.
func (n *Notices) Get(ctx context.Context, site *sites.Site, name string) (notice.State, error) {
	list, err := n.List(ctx, site)
	if err != nil {
		return notice.State{}, err
	}
	at := slices.IndexFunc(list.Notices, func(s notice.State) bool { return s.Name == name })
	if at < 0 {
		return notice.State{}, notice.ErrNone
	}
	return list.Notices[at], nil
}

// Kinds are how notices and channels are kept.
func (n *Notices) Kinds() (ofNotices, ofChannels documents.Kind) {
	ofNotices = documents.Kind{Most: notice.MaxNotices, Word: "notices", None: notice.ErrNone, Changed: notice.ErrChanged, Restore: func(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
		var said notice.Said
		err := json.Unmarshal(body, &said)
		if err == nil {
			err = n.save(ctx, key, notice.Save{Said: said}, by)
		}
		return err
	}}
	ofChannels = documents.Kind{Most: notice.MaxChannels, Word: "channels", None: notice.ErrNoChannel, Changed: notice.ErrChanged, Restore: func(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
		var said notice.ChannelSaid
		err := json.Unmarshal(body, &said)
		if err == nil {
			err = n.saveChannel(ctx, key, notice.ChannelSave{Said: said}, by)
		}
		return err
	}}
	return ofNotices, ofChannels
}

func noticeKey(site, name string) document.Key {
	return document.Key{Site: site, Kind: document.Notice, Name: name}
}

func channelKey(site, name string) document.Key {
	return document.Key{Site: site, Kind: document.Channel, Name: name}
}

// Save checks what is said of a notice and puts it into force. by is who said so.
func (n *Notices) Save(ctx context.Context, site *sites.Site, name string, s notice.Save, by string) (notice.State, error) {
	if err := n.save(ctx, noticeKey(site.Host, name), s, by); err != nil {
		return notice.State{}, err
	}
	return n.Get(ctx, site, name)
}

func (n *Notices) save(ctx context.Context, key document.Key, s notice.Save, by string) error {
	err := notice.CheckName(key.Name)
	var c *notice.Compiled
	if err == nil {
		c, err = notice.Compile(s.Said, n.Running().known(key.Site))
	}
	if err == nil {
		_, err = n.Documents.Save(ctx, key, c.Said, documents.Saving{On: s.Revision, By: by})
	}
	return err
}

// Drop drops a notice and what has met it; [notice.ErrNone] where there is none.
func (n *Notices) Drop(ctx context.Context, site *sites.Site, name, by string) error {
	return n.Documents.Drop(ctx, noticeKey(site.Host, name), by)
}

// leastKey is how long the key of a webhook is at least, in characters.
const leastKey = 16

// SaveChannel checks what is said of a channel, keeps its secret and puts it into use; it begins anew with what waits.
func (n *Notices) SaveChannel(ctx context.Context, site *sites.Site, name string, s notice.ChannelSave, by string) (notice.ChannelState, error) {
	if err := n.saveChannel(ctx, channelKey(site.Host, name), s, by); err != nil {
		return notice.ChannelState{}, err
	}
	all, err := n.channels(ctx, site)
	if err != nil {
		return notice.ChannelState{}, err
	}
	at := slices.IndexFunc(all, func(c notice.ChannelState) bool { return c.Name == name })
	if at < 0 {
		return notice.ChannelState{}, notice.ErrNoChannel
	}
	return all[at], nil
}

func (n *Notices) saveChannel(ctx context.Context, key document.Key, s notice.ChannelSave, by string) error {
	if err := notice.CheckName(key.Name); err != nil {
		return err
	}
	file := "notices-" + strings.Map(func(r rune) rune {
		if r == '.' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, key.Site) + "-" + key.Name
	if s.NewSecret != "" {
		if s.Said.Kind == notice.Webhook && len(strings.TrimSpace(s.NewSecret)) < leastKey {
			return invalid.Field("new_secret", fmt.Sprintf("it has fewer than %d characters", leastKey), "Take a long random one, such as that of openssl rand -hex 32.")
		}
		if len(file) > 64 {
			return invalid.Field("name", "it is too long for the file of its secret", "Give a shorter one, or put the secret into a file yourself and name it.")
		}
		s.Said.Secret = "file:" + file
	}
	said, err := notice.CheckChannel(s.Said, n.Inside)
	if err != nil {
		return err
	}
	before := n.Running().Documents.Get(key)
	if before != nil {
		old, err := channelOf(before)
		if err != nil {
			return err
		}
		if old.Said.Kind != said.Kind {
			return invalid.Field("kind", "the channel is of another kind", "Make another channel.")
		}
		if s.NewSecret == "" && said.Secret != "" && said.Host() != old.Said.Host() {
			return invalid.Field("new_secret", "the channel leads to another host", "Enter the password or key again: what was entered for one host goes to no other.")
		}
	}
	if s.NewSecret != "" {
		if err := n.Secrets.Write(file, s.NewSecret); err != nil {
			return invalid.Field("new_secret", err.Error(), "Mend that, or put the secret into a file yourself and name it in secret.")
		}
	} else if said.Secret != "" {
		if _, err := n.Secrets.Read([]string{said.Secret}); err != nil {
			return invalid.Field("secret", err.Error(), "Put it there first, or enter a new one.")
		}
	}
	_, err = n.Documents.Save(ctx, key, said, documents.Saving{On: s.Revision, By: by})
	return err
}

// DropChannel drops a channel that no notice uses, and what waits for it; [notice.ErrNoChannel] where there is none.
func (n *Notices) DropChannel(ctx context.Context, site *sites.Site, name, by string) error {
	for _, k := range n.Running().notices(site.Host) {
		if k.Said.Channel == name {
			return invalid.Field("name", fmt.Sprintf("the notice %s uses the channel", k.Name), "Give that notice another channel first, or drop it.")
		}
	}
	return n.Documents.Drop(ctx, channelKey(site.Host, name), by)
}

// Messages lists what was sent.
func (n *Notices) Messages(ctx context.Context, site *sites.Site, name string, before uuid.UUID, limit int) (notice.MessageList, error) {
	out := notice.MessageList{Site: site.Host, Messages: []notice.Message{}}
	list, err := n.Rows.Messages(ctx, site.Host, name, before, limit+1)
	if err != nil {
		return out, err
	}
	if len(list) > limit {
		list = list[:limit]
		out.Next = &list[limit-1].ID
	}
	hosts := n.hosts(site.Host)
	for i := range list {
		out.Messages = append(out.Messages, shown(&list[i], hosts))
	}
	out.Sums, err = n.Rows.Sums(ctx, site.Host, n.Now())
	return out, err
}

// hosts gives where the channels of a site lead.
func (n *Notices) hosts(site string) map[string]string {
	out := map[string]string{}
	for _, k := range n.Running().channels(site) {
		out[k.Name] = k.Said.Host()
	}
	return out
}

func shown(l *notice.Letter, hosts map[string]string) notice.Message {
	m := l.Message()
	if l.Kind == notice.Webhook {
		m.To = []string{hosts[l.Channel]}
	}
	return m
}

// Message gives a message, what it says and every attempt to deliver it.
func (n *Notices) Message(ctx context.Context, site *sites.Site, id uuid.UUID) (notice.MessageWhole, error) {
	l, err := n.Rows.Message(ctx, site.Host, id)
	if err != nil {
		return notice.MessageWhole{}, err
	}
	if l.Tries == nil {
		l.Tries = []notice.Attempt{}
	}
	return notice.MessageWhole{Message: shown(&l, n.hosts(site.Host)), Text: l.Text, HTML: l.HTML, Tries: l.Tries}, nil
}

// DropMessage drops a message that waits; [notice.ErrFinished] for another.
func (n *Notices) DropMessage(ctx context.Context, site *sites.Site, id uuid.UUID) error {
	if _, err := n.Rows.Message(ctx, site.Host, id); err != nil {
		return err
	}
	ok, err := n.Rows.DropMessage(ctx, site.Host, id, n.Now())
	if err == nil && !ok {
		err = notice.ErrFinished
	}
	return err
}

// Resend sends a message again that is finished, as another, or tries one that waits at once.
func (n *Notices) Resend(ctx context.Context, site *sites.Site, id uuid.UUID) (notice.Message, error) {
	l, err := n.Rows.Message(ctx, site.Host, id)
	if err != nil {
		return notice.Message{}, err
	}
	hosts := n.hosts(site.Host)
	now := n.Now()
	if l.State == notice.Waiting {
		l.NextTry = now.UTC().Truncate(time.Millisecond)
		return shown(&l, hosts), n.Rows.Hasten(ctx, l.ID, now)
	}
	if _, ok := hosts[l.Channel]; !ok {
		return notice.Message{}, notice.ErrNoChannel
	}
	if l.Text == "" {
		return notice.Message{}, invalid.Field("id", "nothing is left of the message, since its visit was erased", "Write to the recipients yourself.")
	}
	missed := slices.DeleteFunc(slices.Clone(l.Recipients), func(r notice.Recipient) bool { return r.State == notice.Delivered })
	if len(missed) == 0 {
		missed = slices.Clone(l.Recipients)
	}
	for i := range missed {
		missed[i] = notice.Recipient{Address: missed[i].Address, State: notice.Waiting}
	}
	again := l
	if again.ID, err = newID(now); err != nil {
		return notice.Message{}, err
	}
	again.AgainOf, again.Recipients, again.State, again.Result, again.Tried, again.Tries, again.Finished = &l.ID, missed, notice.Waiting, "", 0, nil, nil
	again.Created, again.NextTry = now.UTC().Truncate(time.Millisecond), now.UTC().Truncate(time.Millisecond)
	return shown(&again, hosts), n.put(ctx, again)
}

// put has a letter wait to be sent.
func (n *Notices) put(ctx context.Context, l notice.Letter) error {
	return n.Rows.Write(ctx, written(l.Site, l.Notice, l), n.Now())
}

// Check judges the channels of all sites, and the notices that cannot be written.
func (n *Notices) Check(ctx context.Context) (list []checkup.Diagnostic) {
	healths, err := n.Rows.Healths(ctx)
	if err != nil && !errors.Is(err, visit.ErrAway) {
		n.Log.Debug("the channels of notices were not looked at", "error", err)
	}
	for _, k := range n.Running().channels("") {
		k.ChannelHealth = healthOf(healths, &k)
		switch k.Standing() {
		case notice.Failing:
			list = append(list, checkup.Diagnostic{Name: "notices", State: checkup.Attention, Title: fmt.Sprintf("The channel %s fails.", k.Name), Text: fmt.Sprintf("Since %s: %s. What is to be sent waits.", k.Since.UTC().Format("2006-01-02 15:04 UTC"), k.Reason)})
		case notice.Gone:
			list = append(list, checkup.Diagnostic{Name: "notices", State: checkup.Attention, Title: fmt.Sprintf("The channel %s is gone.", k.Name), Text: plain.UpperFirst(k.Reason) + ". Nothing is sent to it until it is saved again."})
		}
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for key, reason := range n.broken {
		list = append(list, checkup.Diagnostic{Name: "notices", State: checkup.Attention, Title: fmt.Sprintf("The notice %s is not written.", key[1]), Text: plain.UpperFirst(reason) + ". What met it waits."})
	}
	slices.SortFunc(list, func(a, b checkup.Diagnostic) int { return strings.Compare(a.Title, b.Title) })
	return list
}
