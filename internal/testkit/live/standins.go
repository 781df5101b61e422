package live

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/notice"
	"eastporch/internal/demo"
	"eastporch/internal/demo/standin"
)

// WithWeather gives a service the regatta's companions, and the weather that they ask.
func WithWeather(t *testing.T, s *Service) (weather *standin.Weather, secret string) {
	t.Helper()
	secret, err := demo.WeatherKey(s.Dir)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, weather, err := demo.StartWeather(ctx, "127.0.0.1:0", secret)
	require.NoError(t, err)
	require.NoError(t, demo.Companions(t.Context(), s.Client, at))
	return weather, secret
}

// SaidAnew changes what is said of the weather.
func SaidAnew(t *testing.T, c *client.Client, edit func(*companion.Said)) companion.State {
	t.Helper()
	s, err := c.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	edit(&s.Said)
	s, err = c.SaveCompanion(t.Context(), demo.Site, "weather", companion.Save{Said: s.Said, Revision: &s.Revision})
	require.NoError(t, err)
	return s
}

// WithMail gives a service a mail server that stands in, as the channel mail.
func WithMail(t *testing.T, c *client.Client) (sink *standin.Mail, page string) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, page, sink, err := demo.StartMail(ctx)
	require.NoError(t, err)
	said := notice.ChannelSaid{Kind: notice.Mail, Server: at, Security: "none", Login: sink.Login, From: "porch@heronlake.example", ADay: 200, RecipientAnHour: 50}
	_, err = c.SaveChannel(t.Context(), demo.Site, "mail", notice.ChannelSave{Said: said, NewSecret: sink.Password})
	require.NoError(t, err)
	return sink, page
}

// Mails waits until so many mails were taken, and gives them.
func Mails(t *testing.T, sink *standin.Mail, n int) []standin.Received {
	t.Helper()
	require.Eventually(t, func() bool { return len(sink.Taken()) >= n }, 10*time.Minute, 20*time.Millisecond)
	return sink.Taken()
}

// BlockOf gives the block of a kind in docs/notices.md that begins with some words.
func BlockOf(t *testing.T, kind, begins string) string {
	t.Helper()
	text, err := os.ReadFile("../../../docs/notices.md")
	require.NoError(t, err)
	for _, part := range strings.Split(string(text), "```"+kind+"\n")[1:] {
		if inside, _, _ := strings.Cut(part, "```"); strings.HasPrefix(inside, begins) {
			return inside
		}
	}
	t.Fatalf("no block of %s begins with %q", kind, begins)
	return ""
}

// Delivered waits until a message was delivered.
func Delivered(t *testing.T, c *client.Client, id string) notice.MessageWhole {
	t.Helper()
	var m notice.MessageWhole
	require.Eventually(t, func() bool {
		var err error
		m, err = c.Message(t.Context(), demo.Site, id)
		require.NoError(t, err)
		return m.Message.State != notice.Waiting
	}, 10*time.Minute, 20*time.Millisecond)
	require.Equal(t, notice.Delivered, m.Message.State, m)
	return m
}
