package companion

import (
	"encoding/base64"
	"encoding/json"
	"html"
	"math/rand/v2"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/secret"
)

// TestPointersLeadToWhatIsThere makes documents up and holds every line's pointer against the standard
// library's reading of the same document.
func TestPointersLeadToWhatIsThere(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	keys := []string{"a", "b/c", "d~e", "", " ", "0", "ü", `q"t`, "~1", "m\u0001n"}
	var anything func(depth int) any
	anything = func(depth int) any {
		switch kind := random.IntN(8); {
		case kind < 2 && depth < 4:
			m := map[string]any{}
			for range random.IntN(4) {
				m[keys[random.IntN(len(keys))]] = anything(depth + 1)
			}
			return m
		case kind == 2 && depth < 4:
			list := []any{}
			for range random.IntN(6) {
				list = append(list, anything(depth+1))
			}
			return list
		case kind == 3:
			return nil
		case kind == 4:
			return random.IntN(2) == 0
		case kind == 5:
			return keys[random.IntN(len(keys))]
		}
		return float64(random.IntN(2000)-1000) / 8
	}
	seen := 0
	for range 3000 {
		whole := anything(0)
		body, err := json.Marshal(whole)
		require.NoError(t, err)
		lines, cut := Lines(body, nil)
		require.Zero(t, cut)
		for _, line := range lines {
			if line.Pointer == nil {
				continue
			}
			seen++
			at := whole
			for _, part := range strings.Split(*line.Pointer, "/")[1:] {
				part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
				switch in := at.(type) {
				case map[string]any:
					at = in[part]
				case []any:
					i, err := strconv.Atoi(part)
					require.NoError(t, err)
					at = in[i]
				}
			}
			want, err := json.Marshal(at)
			require.NoError(t, err)
			require.JSONEq(t, string(want), line.Text, "%s in %s", *line.Pointer, body)
			to, err := readPointer(*line.Pointer)
			require.NoError(t, err)
			tree, err := readTree(body)
			require.NoError(t, err)
			require.NotNil(t, tree.find(to))
		}
	}
	assert.Greater(t, seen, 3000)
}

// TestPointersOfTheStandard has the examples of RFC 6901, section 5.
func TestPointersOfTheStandard(t *testing.T) {
	tree, err := readTree([]byte(`{"foo":["bar","baz"],"":0,"a/b":1,"c%d":2,"e^f":3,"g|h":4,"i\\j":5,"k\"l":6," ":7,"m~n":8,"twice":1,"twice":2}`))
	require.NoError(t, err)
	for text, want := range map[string]string{"/foo/0": "bar", "/": "0", "/a~1b": "1", "/c%d": "2", "/e^f": "3", "/g|h": "4", "/i\\j": "5", "/k\"l": "6", "/ ": "7", "/m~0n": "8", "/twice": "2"} {
		to, err := readPointer(text)
		require.NoError(t, err)
		assert.Equal(t, want, tree.find(to).text, text)
	}
	for _, text := range []string{"/foo/00", "/foo/-", "/foo/2", "/foo/-1", "/nothing", "/foo/0/x", "/foo/+1"} {
		to, err := readPointer(text)
		require.NoError(t, err)
		assert.Nil(t, tree.find(to), text)
	}
	for _, text := range []string{"foo", "/a~", "/a~2"} {
		_, err := readPointer(text)
		assert.Error(t, err, text)
	}
}

func TestAnswersThatAreNone(t *testing.T) {
	c := checked(t, weather())
	for body, want := range map[string]string{
		"":                       "it is empty",
		" \n":                    "it is empty",
		"<html>":                 "HTML or XML",
		`{"now":`:                "broken off",
		`{"now":{}} {}`:          "goes on after the JSON",
		"busy":                   "not JSON",
		"\xff":                   "not UTF-8",
		`{"error":"over limit"}`: "nothing that you picked is in it",
		"[]":                     "nothing that you picked",
		strings.Repeat("[", 100): "nested more than",
		strings.Repeat("[", 66) + strings.Repeat("]", 66): "nested more than",
	} {
		_, err := c.Read([]byte(body), nil)
		assert.ErrorContains(t, err, want, "%.40q", body)
		lines, _ := Lines([]byte(body), nil)
		assert.NotNil(t, lines)
	}
}

// Integers of 64 bits come through whole, which a float64 does not hold.
func TestLongNumbersComeThroughWhole(t *testing.T) {
	c := checked(t, weather())
	random := rand.New(rand.NewPCG(33, 64))
	for range 2_000 {
		n := random.Uint64() >> random.IntN(64)
		text := strconv.FormatUint(n, 10)
		if random.IntN(2) == 0 && n > 0 {
			text = "-" + text
		}
		r, err := c.Read([]byte(`{"now":{"wind":`+text+`,"rain":1,"sky":"a"},"open":true}`), nil)
		require.NoError(t, err)
		out := c.Show(r).In("en").AppendJSON(nil)
		var back struct {
			Values map[string]json.RawMessage `json:"values"`
		}
		require.NoError(t, json.Unmarshal(out, &back))
		require.Equal(t, text, string(back.Values["wind"]))
	}
}

func TestValuesThatAreMissing(t *testing.T) {
	c := checked(t, weather())
	r, err := c.Read([]byte(`{"now":{"wind":"4.1","rain":"n/a","sky":7},"open":"yes"}`), nil)
	require.NoError(t, err)
	assert.Equal(t, Value{Number: 4.1, Text: "4.1"}, r.Values[0], "a number that is written as a text is one")
	assert.Equal(t, `the text "n/a", not a number`, r.Values[1].Missing)
	assert.Equal(t, "a number, not a text", r.Values[2].Missing)
	assert.Equal(t, `the text "yes", neither true nor false`, r.Values[3].Missing)
	assert.Empty(t, r.Active)
	assert.Equal(t, "rain is missing, which decides whether it is storm", r.Reason)
	for body, want := range map[string]string{
		`{"now":{"wind":null},"open":true}`:   "null in the answer",
		`{"now":{"wind":[1]},"open":true}`:    "not a single value, but an object or a list",
		`{"now":{"wind":1e400},"open":true}`:  "a number out of bounds",
		`{"now":7,"open":true}`:               "not in the answer, at /now/wind",
		`{"now":{"wind":"0x10"},"open":true}`: `the text "0x10", not a number`,
		`{"now":{"wind":"NaN"},"open":true}`:  `the text "NaN", not a number`,
		`{"now":{"wind":" 3"},"open":true}`:   `the text " 3", not a number`,
		`{"now":{"wind":true},"open":true}`:   "true, not a number",
	} {
		r, err := c.Read([]byte(body), nil)
		require.NoError(t, err)
		assert.Equal(t, want, r.Values[0].Missing, body)
	}
	long, err := c.Read([]byte(`{"now":{"sky":"`+strings.Repeat("ü", 400)+`\u0007"}}`), nil)
	require.NoError(t, err)
	assert.Len(t, []rune(long.Values[2].Text), 201, "a text is cut")
}

// TestSecretsAreHiddenInEveryForm: whatever a service does with a secret that it was sent, nothing that is
// shown has it.
func TestSecretsAreHiddenInEveryForm(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	c := checked(t, weather())
	for range 3000 {
		word := make([]byte, 8+random.IntN(30))
		for i := range word {
			word[i] = byte('!' + random.IntN('~'-'!'+1))
		}
		secrets := secret.Values{"file:weather.key": string(word)}
		echo := []string{
			string(word), strings.ToUpper(string(word)), url.QueryEscape(string(word)), url.PathEscape(string(word[:4])) + string(word[4:]),
			html.EscapeString(string(word)), base64.StdEncoding.EncodeToString(word),
		}[random.IntN(6)]
		inside, err := json.Marshal(map[string]any{"now": map[string]any{"wind": 3, "sky": "you sent " + echo + "!", echo: 1}, "open": true})
		require.NoError(t, err)
		for _, body := range [][]byte{inside, []byte("<p>" + echo + "</p>"), []byte(strings.ReplaceAll(string(inside), "3", `"`+strings.ReplaceAll(strings.ReplaceAll(echo, `\`, `\\`), `"`, `\"`)+`"`))} {
			lines, _ := Lines(body, secrets)
			shown, err := json.Marshal(lines)
			require.NoError(t, err)
			var back []Line
			require.NoError(t, json.Unmarshal(shown, &back))
			for _, l := range back {
				require.NotContains(t, strings.ToLower(l.Before+l.Text), strings.ToLower(string(word)), "%s", body)
			}
			if r, err := c.Read(body, secrets); err == nil {
				for _, v := range r.Values {
					require.NotContains(t, v.Text+v.Missing, string(word))
				}
			} else {
				require.NotContains(t, err.Error(), string(word))
			}
		}
	}
	r, err := c.Read([]byte(`{"now":{"wind":1234567890,"rain":1}}`), secret.Values{"k": "1234567890"})
	require.NoError(t, err)
	assert.Equal(t, `the text "••••", not a number`, r.Values[0].Missing)
}

func TestAnswersAreWrittenAsTheStandardLibraryWritesThem(t *testing.T) {
	c := checked(t, weather())
	for _, body := range []string{`{"now":{"wind":4.10,"rain":0.0,"sky":"a<b>&\u2028 ü"},"open":true}`, `{"now":{"wind":1e21}}`, `{"open":false}`} {
		r, err := c.Read([]byte(body), nil)
		require.NoError(t, err)
		for _, tag := range []string{"en", "pt-PT", "ar-EG", "hi"} {
			answers := Answers{{Name: "b"}, {Name: "weather"}}
			c.Without("why not").Fill(&answers[0].Answer, Never)
			c.Show(r).In(tag).Fill(&answers[1].Answer, Moment{Age: 7, Refresh: 30, Done: make(chan struct{})})
			want, err := json.Marshal(map[string]Answer{"b": answers[0].Answer, "weather": answers[1].Answer})
			require.NoError(t, err)
			assert.Equal(t, string(want), string(answers.AppendJSON(nil)))
			var back Answers
			require.NoError(t, json.Unmarshal(want, &back))
			assert.Equal(t, string(want), string(back.AppendJSON(nil)), "read back it is the same")
			assert.Equal(t, "why not", back.Get("b").Missing["wind"])
		}
	}
	assert.Equal(t, "{}", string(Answers(nil).AppendJSON(nil)))
}

func TestValuesByTheHabitsOfALanguage(t *testing.T) {
	for tag, want := range map[string]string{"en": "−1,234.5\u00a0m/s", "pt-PT": "−1234,5\u00a0m/s", "de": "−1.234,5\u00a0m/s", "nb": "−1\u00a0234,5\u00a0m/s"} {
		v := Value{Number: -1234.5, Text: "-1234.5"}
		got := human(&v, &Pick{Type: number, Unit: "m/s"}, tag)
		assert.Equal(t, strings.NewReplacer("-", "−").Replace(want), strings.NewReplacer("-", "−", "\u202f", "\u00a0").Replace(got), tag)
	}
	v := Value{Number: 20, Text: "20"}
	assert.Equal(t, "20%", human(&v, &Pick{Type: number, Unit: "%"}, "en"))
	v = Value{Number: 0.123456789, Text: "0.123456789"}
	assert.Equal(t, "0.1235", human(&v, &Pick{Type: number}, "en"))
	v = Value{Number: 1e300, Text: "1e300"}
	assert.NotEmpty(t, human(&v, &Pick{Type: number}, "en"))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"now":{"wind":4.1,"rain":0,"sky":"dry"},"open":true,"list":[1,2,[]]}`))
	f.Add([]byte("\ufeff{}"))
	s, _ := Check(weather())
	c := Compile("weather", s)
	f.Fuzz(func(t *testing.T, body []byte) {
		secrets := secret.Values{"k": "secret-of-the-fuzzer"}
		lines, _ := Lines(body, secrets)
		if len(lines) > maxLines {
			t.Fatal("too many lines")
		}
		if r, err := c.Read(body, secrets); err == nil {
			var a Answer
			c.Show(r).In("pt").Fill(&a, Moment{Age: 1, Refresh: 1})
			if !json.Valid(a.AppendJSON(nil)) {
				t.Fatal("not JSON")
			}
		}
	})
}
