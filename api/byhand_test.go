package api_test

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/jsonin"
	"eastporch/internal/core/visit"
)

// Whatever is read by hand is read as encoding/json reads it, and plain visits are read by hand.
func TestVisitsAreReadByHand(t *testing.T) {
	r := rand.New(rand.NewPCG(35, 1))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	space := func() string { return pick("", "", "", "", " ", "\n\t", "\r") }
	text := func() string {
		return pick(`"heronlake.example"`, `"/programme"`, `""`, `"é 湖"`, `"198.18.3.40"`, `"a\"b"`, `"\u00e9"`, `"`+"\xff"+`"`, `"a`+"\n"+`"`, `"a`, `null`, `"\`, `"[]{},"`)
	}
	value := func() string {
		return pick(text(), text(), text(), text(), "true", "false", "0", "-1e9", `[]`, `["a","b"]`, `["a",]`, `[null]`, `{"a":[1,{"b":"}"}]}`, `{"a":`, `{"a"}`, `{}`, "nul", "truex", "]")
	}
	keys := []string{
		"site", "path", "referrer", "user_agent", "link", "destination", "nonce", "id", "time", "address", "peer", "test", "dry_run", "attributes", "headers", "Path", "paths", `pa\u0074h`, "",
	}
	by := map[bool]int{}
	for range 200_000 {
		var b strings.Builder
		b.WriteString(space() + pick("{", "{", "{", "{", "{", "{", "", "[") + space())
		for n, most := 0, r.IntN(6); n < most; n++ {
			if n > 0 || r.IntN(50) == 0 {
				b.WriteString(space() + pick(",", ",", ",", ",", ",", ",", ",", "") + space())
			}
			key, v := keys[r.IntN(len(keys))], text()
			switch {
			case r.IntN(4) == 0:
				v = value()
			case key == "test" || key == "dry_run":
				v = pick("true", "false", "null")
			case key == "attributes":
				v = pick(`{"a":[1,{"b":"}\""}]}`, `{}`, `[1]`)
			case key == "headers":
				v = pick(`{}`, `{"X-Forwarded-For":["192.0.2.1","198.18.3.40"]}`, `{"a": "b" , "a":"c"}`, `{"a":null}`, `{"a":["b",1]}`, `{"a":[]}`, `{"a":"`+"\xff"+`"["b"]}`)
			}
			b.WriteString(`"` + key + `"` + space() + pick(":", ":", ":", ":", ":", ":", ":", "") + space() + v)
		}
		b.WriteString(space() + pick("}", "}", "}", "}", "}", "}", "}", "", "}}") + space())
		body := b.String()

		before := "before"
		mine, want := api.NewVisit{Referrer: &before}, api.NewVisit{}
		reader := jsonin.Read([]byte(body))
		read := mine.ReadPlain(&reader)
		if !read {
			require.Equal(t, api.NewVisit{Referrer: &before}, mine, "left as it was: %s", body)
		}
		read = read && reader.AtEnd()
		by[read]++
		decoder := json.NewDecoder(strings.NewReader(body))
		decoder.DisallowUnknownFields()
		err := decoder.Decode(&want)
		if read {
			require.NoError(t, err, body)
			require.True(t, utf8.ValidString(body), body)
			require.Equal(t, want, mine, body)
		}
	}
	require.Greater(t, by[true], 20_000)
	require.Greater(t, by[false], 20_000)
}

// What becomes of visits is written byte for byte as encoding/json writes it.
func TestWhatBecomesOfVisitsIsWrittenByHand(t *testing.T) {
	r := rand.New(rand.NewPCG(35, 3))
	for range 2000 {
		id, at, state := uuid.New(), time.UnixMilli(r.Int64N(1<<42)).UTC(), []string{"accepted", "dry run", "<&>\u2028"}[r.IntN(3)]
		marks := [][]string{nil, {}, {"bot"}, {"test", "private"}}[r.IntN(4)]
		one := api.Taken{ID: id, Time: at, State: state, Marks: marks}
		if r.IntN(4) == 0 {
			one.Visit, one.Card = &visit.Visit{ID: id, Path: "/<b>"}, json.RawMessage(`{"clock":null}`)
		}
		want, err := json.Marshal(one)
		require.NoError(t, err)
		require.Equal(t, string(want), string(one.AppendJSON(nil)))

		many := api.Many{Visits: []api.TakenOne{}, Accepted: r.IntN(1000), Refused: r.IntN(1000)}
		for i := range r.IntN(4) {
			some := api.TakenOne{Index: i}
			if r.IntN(3) == 0 {
				some.Problem = &api.Problem{Title: "Invalid \"field\"", Status: 422}
			} else {
				some = api.TakenOne{Index: i, ID: &id, Time: &at, State: &state, Marks: marks, Visit: one.Visit}
			}
			many.Visits = append(many.Visits, some)
		}
		want, err = json.Marshal(many)
		require.NoError(t, err)
		require.Equal(t, string(want), string(many.AppendJSON([]byte{})))
	}
}
