package notices

import (
	"crypto/tls"
	"fmt"
	"net"
	netmail "net/mail"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/notice"
	"eastporch/internal/demo/standin"
)

// TestAMailReadBack: with all facts and with facts missing, in text and in HTML, each line of it.
func TestAMailReadBack(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.save(t, "first-visit", firstVisit())
	ids := h.come(t, nil, "198.18.3.40")
	h.come(t, nil, "198.18.4.40")
	h.come(t, nil, "198.18.3.41") // Portugal is not new any more
	h.turn(t)
	mails := h.sink.Taken()
	require.Len(t, mails, 2)
	assert.Equal(t, "First visit from Portugal", mails[0].Subject)
	clock := h.messages(t)[0].Created.In(h.aspect(h.site).Zone).Format("15:04")
	assert.Equal(t, "From Portugal.\nTown: Lisbon, within 15 km\nClock there: "+clock+"\nSky: calm, 4 m/s\nIn Lisbon.\nhttps://in.heronlake.example/visits?visit="+ids[0].String(), strings.TrimSpace(mails[0].Text))
	assert.Contains(t, mails[0].HTML, "<body>\n<p>Town: <b>Lisbon</b></p>\n<p>Lisbon</p>\n</body>")
	assert.Equal(t, "First visit from Japan", mails[1].Subject)
	assert.NotContains(t, mails[1].Text+mails[1].HTML, "Town:", "no label stands alone")
	assert.Contains(t, mails[1].Text, "From Japan.\n")
	assert.Contains(t, mails[1].Text, "\nIn an unknown town.\n")
	assert.Contains(t, mails[1].HTML, "<p>an &lt;unknown&gt; town</p>")
	head := netmail.Header(mails[0].Header)
	assert.Equal(t, "auto-generated", head.Get("Auto-Submitted"))
	assert.Equal(t, "<office@heronlake.example>", head.Get("To"))
	assert.Equal(t, `"Heron Lake Regatta" <porch@heronlake.example>`, head.Get("From"))
	for name := range head {
		assert.Contains(t, []string{"Auto-Submitted", "Content-Type", "Date", "From", "Message-Id", "Mime-Version", "Subject", "To"}, name, "nothing else is told")
	}
	for _, l := range h.messages(t) {
		assert.Equal(t, []any{notice.Delivered, "delivered", 1}, []any{l.State, l.Result, l.Tried})
	}
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 2, "and not again")
}

// TestOneOfThreeIsRefused: the others have theirs, each alone, and resending leaves them in peace.
func TestOneOfThreeIsRefused(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	counted := map[string]int{}
	h.Count = func(_, channel, outcome string) { counted[channel+" "+outcome]++ }
	h.channel(t)
	s := firstVisit()
	s.To = []string{"office@heronlake.example", "full@heronlake.example", "ida@heronlake.example"}
	h.save(t, "first-visit", s)
	require.NoError(t, h.sink.Fail("one"))
	h.come(t, nil, "198.18.3.40")
	h.turn(t)
	mails := h.sink.Taken()
	require.Len(t, mails, 2)
	for _, m := range mails {
		assert.Len(t, m.To, 1)
		assert.NotContains(t, m.Raw, "full@")
	}
	assert.Equal(t, map[string]int{"mail delivered": 2, "mail refused": 1}, counted)
	l := h.messages(t)[0]
	assert.Equal(t, notice.Failed, l.State)
	assert.Contains(t, l.Result, "1 of 3 refused: the mail server said 552 5.2.2 Mailbox full")
	state, err := h.Get(t.Context(), h.site, "first-visit")
	require.NoError(t, err)
	assert.Equal(t, "attention", state.Standing)
	require.NoError(t, h.sink.Fail("none"))
	again, err := h.Resend(t.Context(), h.site, l.ID)
	require.NoError(t, err)
	assert.NotEqual(t, l.ID, again.ID)
	h.turn(t)
	mails = h.sink.Taken()
	require.Len(t, mails, 3)
	assert.Equal(t, []string{"full@heronlake.example"}, mails[2].To)
	shown, err := h.Messages(t.Context(), h.site, "", uuid.Nil, 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"f•••@heronlake.example"}, shown.Messages[0].To, "masked")
}

// TestGreylistingHoldsUpNobodyElse: a mail that a server puts off waits alone, and goes in its time.
func TestGreylistingHoldsUpNobodyElse(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	s := firstVisit()
	h.save(t, "first-visit", s)
	require.NoError(t, h.sink.Fail("greylist"))
	h.come(t, nil, "198.18.3.40")
	h.turn(t)
	l := h.messages(t)[0]
	assert.Equal(t, notice.Waiting, l.State)
	assert.Contains(t, l.Result, "451 4.7.1 Greylisted")
	assert.WithinDuration(t, h.Now().Add(time.Minute), l.NextTry, 10*time.Second)
	_, err := h.Test(t.Context(), h.site, notice.Test{Said: s, To: "ida@heronlake.example"})
	require.NoError(t, err)
	h.turn(t)
	h.pass(t, 30*time.Second)
	assert.Empty(t, h.sink.Taken(), "not before its time")
	list, err := h.List(t.Context(), h.site)
	require.NoError(t, err)
	assert.Equal(t, notice.Ready, list.Channels[0].Standing, "the server answers")
	h.pass(t, 2*time.Minute)
	mails := h.sink.Taken()
	require.Len(t, mails, 2)
	assert.Equal(t, "office@heronlake.example", mails[0].To[0])
	assert.True(t, strings.HasPrefix(mails[1].Subject, "Test: "))
	whole, err := h.Message(t.Context(), h.site, l.ID)
	require.NoError(t, err)
	require.Len(t, whole.Tries, 2)
	assert.Equal(t, []bool{false, true}, []bool{whole.Tries[0].Ok, whole.Tries[1].Ok})
}

// TestMailServersThatFail: each for its own reason, the mail waits, and nothing tells the password.
func TestMailServersThatFail(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	strange := &standin.Mail{Login: "porch", Password: password, TLS: &tls.Config{Certificates: []tls.Certificate{own}}}
	good := h.serve(t, strange, nil)
	named := "localhost" + good[strings.LastIndexByte(good, ':'):] // the certificate is not for this name
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, gone.Close())
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	for name, c := range map[string]struct {
		server, security, fails, password, says string
		waits                                   bool
	}{
		"speaks no TLS":     {h.at, "starttls", "none", password, "the mail server speaks no TLS; nothing was sent, and no password", true},
		"wrong certificate": {named, "starttls", "none", password, "the mail server's certificate is not good for it", true},
		"wrong password":    {h.at, "none", "none", "another-password", "the mail server does not accept the login: 535", true},
		"nobody there":      {gone.Addr().String(), "none", "none", password, "the mail server was not reached", true},
		"says nothing":      {silent.Addr().String(), "none", "none", password, "the mail server did not answer in time", true},
		"hangs":             {h.at, "none", "hang", password, "the mail server did not answer in time", true},
		"is busy":           {h.at, "none", "busy", password, "421 4.3.2 Too busy", true},
		"refuses":           {h.at, "none", "refuse", password, "550 5.1.1 No such mailbox", false},
		"floods a line":     {flood(t, "220", " spam"), "none", "none", password, "the mail server said more than 262144 bytes to one mail", true},
		"floods lines":      {flood(t, "", "220-spam\r\n"), "none", "none", password, "the mail server said more than 262144 bytes to one mail", true},
		"floods an answer":  {flood(t, "220 here\r\n", "250-SPAM\r\n"), "none", "none", password, "the mail server said more than 262144 bytes to one mail", true},
		"loses it":          {h.at, "none", "drop", password, "421 4.4.2 Connection lost", true},
	} {
		said := mailTo(c.server)
		said.Security = c.security
		channel := strings.ReplaceAll(strings.ToLower(name), " ", "-")
		_, err := h.SaveChannel(t.Context(), h.site, channel, notice.ChannelSave{Said: said, NewSecret: c.password}, "a test")
		require.NoError(t, err, name)
		require.NoError(t, h.sink.Fail(c.fails))
		s := firstVisit()
		s.Channel = channel
		m, err := h.Test(t.Context(), h.site, notice.Test{Said: s, To: "ida@heronlake.example"})
		require.NoError(t, err, name)
		h.turn(t)
		l, err := h.Rows.Message(t.Context(), host, m.ID)
		require.NoError(t, err)
		assert.Contains(t, l.Result, c.says, name)
		assert.Equal(t, c.waits, l.State == notice.Waiting, name)
		require.NotEmpty(t, l.Tries, name)
		assert.NotContains(t, fmt.Sprint(l), c.password)
		assert.NotContains(t, l.Result+fmt.Sprint(l.Tries), "ida@", "recipients are masked")
		require.NoError(t, h.sink.Fail("none"))
		if c.waits {
			require.NoError(t, h.DropMessage(t.Context(), h.site, m.ID))
		}
	}
	assert.Empty(t, h.sink.Taken())
	assert.Empty(t, strange.Taken())
	assert.NotContains(t, h.log.String(), password)
	var failing []string
	for _, f := range h.Check(t.Context()) {
		failing = append(failing, f.Title)
	}
	assert.Contains(t, failing, "The channel wrong-password fails.")
	assert.NotContains(t, failing, "The channel refuses fails.", "what is refused for one recipient is no failure of the server")
}

// flood runs a mail server that says something once, and then something else until nobody listens: what nobody takes
// must not be much more than buffers of connections hold.
func flood(t *testing.T, first, then string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var talking sync.WaitGroup
	talking.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			said, text := 0, []byte(strings.Repeat(then, 1000))
			for n, err := conn.Write([]byte(first)); err == nil; n, err = conn.Write(text) {
				if said += n; !assert.Less(t, said, 64<<20, "somebody takes it all") {
					break
				}
			}
			_ = conn.Close()
		}
	})
	t.Cleanup(func() {
		require.NoError(t, l.Close())
		talking.Wait()
	})
	return l.Addr().String()
}

// TestMailOverTLS, from the beginning and after STARTTLS, with a certificate that is checked.
func TestMailOverTLS(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	config := &tls.Config{Certificates: []tls.Certificate{own}}
	for security, wrap := range map[string]*tls.Config{"starttls": nil, "tls": config} {
		sink := &standin.Mail{Login: "porch", Password: password, TLS: config}
		said := mailTo(h.serve(t, sink, wrap))
		said.Security = security
		_, err := h.SaveChannel(t.Context(), h.site, security, notice.ChannelSave{Said: said, NewSecret: password}, "a test")
		require.NoError(t, err)
		s := firstVisit()
		s.Channel = security
		_, err = h.Test(t.Context(), h.site, notice.Test{Said: s, To: "ida@heronlake.example"})
		require.NoError(t, err)
		h.turn(t)
		assert.Len(t, sink.Taken(), 1, h.messages(t))
	}
}

// TestAServerThatIsBack: what waited goes in its order, once, also where the first of it has used its attempts up.
func TestAServerThatIsBack(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	require.NoError(t, h.sink.Fail("hang"))
	s := firstVisit()
	var want []string
	for i := range 5 {
		to := fmt.Sprintf("crew%d@heronlake.example", i)
		_, err := h.Test(t.Context(), h.site, notice.Test{Said: s, To: to})
		require.NoError(t, err)
		want = append(want, to)
	}
	h.turn(t)
	h.turn(t)
	tried := 0
	for _, l := range h.messages(t) {
		tried += len(l.Tries)
	}
	assert.Equal(t, 1, tried, "a server that hangs is not asked for each mail")
	require.NoError(t, h.sink.Fail("busy"))
	for range notice.AttemptsMost {
		h.pass(t, 9*time.Hour)
	}
	first := h.messages(t)[0]
	assert.Equal(t, notice.Failed, first.State)
	assert.Contains(t, first.Result, "given up after 6 attempts")
	require.NoError(t, h.sink.Fail("none"))
	h.pass(t, 9*time.Hour)
	var got []string
	for _, m := range h.sink.Taken() {
		got = append(got, m.To...)
	}
	assert.Equal(t, want[1:], got)
	_, err := h.Resend(t.Context(), h.site, first.ID)
	require.NoError(t, err)
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 5)
}

// TestAllowances: a day's mails, and those to one recipient, wait for their time and are not lost.
func TestAllowances(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	said := mailTo(h.at)
	said.ADay, said.RecipientAnHour = 5, 2
	_, err := h.SaveChannel(t.Context(), h.site, "mail", notice.ChannelSave{Said: said, NewSecret: password}, "a test")
	require.NoError(t, err)
	send := func(to string) {
		t.Helper()
		_, err := h.Test(t.Context(), h.site, notice.Test{Said: firstVisit(), To: to})
		require.NoError(t, err)
		h.turn(t)
	}
	taken := func() (list []string) {
		for _, m := range h.sink.Taken() {
			list = append(list, m.To[0][:1])
		}
		return list
	}
	for range 4 {
		send("a@b.example")
	}
	send("c@b.example")
	assert.Equal(t, []string{"a", "a", "c"}, taken())
	h.pass(t, 61*time.Minute)
	assert.Equal(t, []string{"a", "a", "c", "a", "a"}, taken())
	send("d@b.example")
	last := h.messages(t)[5]
	assert.Equal(t, []any{notice.Waiting, "the 5 mails of a day are used up", 0}, []any{last.State, last.Result, last.Tried})
	h.pass(t, 23*time.Hour)
	assert.Equal(t, 6, len(taken()), "in 24 hours after the first of them")
	assert.True(t, slices.Contains(taken(), "d"))
}
