package visits

import (
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/synthetic"
)

// visits are some with everything that is hard to write.
func visits(t *testing.T) []visit.Visit {
	t.Helper()
	start := time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)
	source := synthetic.NewVisits(1, "heronlake.example", 30, start, start.AddDate(0, 0, 2))
	var list []visit.Visit
	for i := range 300 {
		a := source.Next()
		v, err := a.Row.Visit(a.Facts)
		require.NoError(t, err)
		v.VisitorHash = 0 // which stays here
		switch i % 5 {
		case 0:
			agent, referrer := "=HYPERLINK(\"https://evil.example\")", "<script>alert(1)</script>"
			v.UserAgent, v.Referrer = &agent, &referrer
		case 1:
			v.Attributes = json.RawMessage(`{"crew":"a \"b\", c;\nd","seats":[8,1.5],"n":-3}`)
		case 2:
			link := "-newsletter"
			v.Link, v.Path = &link, "/a,\"b\"/é"
		}
		list = append(list, v)
	}
	return list
}

func write(t *testing.T, format string, raw bool, list []visit.Visit) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(&out, format, raw)
	require.NoError(t, err)
	for _, v := range list {
		require.NoError(t, w.Write(v))
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestEveryFormatReadsBackExactly(t *testing.T) {
	want := visits(t)
	for format := range Types {
		t.Run(format, func(t *testing.T) {
			data := write(t, format, true, want)
			var got []visit.Visit
			require.NoError(t, Read(bytes.NewReader(data), format, func(_ int, v visit.Visit, err error) error {
				require.NoError(t, err)
				got = append(got, v)
				return nil
			}))
			require.Equal(t, len(want), len(got))
			for i := range want {
				require.True(t, assert.ObjectsAreEqual(want[i], got[i]), "visit %d: %+v", i, got[i])
			}
			empty := write(t, format, true, nil)
			require.NoError(t, Read(bytes.NewReader(empty), format, func(int, visit.Visit, error) error { return io.ErrUnexpectedEOF }))
		})
	}
}

func TestFormulasAreHarmlessInCSV(t *testing.T) {
	list := visits(t)[:3]
	data := string(write(t, "csv", false, list))
	assert.Contains(t, data, `'=HYPERLINK`)
	assert.Contains(t, data, `'-newsletter`)
	assert.NotContains(t, data, `,=HYPERLINK`)
	assert.NotContains(t, data, `,"=HYPERLINK`)
	assert.NotContains(t, data, `'-9`, "numbers stay numbers")
}

func TestGeoJSONHasLongitudeFirst(t *testing.T) {
	list := visits(t)[:2]
	var collection struct {
		Type     string `json:"type"`
		Features []struct {
			Geometry struct {
				Coordinates []float64 `json:"coordinates"`
			} `json:"geometry"`
		} `json:"features"`
	}
	require.NoError(t, json.Unmarshal(write(t, "geojson", false, list), &collection))
	require.Len(t, collection.Features, 2)
	w := list[0].Card.Location
	assert.Equal(t, []float64{*w.Longitude, *w.Latitude}, collection.Features[0].Geometry.Coordinates)
}

func TestABadLineIsSaidAndTheRestIsRead(t *testing.T) {
	list := visits(t)[:3]
	for format, spoil := range map[string]func(string) string{
		"ndjson": func(s string) string {
			lines := strings.Split(s, "\n")
			lines[1] = `{"id":`
			return strings.Join(lines, "\n")
		},
		"geojson": func(s string) string { return strings.Replace(s, `"id":"`+list[1].ID.String(), `"id":7,"x":"`, 2) },
		"csv":     func(s string) string { return strings.Replace(s, list[1].ID.String(), "nonsense", 1) },
	} {
		t.Run(format, func(t *testing.T) {
			data := spoil(string(write(t, format, true, list)))
			good, bad := 0, 0
			require.NoError(t, Read(strings.NewReader(data), format, func(line int, _ visit.Visit, err error) error {
				if err != nil {
					bad++
					assert.Positive(t, line)
					return nil
				}
				good++
				return nil
			}))
			assert.Equal(t, []int{2, 1}, []int{good, bad})
		})
	}
	for cut := 0; cut < 4000; cut += 131 {
		data := write(t, "parquet", true, list)
		_ = Read(bytes.NewReader(data[:min(cut, len(data))]), "parquet", func(int, visit.Visit, error) error { return nil }) // no panic
	}
	require.Error(t, Read(strings.NewReader("a,b\n1,2\n"), "csv", nil))
	require.Error(t, Read(strings.NewReader(""), "xlsx", nil))
}

// endless gives the same text again and again, and counts what was read of it.
type endless struct {
	text string
	read int
}

func (e *endless) Read(p []byte) (int, error) {
	n := copy(p, e.text)
	e.read += n
	return n, nil
}

// A field without an end is given up after a megabyte, in every format that is read as it
// comes: nothing is kept of what follows.
func TestEndlessFieldsAreGivenUp(t *testing.T) {
	head := strings.Join(columns, ",") + "\n"
	for name, c := range map[string]struct{ format, begin string }{
		"CSV, an open quote": {"csv", head + `"`}, "CSV, one line": {"csv", head}, "CSV, the names": {"csv", ""},
		"NDJSON": {"ndjson", "{"}, "GeoJSON": {"geojson", `{"type":"Feature",`},
	} {
		forever := &endless{text: strings.Repeat("x", 4096)}
		err := Read(io.MultiReader(strings.NewReader(c.begin), forever), c.format, func(int, visit.Visit, error) error { return nil })
		require.ErrorIs(t, err, ErrTooLong, name)
		assert.Less(t, forever.read, 2*maxLine, name)
	}
}
