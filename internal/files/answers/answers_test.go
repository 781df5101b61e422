package answers

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

type where struct {
	City      *string           `json:"city"`
	Latitude  *float64          `json:"latitude"`
	Longitude *float64          `json:"longitude"`
	Missing   map[string]string `json:"missing"`
}

type thing struct {
	Location where    `json:"location"`
	Operator string   `json:"operator"`
	Labels   []string `json:"labels"`
	Delta    int      `json:"delta"`
}

func things() map[string]any {
	city, lat, lon := "Lisbon <&> \"x\"", 38.72, -9.14
	return map[string]any{"edition": "e", "things": []thing{
		{where{&city, &lat, &lon, map[string]string{}}, "=cmd()", []string{"office", "vpn"}, -4},
		{where{nil, nil, nil, map[string]string{"city": "the source gives none"}}, "Reed Cable", []string{}, 5},
	}}
}

func text(t *testing.T, format string, paths ...string) string {
	t.Helper()
	b, err := Render(format, things(), "things", paths)
	require.NoError(t, err)
	return string(b)
}

func TestFormats(t *testing.T) {
	csv := text(t, "csv")
	assert.Contains(t, csv, "'=cmd()", "no formula")
	assert.Contains(t, csv, "\n-4,", "a number is not a formula")
	assert.Contains(t, csv, "office; vpn")
	assert.Contains(t, csv, "location.city")

	var geo struct {
		Type     string
		Features []struct {
			Geometry *struct{ Coordinates []float64 }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text(t, "geojson", "operator")), &geo))
	assert.Equal(t, "FeatureCollection", geo.Type)
	assert.Equal(t, []float64{-9.14, 38.72}, geo.Features[0].Geometry.Coordinates, "longitude first, although not picked")
	assert.Nil(t, geo.Features[1].Geometry)

	var back map[string]any
	require.NoError(t, yaml.Unmarshal([]byte(text(t, "yaml")), &back))
	assert.Len(t, back["things"], 2)

	decoder := xml.NewDecoder(strings.NewReader(text(t, "xml")))
	for {
		_, err := decoder.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
	}
	assert.Len(t, strings.Split(strings.TrimSpace(text(t, "ndjson")), "\n"), 2)
	assert.Equal(t, "=cmd()\nReed Cable\n", text(t, "text", "operator"), "one fact is bare")
}

// The columns of CSV stand in the order in which they were asked for.
func TestColumnsKeepTheirOrder(t *testing.T) {
	things := map[string]any{"list": []map[string]any{{"a": 1, "b": map[string]any{"c": 2, "d": nil}, "e": "x"}, {"a": 3, "b": nil, "e": "y"}}}
	for fields, head := range map[string]string{"e,a": "e,a", "a,e": "a,e", "b.d,e,b.c": "b.d,e,b.c", "e,b,a": "e,b.c,b.d,a", "b.c,a,e": "b.c,a,e"} {
		text, err := Render("csv", things, "list", Paths(fields))
		require.NoError(t, err)
		first, _, _ := strings.Cut(string(text), "\n")
		assert.Equal(t, strings.Replace(head, "b.c,b.d,a", "b.c,b.d,b,a", 1), first, "the second thing has none of the parts of b")
	}
}

func TestFields(t *testing.T) {
	assert.JSONEq(t, `{"edition":"e","things":[{"location":{"city":"Lisbon <&> \"x\""},"delta":-4},{"location":{"city":null},"delta":5}]}`,
		text(t, "json", "location.city", "delta"))
	_, err := Render("json", things(), "things", []string{"location.town"})
	require.ErrorIs(t, err, ErrPath)
	one, err := Render("json", things(), "", []string{"things.operator"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"things":[{"operator":"=cmd()"},{"operator":"Reed Cable"}]}`, string(one))
	assert.Equal(t, []string{"a", "b.c"}, Paths(" a, b.c,,"))
}
