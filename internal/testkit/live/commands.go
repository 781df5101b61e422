package live

import (
	"bytes"
	"net/http"
	"strings"
	"testing"

	"eastporch/internal/cli"
	"eastporch/internal/cli/terminal"
)

// Run runs a command in-process and gives what it wrote.
func Run(t *testing.T, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	return RunIn(t, t.TempDir(), in, args...)
}

// RunIn runs a command of a user with a home directory.
func RunIn(t *testing.T, home, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(t.Context(), terminal.System{
		Args: args, Getenv: func(k string) string { return map[string]string{"HOME": home}[k] }, In: strings.NewReader(in), Out: &stdout, Err: &stderr,
	})
	return code, stdout.String(), stderr.String()
}

// Done is what a command has written.
type Done struct {
	Code     int
	Out, Err string
}

// RunCLI runs a command against a service.
func RunCLI(t *testing.T, s *Service, args ...string) (d Done) {
	t.Helper()
	d.Code, d.Out, d.Err = Run(t, "", append([]string{"--server", s.AdminURL, "--key", s.Admin}, args...)...)
	return d
}

// Post sends a visit and waits until it is stored.
func (s *Service) Post(t *testing.T, body string, header ...string) Answer {
	t.Helper()
	return s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", body, append(header, "Prefer: wait=15")...)
}
