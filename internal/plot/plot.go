// Package plot draws the figures of reports as PNG or SVG files.
package plot

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"eastporch/internal/core/atlas/compare"
)

var (
	ink      = color.RGBA{0x15, 0x26, 0x2c, 0xff}
	faint    = color.RGBA{0x55, 0x67, 0x6d, 0xff}
	hairline = color.RGBA{0xd6, 0xdf, 0xdd, 0xff}
	primary  = color.RGBA{0x1a, 0x5f, 0x75, 0xff}
	paper    = color.RGBA{0xfc, 0xfc, 0xf9, 0xff}
)

// marksKm are the distances that a report names.
var marksKm = []float64{10, 50, 250}

// Accuracy draws which share of the test points lies within which distance of
// where editions put them, the first solid and the others dashed, as a PNG or SVG
// file, as its name ends.
func Accuracy(file string, audits []compare.Accuracy) error {
	p := paperPlot("Test points within a distance of where the edition puts them")
	p.X.Label.Text, p.Y.Label.Text = "kilometres", "share of test points"
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, kilometres{}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 1, 2000, 0, 1
	p.Y.Tick.Marker = shares{}
	for _, y := range []float64{0.25, 0.5, 0.75, 1} {
		if err := line(p, plotter.XYs{{X: 1, Y: y}, {X: 2000, Y: y}}, hairline, 0.7, nil); err != nil {
			return err
		}
	}
	for _, x := range marksKm {
		if err := line(p, plotter.XYs{{X: x, Y: 0}, {X: x, Y: 1}}, hairline, 1, []vg.Length{vg.Points(2), vg.Points(3)}); err != nil {
			return err
		}
	}
	for i, a := range audits {
		if err := curve(p, a, i == 0); err != nil {
			return err
		}
	}
	p.Legend.Top, p.Legend.Left, p.Legend.TextStyle.Color = true, true, ink
	p.Legend.XOffs, p.Legend.YOffs, p.Legend.Padding = vg.Points(12), vg.Points(-8), vg.Points(4)
	return save(p, file, 1000, 640)
}

func line(p *plot.Plot, points plotter.XYs, c color.Color, width float64, dashes []vg.Length) error {
	l, err := plotter.NewLine(points)
	if err != nil {
		return err
	}
	l.Color, l.Width, l.Dashes = c, vg.Points(width), dashes
	p.Add(l)
	return nil
}

func curve(p *plot.Plot, a compare.Accuracy, first bool) error {
	points := make(plotter.XYs, len(a.Curve))
	var marks plotter.XYs
	for i, c := range a.Curve {
		points[i] = plotter.XY{X: c.Km, Y: c.Share}
		for _, km := range marksKm {
			if c.Km == km {
				marks = append(marks, points[i])
			}
		}
	}
	l, err := plotter.NewLine(points)
	if err != nil {
		return err
	}
	l.Color, l.Width = faint, vg.Points(1.4)
	l.Dashes = []vg.Length{vg.Points(5), vg.Points(4)}
	name := "edition " + a.Edition
	if first {
		l.Color, l.Width, l.Dashes = primary, vg.Points(2.2), nil
		if a.All.Within50Km != nil {
			name += fmt.Sprintf(", %.0f %% within 50 km", 100**a.All.Within50Km)
		}
		dots, err := plotter.NewScatter(marks)
		if err != nil {
			return err
		}
		dots.GlyphStyle = draw.GlyphStyle{Color: primary, Radius: vg.Points(3.5), Shape: draw.CircleGlyph{}}
		p.Add(dots)
	}
	p.Add(l)
	p.Legend.Add(name, l)
	return nil
}

type kilometres struct{}

func (kilometres) Ticks(_, _ float64) []plot.Tick {
	var ticks []plot.Tick
	for _, v := range []float64{1, 10, 50, 250, 2000} {
		ticks = append(ticks, plot.Tick{Value: v, Label: fmt.Sprintf("%g", v)})
	}
	return ticks
}

type shares struct{}

func (shares) Ticks(_, _ float64) []plot.Tick {
	var ticks []plot.Tick
	for _, v := range []float64{0, 0.25, 0.5, 0.75, 1} {
		ticks = append(ticks, plot.Tick{Value: v, Label: fmt.Sprintf("%.0f %%", 100*v)})
	}
	return ticks
}
