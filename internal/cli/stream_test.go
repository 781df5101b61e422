package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/cli"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/demo"
)

// What is read from standard input is answered as it comes, in every format as a list of arguments is.
func TestALongListIsAnsweredAsItComes(t *testing.T) {
	dir := t.TempDir()
	_, err := demo.Write(dir)
	require.NoError(t, err)
	resolve := []string{"resolve", "--atlas", filepath.Join(dir, "harbour-net.csv"), "--open", "198.18.0.0/15"}
	for _, command := range [][]string{resolve, {"kind"}} {
		for _, format := range []string{"table", "ndjson", "json", "yaml", "csv"} {
			ctx, stop := context.WithCancel(t.Context())
			lines, in := io.Pipe()
			out, written := io.Pipe()
			var notes bytes.Buffer
			code := make(chan int, 1)
			go func() {
				code <- cli.Run(ctx, terminal.System{Args: append(command, "-", "-o", format), Getenv: func(string) string { return dir }, In: lines, Out: written, Err: &notes})
				_ = written.Close()
			}()
			answers := bufio.NewReader(out)
			for i := range 3 { // each before the next is asked for
				_, err := fmt.Fprintf(in, "198.18.3.%d\n", 40+i)
				require.NoError(t, err)
				for found := false; !found; {
					line, err := answers.ReadString('\n')
					require.NoError(t, err, notes.String())
					found = strings.Contains(line, fmt.Sprintf("198.18.3.%d", 40+i))
				}
			}
			stop() // while it waits for another line
			rest, err := io.ReadAll(answers)
			require.NoError(t, err)
			assert.NotZero(t, <-code)
			assert.Contains(t, notes.String(), "stopped after 3 addresses")
			if format == "json" {
				assert.True(t, strings.HasSuffix(string(rest), "\n]\n"), "what is written is whole: %q", rest)
			}
		}
	}
	for _, format := range []string{"ndjson", "json", "yaml"} {
		_, together, _ := run(t, "", append(resolve, "-o", format, "198.18.3.40", "10.1.2.3")...)
		code, streamed, _ := run(t, "198.18.3.40\n\n  10.1.2.3  \n", append(resolve, "-o", format, "-")...)
		assert.Zero(t, code)
		assert.Equal(t, withoutClock(together), withoutClock(streamed), format)
	}
	code, out, notes := run(t, "198.18.3.40\nnonsense\n256.1.1.1\n10.1.2.3", append(resolve, "-")...)
	assert.Equal(t, 1, code)
	assert.Equal(t, 3, strings.Count(out, "\n"), out)
	assert.Contains(t, notes, "nonsense: ")
	assert.Contains(t, notes, "without an answer: 2 of 4 addresses")
	_, out, _ = run(t, "", append(resolve, "-", "-o", "json")...)
	assert.Equal(t, "[]\n", out)
	code, _, notes = run(t, "198.18.3.40\n"+strings.Repeat("1", 5000)+"\n", append(resolve, "-")...)
	assert.Equal(t, 1, code)
	assert.Contains(t, notes, "line 2 is longer than 4096 bytes")
	code, _, notes = run(t, "", append(resolve, "198.18.3.0-198.18.3.9")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, notes, "eastporch ranges 198.18.3.0-198.18.3.9")
}

var clock = regexp.MustCompile(`"?local_time"?: ?[^,\n]*`)

// withoutClock drops what says what time it is.
func withoutClock(text string) string { return clock.ReplaceAllString(text, "") }

// What strangers wrote cannot turn round what stands beside it in a terminal; as data it is
// handed on as it is.
func TestMarksOfDirectionAreVisible(t *testing.T) {
	feed := filepath.Join(t.TempDir(), "feed.csv")
	town := "Lis\u202ebon\u2066\u2028x"
	require.NoError(t, os.WriteFile(feed, []byte("198.18.0.0/24,PT,PT-11,"+town+",\n"), 0o600))
	for _, args := range [][]string{
		{"resolve", "198.18.0.1", "--open", "198.18.0.0/15", "--atlas", feed},
		{"resolve", "198.18.0.1", "198.18.0.2", "--open", "198.18.0.0/15", "--atlas", feed},
		{"ranges", "198.18.0.0/24", "--atlas", feed},
	} {
		code, out, notes := run(t, "", args...)
		require.Zero(t, code, notes)
		assert.Contains(t, out, "Lis⟨U+202E⟩bon⟨U+2066⟩⟨U+2028⟩x", args)
		assert.False(t, strings.ContainsAny(out+notes, "\u202e\u2066\u2028"), args)
	}
	_, out, _ := run(t, "", "resolve", "198.18.0.1", "--open", "198.18.0.0/15", "--atlas", feed, "-o", "ndjson")
	var card struct{ Location struct{ City string } }
	require.NoError(t, json.Unmarshal([]byte(out), &card))
	assert.Equal(t, town, card.Location.City)
	_, _, notes := run(t, "", "resolve", "198\u202e.18", "--atlas", feed)
	assert.NotContains(t, notes, "\u202e")
}
