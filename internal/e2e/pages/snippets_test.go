package pages

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func onMachine(program string) bool {
	_, err := exec.LookPath(program)
	return err == nil
}

// runSnippet runs a program of one file in a directory of its own, and gives what it
// printed.
func runSnippet(t *testing.T, file, text string, command []string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Dir = dir
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	require.NoError(t, cmd.Run(), "%v: %s", command, said.String())
	return out.String()
}
