package secret

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsThatAreNone(t *testing.T) {
	for name, ok := range map[string]bool{
		"file:weather.key": true, "env:EASTPORCH_SECRET_SKY": true, "file:../key": false, "file:/etc/passwd": false, "file:.hidden": false, "file:": false,
		"env:PATH": false, "env:EASTPORCH_SECRET_": false, "weather.key": false, "file:a/b": false,
	} {
		_, _, is := Name(name)
		assert.Equal(t, ok, is, name)
	}
	for _, text := range []string{"", "  \n", "short", "two\nlines here", "naïve-secret", strings.Repeat("a", 5000)} {
		_, err := Check(text)
		require.Error(t, err)
		if len(strings.TrimSpace(text)) > 0 {
			assert.NotContains(t, err.Error(), strings.TrimSpace(text))
		}
	}
	clean, err := Check(" abcdefgh12\n")
	require.NoError(t, err)
	assert.Equal(t, "abcdefgh12", clean)
}

// However a service writes back what it was sent, nobody reads it: random secrets, each of
// their characters written in a random way.
func TestSecretsComeBackMasked(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 7))
	const letters = "abcXYZ019-._~!$&'()*+,;=:@/?#[]%\"<>\\^`{|} "
	manners := []func(string) string{
		func(c string) string { return c },
		strings.ToUpper, strings.ToLower,
		func(c string) string { return fmt.Sprintf("%%%02X", c[0]) },
		func(c string) string { return fmt.Sprintf("%%%02x", c[0]) },
		func(c string) string { return fmt.Sprintf("%%25%02x", c[0]) },
		func(c string) string { return fmt.Sprintf("\\u%04X", c[0]) },
		func(c string) string { return fmt.Sprintf("&#%d;", c[0]) },
		func(c string) string { return fmt.Sprintf("&#x%x;", c[0]) },
		html.EscapeString,
	}
	const tried = 4000
	for range tried {
		var b strings.Builder
		for b.Len() < 8+r.IntN(30) {
			b.WriteByte(letters[r.IntN(len(letters))])
		}
		value, err := Check("s" + b.String() + "e")
		require.NoError(t, err)
		var back strings.Builder
		for _, c := range value {
			back.WriteString(manners[r.IntN(len(manners))](string(c)))
		}
		inJSON, err := json.Marshal(value)
		require.NoError(t, err)
		noise := strings.Repeat("x", r.IntN(4))
		for name, form := range map[string]string{
			"by character": back.String(), "upper": strings.ToUpper(value), "query": url.QueryEscape(value), "path": url.PathEscape(value), "HTML": html.EscapeString(value),
			"JSON": string(inJSON[1 : len(inJSON)-1]), "base64": base64.StdEncoding.EncodeToString([]byte(value)), "URL base64": base64.RawURLEncoding.EncodeToString([]byte(value)),
			"hexadecimal": fmt.Sprintf("%X", value), "basic": base64.StdEncoding.EncodeToString([]byte("user" + noise + ":" + value + "\n")),
		} {
			masked := Values{"sky": value}.Hide("before " + form + " after")
			assert.Contains(t, masked, Mask, "%s: %q as %q", name, value, form)
			if name == "basic" || name == "base64" || name == "URL base64" { // a letter or two at the ends may stay
				assert.Less(t, len(masked), len("before  after")+len(Mask)+16, "%s of %q: %s", name, value, masked)
				continue
			}
			assert.Equal(t, "before "+Mask+" after", masked, "%s: %q as %q", name, value, form)
		}
	}
	harmless := "The sky over {\"town\": \"Lisbon\"} is 100% clear, &amp; \\u0041 + more"
	assert.Equal(t, harmless, Values{"sky": "secret-of-the-sky"}.Hide(harmless))
	assert.Equal(t, "token "+Mask, Values{"sky": "Bearer abcdefgh1234"}.Hide("token ABCDEFGH1234"))
}
