package plot_test

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/plot"
)

// figures are all that the package draws, with much and with nothing in them.
func figures() map[string]func(file string) error {
	start := time.Date(2026, 11, 14, 0, 0, 0, 0, time.UTC)
	within := 0.8
	curve := compare.Accuracy{Edition: "2026-11-05", Curve: []compare.CurvePoint{{Km: 1, Share: 0.1}, {Km: 10, Share: 0.5}, {Km: 50, Share: 0.8}, {Km: 2000, Share: 1}}}
	curve.All.Within50Km = &within
	return map[string]func(string) error{
		"bars": func(f string) error {
			return plot.Bars(f, "Visits by country", []plot.Bar{{Name: "Portugal", Value: 12}, {Name: "Åland & “others” <b>", Value: 1}})
		},
		"no bars": func(f string) error { return plot.Bars(f, "Visits by country", nil) },
		"steps": func(f string) error {
			return plot.Steps(f, "Visits by hour", []plot.Step{{At: start, Value: 4}, {At: start.Add(time.Hour), Value: 0}})
		},
		"one step":    func(f string) error { return plot.Steps(f, "Visits by hour", []plot.Step{{At: start, Value: 4}}) },
		"no steps":    func(f string) error { return plot.Steps(f, "Visits by hour", nil) },
		"accuracy":    func(f string) error { return plot.Accuracy(f, []compare.Accuracy{curve, curve}) },
		"no accuracy": func(f string) error { return plot.Accuracy(f, []compare.Accuracy{{Edition: "empty"}}) },
	}
}

func TestFiguresAreWhatTheirNamesSay(t *testing.T) {
	for name, draw := range figures() {
		file := filepath.Join(t.TempDir(), "figure.png")
		require.NoError(t, draw(file), name)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		picture, err := png.Decode(bytes.NewReader(text))
		require.NoError(t, err, name)
		assert.GreaterOrEqual(t, picture.Bounds().Dx(), 800, name)

		file = filepath.Join(t.TempDir(), "figure.SVG")
		require.NoError(t, draw(file), name)
		text, err = os.ReadFile(file)
		require.NoError(t, err)
		decoder := xml.NewDecoder(bytes.NewReader(text))
		for err == nil {
			_, err = decoder.Token()
		}
		require.True(t, errors.Is(err, io.EOF), "%s: %v", name, err)
	}
}

func TestOtherFilesAreRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "figure.pdf")
	require.ErrorContains(t, plot.Bars(file, "x", nil), "plots are written as .png or .svg")
	require.NoFileExists(t, file)
	require.Error(t, plot.Bars(filepath.Join(t.TempDir(), "no", "figure.png"), "x", nil))
}
