package plot

import (
	"fmt"
	"image/color"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// A Bar is a line of a report.
type Bar struct {
	Name  string
	Value float64
}

// Bars draws a report as lying bars, the first on top, into a PNG or SVG file,
// as the file's name ends.
func Bars(file, title string, bars []Bar) error {
	p := paperPlot(title)
	names, values := make([]string, len(bars)), make(plotter.Values, len(bars))
	for i, b := range bars { // the lowest comes first
		at := len(bars) - 1 - i
		names[at], values[at] = b.Name, b.Value
	}
	if len(bars) > 0 {
		chart, err := plotter.NewBarChart(values, vg.Points(12))
		if err != nil {
			return err
		}
		chart.Horizontal, chart.Color, chart.LineStyle.Width = true, primary, 0
		p.Add(chart)
		p.NominalY(names...)
	}
	p.X.Min = 0
	p.X.Label.Text = "visits"
	p.X.Tick.Marker = counts{}
	return save(p, file, 800, vg.Length(90+18*len(bars)))
}

// A Step is a unit of time and what was in it.
type Step struct {
	At    time.Time
	Value float64
}

// Steps draws a timeline as a line of steps into a PNG or SVG file, as the
// file's name ends.
func Steps(file, title string, steps []Step) error {
	p := paperPlot(title)
	var points plotter.XYs
	zone := time.UTC
	for i, s := range steps {
		zone = s.At.Location()
		points = append(points, plotter.XY{X: float64(s.At.Unix()), Y: s.Value})
		if i == len(steps)-1 && i > 0 { // the last unit is as wide as the one before
			points = append(points, plotter.XY{X: float64(2*s.At.Unix() - steps[i-1].At.Unix()), Y: s.Value})
		}
	}
	if len(points) > 0 {
		line, err := plotter.NewLine(points)
		if err != nil {
			return err
		}
		line.StepStyle, line.Color, line.Width = plotter.PostStep, primary, vg.Points(1.5)
		line.FillColor = color.RGBA{0xcf, 0xe2, 0xe5, 0xff}
		p.Add(line)
	}
	p.Y.Min = 0
	p.Y.Tick.Marker = counts{}
	p.X.Tick.Marker = plot.TimeTicks{Format: "2 Jan 15:04", Time: func(t float64) time.Time { return time.Unix(int64(t), 0).In(zone) }}
	p.X.Label.Text = "time in " + zone.String()
	return save(p, file, 1000, 400)
}

func paperPlot(title string) *plot.Plot {
	p := plot.New()
	for _, style := range []*text.Style{&p.Title.TextStyle, &p.X.Label.TextStyle, &p.Y.Label.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label} {
		style.Font.Variant = "Sans"
	}
	p.BackgroundColor = paper
	p.Title.Text, p.Title.TextStyle.Color, p.Title.Padding = title, ink, vg.Points(10)
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.LineStyle.Color, axis.Tick.LineStyle.Color = hairline, hairline
		axis.Tick.Label.Color, axis.Label.TextStyle.Color = faint, faint
	}
	return p
}

// counts marks an axis of whole numbers.
type counts struct{}

func (counts) Ticks(low, high float64) []plot.Tick {
	var ticks []plot.Tick
	for _, t := range (plot.DefaultTicks{}).Ticks(low, high) {
		if t.Label == "" || t.Value != float64(int64(t.Value)) {
			continue
		}
		t.Label = fmt.Sprintf("%d", int64(t.Value))
		ticks = append(ticks, t)
	}
	return ticks
}

// save writes a plot of so many points.
func save(p *plot.Plot, file string, width, height vg.Length) error {
	var picture io.WriterTo
	switch ext := strings.ToLower(filepath.Ext(file)); ext {
	case ".png":
		c := vgimg.NewWith(vgimg.UseWH(width*0.75, height*0.75), vgimg.UseDPI(96), vgimg.UseBackgroundColor(paper))
		p.Draw(inset(draw.New(c)))
		picture = vgimg.PngCanvas{Canvas: c}
	case ".svg":
		c := vgsvg.New(width*0.75, height*0.75)
		p.Draw(inset(draw.New(c)))
		picture = c
	default:
		return fmt.Errorf("%s: plots are written as .png or .svg, not as %q", file, ext)
	}
	w, err := os.Create(file)
	if err != nil {
		return err
	}
	defer w.Close()
	if _, err := picture.WriteTo(w); err != nil {
		return err
	}
	return w.Close()
}

func inset(c draw.Canvas) draw.Canvas {
	return draw.Crop(c, vg.Points(12), -vg.Points(18), vg.Points(10), -vg.Points(10))
}
