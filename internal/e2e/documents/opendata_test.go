package documents

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

var tryOpenData = regexp.MustCompile("(?s)## Try it without the Internet\n\n```sh\n(.*?)```")

// docs/open-data.md to the letter, from an empty directory, then a service on what it wrote: from
// an invented registry to a card with town, operator and evidence. Only ports are others.
func TestOpenDataAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.Symlink(live.Binary(t), filepath.Join(dir, "bin", "eastporch")))
	text, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "open-data.md"))
	require.NoError(t, err)
	block := tryOpenData.FindSubmatch(text)
	require.NotNil(t, block)
	port := live.FreePort(t)
	lines := strings.NewReplacer("8093", port, "standin registry &", "standin registry --address 127.0.0.1:"+port+" &\nuntil curl -sf http://127.0.0.1:"+port+"/ >/dev/null; do :; done").Replace(string(block[1]))
	script := "set -euo pipefail\n" + lines + "\ncp \"$(pwd)/try.yaml\" first.yaml\nread\nkill %1\n"
	cmd := exec.Command("bash", "-c", script)
	cmd.Dir = filepath.Join(dir, "empty")
	require.NoError(t, os.Mkdir(cmd.Dir, 0o755))
	cmd.Env = append(os.Environ(), "PATH="+filepath.Join(dir, "bin")+":"+os.Getenv("PATH"), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "NO_COLOR=1")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	stop := func() string {
		_, _ = in.Write([]byte("\n"))
		_ = in.Close()
		_ = cmd.Wait() // it ends by what kill gives
		return said.String()
	}
	defer stop()
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(cmd.Dir, "first.yaml"))
		return err == nil || cmd.ProcessState != nil
	}, 10*time.Minute, 20*time.Millisecond)

	s := live.StartOn(t, filepath.Join(cmd.Dir, "try.yaml"), map[string]any{"sites": []any{map[string]any{"host": "heronlake.example"}}, "policy": []any{map[string]any{"prefix": "198.18.0.0/15", "action": "resolve"}}})
	require.Eventually(t, func() bool { // the first edition is built while the service runs
		_, job, err := s.Client.Editions(t.Context())
		return err == nil && job.Ended != nil
	}, 10*time.Minute, 50*time.Millisecond)
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/198.18.3.40", "")
	assert.Equal(t, "Lisbon", got.At(t, "location.city"))
	assert.Equal(t, "Harbour Net (invented)", got.At(t, "network.operator"))
	feeds, err := s.Client.Feeds(t.Context(), "", "")
	require.NoError(t, err)
	states := map[string]string{}
	for _, f := range feeds.Feeds {
		states[f.URL[strings.LastIndex(f.URL, "/")+1:]] = f.State
		if strings.HasSuffix(f.URL, "greedy.csv") {
			assert.Equal(t, []int{1, 2}, []int{f.Entries, f.Outside}, "somebody else's range is dropped, counted and named")
			assert.Contains(t, f.Notes[0].Text, "198.18.3.0/26")
		}
	}
	assert.Equal(t, map[string]string{"harbour.csv": "used", "reed.csv": "used", "fjord.csv": "used", "greedy.csv": "used", "gone.csv": "refused", "page.csv": "refused", "round.csv": "refused"}, states)
	feeds, err = s.Client.Feeds(t.Context(), "", "198.18.40.9")
	require.NoError(t, err)
	require.Len(t, feeds.Feeds, 1)
	assert.Equal(t, "REED-CABLE", feeds.Feeds[0].Named[0].Network)
	made, err := s.Client.VisitCoverage(t.Context(), "")
	require.NoError(t, err)
	assert.Zero(t, made.Visits)

	words := stop()
	for _, want := range []string{"is written", "Its new sources: Geofeeds, Routing table", "Lisbon", "AS64500 Harbour Net (invented)", "self-published claim, rank 20, 198.18.3.0/26", "routing table, rank 30"} {
		assert.Contains(t, words, want)
	}
}
