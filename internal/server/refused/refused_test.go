package refused

import (
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever strangers send, no line to copy has more of it than the name of a host or an origin.
func TestStrangersWriteNoLines(t *testing.T) {
	pieces := []string{
		"https://", "http://", "shop.heronlake.example", ";", "touch x", "$(id)", "`id`", "'", "\"", " ", "|", "&", "\n", "#", "--scope admin", "]", "[", ", a: ", ":", "8443", "(", ")", "*", "\\", "A", "é", "\u202e", "-", "%", "{", "}", "<", ">",
	}
	random := rand.New(rand.NewPCG(32, 10))
	for range 20_000 {
		text := ""
		for range 1 + random.IntN(5) {
			text += pieces[random.IntN(len(pieces))]
		}
		text = Clean(text)
		require.NotContains(t, text, "\u202e")
		for kind := range titles {
			_, question, lines := mend(Key{Kind: kind, Site: "heronlake.example", Detail: text}, Example{Origin: text, Host: text, Start: ""}, Setting{Hosts: []string{"in.heronlake.example"}, VisitorPerSecond: 20, KeyPerSecond: 1000}, nil)
			for _, line := range lines {
				require.Empty(t, strings.Trim(line, `abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 .-_:/"[],#`), "%s: %q", kind, text)
				require.NotContains(t, line, "--scope admin", "%q", text)
				if strings.HasPrefix(line, "eastporch") {
					require.NotContains(t, line, "#", "%q", text)
				}
			}
			require.NotContains(t, question, ";")
		}
	}
	// What is handed out is what a shell reads.
	_, _, lines := mend(Key{Kind: Origin, Site: "heronlake.example", Detail: "https://shop.heronlake.example:8443"}, Example{}, Setting{}, nil)
	require.Len(t, lines, 1)
	words, err := exec.Command("sh", "-c", "set -- "+lines[0]+"; printf '%s|' \"$@\"").Output()
	require.NoError(t, err)
	assert.Equal(t, "eastporch|keys|create|shop.heronlake.example:8443|--scope|page|--site|heronlake.example|--origin|https://shop.heronlake.example:8443|", string(words))
}
