package documents

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// What docs/companions.md hands out is run as it stands there.
func TestCompanionsAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../../docs/companions.md")
	require.NoError(t, err)
	block := func(kind string) string {
		_, rest, ok := strings.Cut(string(text), "```"+kind+"\n")
		require.True(t, ok)
		inside, _, _ := strings.Cut(rest, "```")
		return inside
	}
	s := live.Start(t, nil)
	require.Contains(t, block("sh"), "echo made-up-key-1 > secrets/weather.key")
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "secrets", "weather.key"), []byte("made-up-key-1\n"), 0o600))
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, _, err := demo.StartWeather(ctx, "127.0.0.1:0", "made-up-key-1")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "weather.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(block("yaml"), demo.WeatherAddress, at)), 0o600))
	ran := 0
	for line := range strings.Lines(block("sh")) {
		command, _, _ := strings.Cut(line, "#")
		words := strings.Fields(command)
		if len(words) < 2 || words[1] != "companions" {
			continue
		}
		for i, word := range words {
			if word == "weather.yaml" {
				words[i] = file
			}
		}
		code, out, errors := live.RunIn(t, t.TempDir(), "", append([]string{"--server", s.AdminURL, "--key", s.Admin}, words[1:]...)...)
		require.Zero(t, code, "%s: %s", line, errors)
		if ran++; words[2] == "try" {
			assert.Contains(t, out, "/now/wind")
			assert.NotContains(t, out, "not usable")
		}
	}
	assert.Equal(t, 3, ran)
	card := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visitor?site="+demo.Site+"&companions=wait:2s", "", "X-Forwarded-For: 198.18.3.40")
	seen := regexp.MustCompile(`data-porch="([^"]+)"`).FindAllStringSubmatch(block("html"), -1)
	require.Len(t, seen, 3)
	for _, path := range seen {
		assert.NotEmpty(t, card.At(t, path[1]), path[1])
	}
	var example map[string]map[string]companion.Answer
	require.NoError(t, json.Unmarshal([]byte(block("json")), &example), "the card that is shown is one")
}
