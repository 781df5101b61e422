package notices

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
)

var stranger = Asker{Sender: "visitor 198.51.100.7"}

// linkIn finds the link in a mail.
var linkIn = regexp.MustCompile(`https://porch\.heronlake\.example/mail\?token=(\S+)`)

func token(t *testing.T, text string) string {
	t.Helper()
	found := linkIn.FindStringSubmatch(text)
	require.NotNil(t, found, text)
	out, err := url.QueryUnescape(found[1])
	require.NoError(t, err)
	return out
}

// TestAskingWithAConfirmedAddress: first a link, then the answer; the link is good once, and what it confirmed can be
// taken back.
func TestAskingWithAConfirmedAddress(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.save(t, "where-is", whereIs())
	first, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "0xC6120328", To: "ida@crew.example"}, stranger)
	require.NoError(t, err)
	assert.Nil(t, first.Message)
	h.turn(t)
	mails := h.sink.Taken()
	require.Len(t, mails, 1)
	assert.Equal(t, "Confirm your mail address at Heron Lake Regatta", mails[0].Subject)
	assert.NotContains(t, mails[0].Raw, "C6120328", "nothing in it is of who asked")
	assert.NotContains(t, mails[0].Raw, "198.18")
	confirm := token(t, mails[0].Text)
	link, err := h.Open(t.Context(), confirm)
	require.NoError(t, err)
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 1, "opening it does nothing")
	require.NoError(t, h.Follow(t.Context(), link))
	h.turn(t)
	mails = h.sink.Taken()
	require.Len(t, mails, 2)
	assert.Equal(t, []string{"ida@crew.example"}, mails[1].To)
	assert.Equal(t, "Where 198.18.3.40 is", mails[1].Subject, "in its one form, whatever a stranger typed")
	assert.Contains(t, mails[1].Text, "Country: Portugal\nTown: Lisbon\nAddress: 198.18.3.40\n")
	assert.ErrorIs(t, h.Follow(t.Context(), link), notice.ErrLink, "once")
	_, err = h.Open(t.Context(), confirm)
	assert.ErrorIs(t, err, notice.ErrLink)

	second, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.4.40", To: "ida@crew.example"}, stranger)
	require.NoError(t, err)
	assert.Equal(t, first, second, "the answer tells nothing")
	h.turn(t)
	require.Len(t, h.sink.Taken(), 3, "confirmed before")
	assert.NotContains(t, h.sink.Taken()[2].Text, "Town:")

	stop, err := h.Open(t.Context(), token(t, h.sink.Taken()[2].Text))
	require.NoError(t, err)
	require.True(t, stop.Stop)
	require.NoError(t, h.Follow(t.Context(), stop))
	h.pass(t, 61*time.Minute)
	third, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: "IDA@crew.example"}, stranger)
	require.NoError(t, err)
	assert.Equal(t, first, third)
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 3, "they want no more")
	_, err = h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: "ida@crew.example"}, Asker{Sender: "app", Vouched: true})
	assert.ErrorContains(t, err, "wants no mails")
	_, err = h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: "late@crew.example"}, stranger)
	require.NoError(t, err)
	h.turn(t)
	late, err := h.Open(t.Context(), token(t, h.sink.Taken()[3].Text))
	require.NoError(t, err)
	off := whereIs()
	off.Enabled = false
	h.save(t, "where-is", off)
	require.ErrorIs(t, h.Follow(t.Context(), late), notice.ErrNone, "it is off by now")
	h.turn(t)
	assert.Len(t, h.sink.Taken(), 4)
	for _, bad := range []string{"", "x", confirm + "x", "a.b", strings.Repeat("a", 5000)} {
		_, err := h.Open(t.Context(), bad)
		assert.ErrorIs(t, err, notice.ErrLink)
	}
}

// TestStrangersCannotMailStrangers: whoever types mail addresses into the form gets one mail to each of them in an
// hour at the most, and ten in all.
func TestStrangersCannotMailStrangers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	h.save(t, "where-is", whereIs())
	refused := 0
	for i := range 60 {
		_, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: fmt.Sprintf([]string{"someone%d@elsewhere.example", "SomeOne%d@Elsewhere.example"}[i/5%2], i%5)}, Asker{Sender: fmt.Sprint("visitor ", i%3)})
		if err != nil {
			require.ErrorIs(t, err, notice.ErrTooMany)
			refused++
		}
		h.turn(t)
	}
	by := map[string]int{}
	for _, m := range h.sink.Taken() {
		by[m.To[0]]++
		assert.Contains(t, m.Subject, "Confirm", "nobody confirmed")
	}
	assert.Equal(t, 5, len(by))
	for to, n := range by {
		assert.Equal(t, 1, n, to)
	}
	assert.Equal(t, 55, refused)
	h.pass(t, 61*time.Minute)
	one := Asker{Sender: "visitor 9"}
	var many sync.WaitGroup
	var too atomic.Int32
	for i := range 30 { // at once
		many.Go(func() {
			if _, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: fmt.Sprintf("other%d@elsewhere.example", i)}, one); err != nil {
				too.Add(1)
			}
		})
	}
	many.Wait()
	assert.Equal(t, int32(20), too.Load(), "ten an hour for one sender")
	for to, why := range map[string]string{
		"": "it is empty", "a@b.example, c@d.example": "is not a mail address", "a@b.example\r\nBcc: c@d.example": "is not a mail address", "Ida <a@b.example>": "is not a mail address",
	} {
		_, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: to}, stranger)
		var at *invalid.FieldError
		require.ErrorAs(t, err, &at)
		assert.Equal(t, "to", at.Field)
		assert.Contains(t, at.Reason, why)
	}
	_, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "not an address", To: "a@b.example"}, stranger)
	assert.ErrorContains(t, err, "is not an address")
}

// TestTheLimitOfANoticeHoldsForAllItsMails: also for those that ask to confirm; and whoever meets a limit is told which,
// and when it ends.
func TestTheLimitOfANoticeHoldsForAllItsMails(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	s := whereIs()
	s.Limit = notice.Limit{Most: 5, Every: "hour"}
	h.save(t, "where-is", s)
	begun := h.Now()
	ask := func(to, from string) error {
		_, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "198.18.3.40", To: to}, Asker{Sender: "visitor " + from})
		h.turn(t)
		return err
	}
	var met *notice.TooMany
	for i := range 40 {
		if err := ask(fmt.Sprintf("someone%d@elsewhere%d.example", i, i), fmt.Sprint(i)); i < 5 {
			require.NoError(t, err)
		} else {
			require.ErrorAs(t, err, &met)
			assert.Equal(t, "the notice answers 5 in one hour, and has", met.Limit)
			assert.WithinDuration(t, begun.Add(time.Hour), met.Until, time.Minute)
		}
	}
	assert.Len(t, h.sink.Taken(), 5)
	h.pass(t, 61*time.Minute)
	require.NoError(t, ask("vic@elsewhere.example", "a"))
	for _, spelling := range []string{"vic+1@elsewhere.example", "v.ic@elsewhere.example", "VIC+x+y@Elsewhere.example"} {
		require.ErrorAs(t, ask(spelling, spelling), &met, spelling)
		assert.Contains(t, met.Limit, "to this mail address")
	}
	assert.Len(t, h.sink.Taken(), 6)
	stop := mailLink{Stop: true, Site: host, Recipient: "vic+1@elsewhere.example"}
	require.NoError(t, h.Follow(t.Context(), &Link{Stop: true, Site: h.site, to: stop}))
	h.pass(t, 61*time.Minute)
	require.NoError(t, ask("vic@elsewhere.example", "a"), "which tells strangers nothing")
	assert.Len(t, h.sink.Taken(), 6, "whoever wants no mails gets none under another spelling")
}

// TestAFixedListAndVouching: the owner’s list takes no recipient, and the owner’s application answers for its own.
func TestAFixedListAndVouching(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.channel(t)
	s := whereIs()
	s.To = []string{"office@heronlake.example"}
	h.save(t, "to-us", s)
	h.save(t, "where-is", whereIs())
	_, err := h.Ask(t.Context(), h.site, "to-us", notice.Ask{Address: "198.18.3.40", To: "ida@crew.example"}, stranger)
	assert.ErrorContains(t, err, "fixed list")
	_, err = h.Ask(t.Context(), h.site, "to-us", notice.Ask{Address: " 40.3.18.198.in-addr.arpa "}, stranger)
	require.NoError(t, err)
	app := Asker{Sender: "app", Vouched: true}
	asked, err := h.Ask(t.Context(), h.site, "where-is", notice.Ask{Address: "10.1.2.3", To: "ida@crew.example"}, app)
	require.NoError(t, err)
	require.NotNil(t, asked.Message)
	h.turn(t)
	mails := h.sink.Taken()
	require.Len(t, mails, 2)
	assert.Equal(t, []string{"office@heronlake.example"}, mails[0].To)
	assert.NotContains(t, mails[0].Text, "mail?token")
	assert.Equal(t, "Address: 10.1.2.3", strings.TrimSpace(mails[1].Text), "what is not known drops its lines")
	off := whereIs()
	off.Enabled = false
	h.save(t, "where-is", off)
	for _, name := range []string{"where-is", "nonsense", ""} {
		_, err = h.Ask(t.Context(), h.site, name, notice.Ask{Address: "198.18.3.40", To: "a@b.example"}, app)
		assert.ErrorIs(t, err, notice.ErrNone)
	}
}
