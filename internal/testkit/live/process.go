package live

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/demo"
	"eastporch/internal/server/access"
	"eastporch/internal/server/store"
)

// Settled waits until nothing waits at a service.
func Settled(t *testing.T, url, key string) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		req, _ := http.NewRequest(http.MethodGet, url+"/v1/visits/state", nil)
		req.Header.Set("Authorization", "Bearer "+key)
		res, err := http.DefaultClient.Do(req)
		if !assert.NoError(c, err) {
			return
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		assert.Contains(c, string(body), `"waiting":0,`)
	}, 10*time.Minute, 20*time.Millisecond)
}

// A Process is the service as its users run it, in a process of its own.
type Process struct {
	t             *testing.T
	binary        string
	Args          []string
	Wrap          []string // a command in front
	Cmd           *exec.Cmd
	Output        *bytes.Buffer
	AdminURL, Key string
}

// binaryVariable names the service's binary where it is built already; else tests build one.
const binaryVariable = "EASTPORCH_TEST_BINARY"

var (
	built     = sync.OnceValues(build)
	buildInto = filepath.Join(os.TempDir(), fmt.Sprintf("eastporch-test-%d", os.Getpid()))
)

func build() (binary string, err error) {
	if given := os.Getenv(binaryVariable); given != "" {
		_, err := os.Stat(given)
		return given, err
	}
	if out, err := exec.Command("go", "build", "-o", buildInto, "eastporch/cmd/eastporch").CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return buildInto, nil
}

// Binary is the path of the service's binary, which is built once for all tests of a package.
func Binary(t testing.TB) string {
	t.Helper()
	binary, err := built()
	require.NoError(t, err)
	return binary
}

// NewProcess makes a key for a process of the service in its database.
func NewProcess(t *testing.T, database string) *Process {
	t.Helper()
	dir := t.TempDir()
	binary := Binary(t)
	file, err := demo.Write(dir)
	require.NoError(t, err)
	s, err := store.Open(t.Context(), database, 0)
	require.NoError(t, err)
	defer s.Close()
	keys, err := access.NewKeys(t.Context(), s, slog.New(slog.DiscardHandler), time.Now)
	require.NoError(t, err)
	_, key, err := keys.Create(t.Context(), access.Key{Name: "load", Scope: access.Admin})
	require.NoError(t, err)
	address := FreeAddress(t)
	p := &Process{t: t, binary: binary, Key: key, AdminURL: "http://" + address, Args: []string{
		"serve", "--config", file, "--data-dir", filepath.Join(dir, "data"), "--database-url", database,
		"--admin-address", address, "--public-address", FreeAddress(t), "--limits-key-per-second", "1000000", "--log-level", "warn",
	}}
	t.Cleanup(p.Kill)
	return p
}

// Call asks the process at its admin listener with its key, on a connection of its own and without following redirects;
// header lines come last, and win.
func (p *Process) Call(method, path, body string, header ...string) (int, http.Header, string) {
	p.t.Helper()
	req, err := http.NewRequest(method, p.AdminURL+path, strings.NewReader(body))
	require.NoError(p.t, err)
	req.Header.Set("Authorization", "Bearer "+p.Key)
	req.Header.Set("Content-Type", "application/json")
	for _, line := range header {
		name, value, _ := strings.Cut(line, ": ")
		req.Header.Set(name, value)
	}
	res, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, res.Header, string(text)
}

// FreeAddress is an address of 127.0.0.1 whose port is free, to nobody else.
func FreeAddress(t *testing.T) string {
	t.Helper()
	return "127.0.0.1:" + FreePort(t)
}

// Start starts the process and waits until it listens.
func (p *Process) Start() {
	p.t.Helper()
	if !<-p.Launch() {
		p.t.Fatalf("the service did not start: %s", p.Output)
	}
}

// Launch starts the process. The channel tells whether it listens, or has ended before.
func (p *Process) Launch() <-chan bool {
	p.t.Helper()
	words := append(append(append([]string{}, p.Wrap...), p.binary), p.Args...)
	p.Cmd = exec.Command(words[0], words[1:]...)
	out, err := p.Cmd.StdoutPipe()
	require.NoError(p.t, err)
	p.Output = &bytes.Buffer{}
	p.Cmd.Stderr = p.Output
	require.NoError(p.t, p.Cmd.Start())
	listens := make(chan bool, 1)
	go func() {
		lines, told := bufio.NewScanner(out), false
		for lines.Scan() { // to the end, so that it never waits for us
			if strings.HasPrefix(lines.Text(), "Admin") && !told {
				told = true
				listens <- true
			}
		}
		if !told {
			listens <- false
		}
	}()
	return listens
}

// Worked is the processor time that the process has used, to a hundredth of a second.
func (p *Process) Worked() time.Duration {
	p.t.Helper()
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.Cmd.Process.Pid))
	require.NoError(p.t, err)
	_, behind, _ := strings.Cut(string(stat), ") ") // a name may hold spaces
	fields := strings.Fields(behind)
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// HasWorked waits until the process has used so much processor time, or uses no more of it: a
// moment that is as far into its work on every machine.
func (p *Process) HasWorked(d time.Duration) {
	p.t.Helper()
	before, idle := p.Worked(), 0
	require.Eventually(p.t, func() bool {
		now := p.Worked()
		if idle++; now != before {
			before, idle = now, 0
		}
		return now >= d || idle > 100
	}, 10*time.Minute, 2*time.Millisecond)
}

// Kill ends the process at once.
func (p *Process) Kill() {
	if p.Cmd == nil || p.Cmd.Process == nil {
		return
	}
	_ = p.Cmd.Process.Kill()
	_ = p.Cmd.Wait()
	p.Cmd = nil
}

// Stop tells the process to stop, and gives whether it did so by itself and in order.
func (p *Process) Stop() error {
	p.t.Helper()
	if err := p.Cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	err := p.Cmd.Wait()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, p.Output)
	}
	p.Cmd = nil
	return err
}
