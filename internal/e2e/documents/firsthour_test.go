package documents

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

var firstHour = regexp.MustCompile("(?s)<!-- first hour -->(.*)<!-- end -->")

// steps are the blocks of the guide, each with its title.
func steps(t *testing.T) (list [][2]string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "first-visits.md"))
	require.NoError(t, err)
	part := firstHour.FindSubmatch(text)
	require.NotNil(t, part)
	for _, block := range regexp.MustCompile("(?s)```sh\n# (\\d+\\. [^\n]*)\n(.*?)```").FindAllSubmatch(part[1], -1) {
		list = append(list, [2]string{string(block[1]), string(block[2])})
	}
	return list
}

// The guide to the first hour, to the letter, from an empty directory; only ports are others,
// since these may be somebody else's. Then somebody opens the page in a browser.
func TestTheFirstHour(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "eastporch-hour-") // t.TempDir has mode 700 above it
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	bin := filepath.Join(dir, "bin")
	require.NoError(t, os.Mkdir(bin, 0o755))
	require.NoError(t, os.Symlink(live.Binary(t), filepath.Join(bin, "eastporch")))
	empty := filepath.Join(dir, "empty")
	require.NoError(t, os.Mkdir(empty, 0o755))
	public, admin, site := live.FreePort(t), live.FreePort(t), live.FreePort(t)
	ports := strings.NewReplacer("8080", public, "8081", admin, "8088", site)

	list := steps(t)
	require.Len(t, list, 7)
	script := "set -euo pipefail\n"
	for i, step := range list {
		script += fmt.Sprintf("echo \"step %d $(date +%%s%%N)\"\n%s\n", i+1, ports.Replace(step[1]))
	}
	script += "echo \"step 8 $(date +%s%N)\"\nwait\n"
	cmd := exec.Command("bash", "-c", script)
	cmd.Dir = empty
	cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH")+":/usr/sbin", "HOME="+dir, "XDG_CONFIG_HOME=", "EASTPORCH_CONFIG=", "EASTPORCH_SERVER=http://127.0.0.1:"+admin,
		"EASTPORCH_PUBLIC_ADDRESS=127.0.0.1:"+public, "EASTPORCH_ADMIN_ADDRESS=127.0.0.1:"+admin)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		<-ended
	})
	text := func() string {
		b, _ := os.ReadFile(said.Name())
		return string(b)
	}
	require.Eventually(t, func() bool {
		select {
		case <-ended:
			require.Fail(t, "the script ended", text())
		default:
		}
		return strings.Contains(text(), "step 8 ")
	}, 10*time.Minute, 50*time.Millisecond)
	logSteps(t, list, text())
	for _, says := range []string{`"location":{"city":"Lisbon"}`, "198.18.3.0/24  Lisbon  PT", "Lisbon, PT       1  100.0 %", "1 visit, from counts."} {
		assert.Contains(t, text(), says)
	}
	assert.Regexp(t, `(?m)^ Lisbon \| +1$`, text(), "by SQL")

	// The page, in a browser that stands elsewhere.
	p := live.OpenTabWith(t, chromedp.Flag("host-resolver-rules", "MAP heronlake.example 127.0.0.1"))
	p.Do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, network.SetExtraHTTPHeaders, network.SetExtraHTTPHeadersParams{Headers: network.Headers{"X-Forwarded-For": "198.18.7.114"}})
		return err
	}))
	p.Do(chromedp.Navigate("http://heronlake.example:" + site + "/"))
	p.Says("b", "Valencia")
	p.NothingWrong()
	listed := exec.Command(filepath.Join(bin, "eastporch"), "visits", "list", "--output", "csv") // by a browser that calls itself headless, which is marked as a bot
	listed.Env = cmd.Env
	require.Eventually(t, func() bool {
		again := *listed
		out, err := again.Output()
		return err == nil && strings.Contains(string(out), "Valencia") && strings.Contains(string(out), "Lisbon")
	}, 10*time.Minute, 200*time.Millisecond)
	assert.Equal(t, http.StatusOK, getStatus(t, "http://127.0.0.1:"+admin+"/readyz"))
}

// logSteps prints what each step took of the machine.
func logSteps(t *testing.T, list [][2]string, said string) {
	t.Helper()
	var at []int64
	for _, m := range regexp.MustCompile(`(?m)step \d (\d{10,})$`).FindAllStringSubmatch(said, -1) {
		var n int64
		_, err := fmt.Sscan(m[1], &n)
		require.NoError(t, err)
		at = append(at, n)
	}
	require.Len(t, at, len(list)+1)
	for i, step := range list {
		t.Logf("%-90.90s %s", step[0], time.Duration(at[i+1]-at[i]).Round(time.Millisecond))
	}
	t.Logf("in all %s", time.Duration(at[len(at)-1]-at[0]).Round(time.Millisecond))
}

func getStatus(t *testing.T, url string) int {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	return res.StatusCode
}
