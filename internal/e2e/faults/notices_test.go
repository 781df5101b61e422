package faults

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/notice"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// kill -9 between what triggers a notice and its delivery, and in the middle of one: each mail arrives, and once more
// at the most, as the Message-ID tells.
func TestFaultNoticesAcrossKills(t *testing.T) {
	t.Parallel()
	p := live.NewProcess(t, db.New(t))
	p.Args = append(p.Args, "--notices-send-inside", "true")
	p.Start()
	dial := func() *client.Client {
		t.Helper()
		c, err := client.New(p.AdminURL, p.Key, nil)
		require.NoError(t, err)
		return c
	}
	sink, _ := live.WithMail(t, dial())
	said, err := notice.ReadFile([]byte(live.BlockOf(t, "yaml", "title: First visit")))
	require.NoError(t, err)
	said.To, said.Quiet = []string{"race-office@heronlake.example", "ida@heronlake.example"}, nil
	_, err = dial().SaveNotice(t.Context(), demo.Site, "first-visit", notice.Save{Said: said})
	require.NoError(t, err)
	visit := func(address string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, p.AdminURL+"/v1/visits", strings.NewReader(live.VisitBody("203.0.113.4", address)))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+p.Key)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Less(t, answer.StatusCode, 300)
	}
	from := []string{"198.18.3.40", "198.19.141.9", "198.18.41.12", "198.19.45.7", "2001:db8:5e1:40::1f", "203.0.113.187"}
	for i, address := range from {
		require.NoError(t, sink.Fail([]string{"none", "hang"}[i%2]))
		visit(address)
		if i%2 == 1 { // in the middle of it
			require.Eventually(t, func() bool { return len(sink.Tried()) > 0 }, time.Minute, time.Millisecond)
		}
		p.Kill()
		require.NoError(t, sink.Fail("none"))
		p.Start()
		live.Mails(t, sink, 2*(i+1)) // two recipients
	}
	mails := sink.Taken()
	times, subjects := map[string]int{}, map[string]bool{}
	for _, m := range mails {
		times[m.Header["Message-Id"][0]]++
		subjects[m.Subject] = true
	}
	assert.Len(t, subjects, len(from), "one country each: %v", subjects)
	assert.Len(t, times, 2*len(from), "nothing is written twice")
	for id, n := range times {
		assert.LessOrEqual(t, n, 2, id)
	}
	list, err := dial().Messages(t.Context(), demo.Site, "first-visit", nil)
	require.NoError(t, err)
	for _, m := range list.Messages {
		live.Delivered(t, dial(), m.ID.String())
	}
	require.NoError(t, p.Stop())
	assert.NotContains(t, p.Output.String(), sink.Password)
	assert.NotContains(t, p.Output.String(), "race-office@", "recipients are in no log")
}
