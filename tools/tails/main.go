// Command tails reads what BenchmarkTails reports, and draws it: of each kind of request how long the middle,
// the slowest hundredth and the slowest thousandth wait, a panel for each load.
package main

import (
	"bufio"
	"fmt"
	"image/color"
	"io"
	"os"
	"strconv"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

var (
	ink     = color.RGBA{0x15, 0x26, 0x2c, 0xff}
	faint   = color.RGBA{0x55, 0x67, 0x6d, 0xff}
	line    = color.RGBA{0xd6, 0xdf, 0xdd, 0xff}
	primary = color.RGBA{0x1a, 0x5f, 0x75, 0xff}
	paper   = color.RGBA{0xfc, 0xfc, 0xf9, 0xff}
)

var (
	kinds = []string{"gate", "links", "visits", "cards", "bare"} // from below
	words = map[string]string{"gate": "gate asked", "links": "link followed", "visits": "visit accepted", "cards": "card", "bare": "bare handler"}
	loads = []struct{ name, title string }{{"tenth", "at a tenth of the load"}, {"half", "at a half"}, {"nine-tenths", "at nine tenths"}}
	parts = []string{"p50", "p99", "p99.9"}
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go test -bench Tails … | tails FILE.png")
		os.Exit(2)
	}
	took, err := read(os.Stdin)
	if err == nil {
		err = drawTo(os.Args[1], took)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "tails:", err)
		os.Exit(1)
	}
	fmt.Printf("%-16s %-12s %10s %10s %10s  milliseconds\n", "", "load", parts[0], parts[1], parts[2])
	for i := range kinds {
		kind := kinds[len(kinds)-1-i]
		for _, load := range loads {
			fmt.Printf("%-16s %-12s", words[kind], load.name)
			for _, part := range parts {
				fmt.Printf(" %10.2f", took[kind+"/"+load.name+"/"+part])
			}
			fmt.Println()
		}
	}
}

// read gives milliseconds by kind, load and part; the error names one that is missing.
func read(r io.Reader) (map[string]float64, error) {
	took := map[string]float64{}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		for i := 1; i < len(fields); i++ {
			if name, ok := strings.CutSuffix(fields[i], "-us"); ok {
				us, err := strconv.ParseFloat(fields[i-1], 64)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", fields[i], err)
				}
				took[name] = us / 1000
			}
		}
	}
	for _, kind := range kinds {
		for _, load := range loads {
			for _, part := range parts {
				if name := kind + "/" + load.name + "/" + part; took[name] == 0 {
					return nil, fmt.Errorf("%s was not measured", name)
				}
			}
		}
	}
	return took, lines.Err()
}

func drawTo(path string, took map[string]float64) error {
	most := 100.0
	for _, ms := range took {
		most = max(most, 1.3*ms)
	}
	row := make([]*plot.Plot, len(loads))
	for i, load := range loads {
		p := plot.New()
		p.BackgroundColor, p.Title.Text, p.Title.TextStyle.Color = paper, load.title, ink
		p.X.Scale, p.X.Tick.Marker, p.X.Min, p.X.Max = plot.LogScale{}, milliseconds{}, 0.3, most
		p.X.Label.Text, p.X.Label.TextStyle.Color, p.X.Color, p.X.Tick.Label.Color = "milliseconds", faint, line, faint
		p.Y.Min, p.Y.Max, p.Y.Color, p.Y.Tick.Label.Color, p.Y.Tick.Length = -0.6, float64(len(kinds))-0.4, paper, ink, 0
		p.Y.Tick.Marker = names{shown: i == 0}
		for x := 1.0; x <= most; x *= 10 {
			if err := add(p, plotter.XYs{{X: x, Y: p.Y.Min}, {X: x, Y: p.Y.Max}}, line, 0.7); err != nil {
				return err
			}
		}
		for y, kind := range kinds {
			points := make(plotter.XYs, len(parts))
			for j, part := range parts {
				points[j] = plotter.XY{X: took[kind+"/"+load.name+"/"+part], Y: float64(y)}
			}
			if err := add(p, points, primary, 2); err != nil {
				return err
			}
			dots, err := plotter.NewScatter(points)
			if err != nil {
				return err
			}
			dots.GlyphStyleFunc = func(n int) draw.GlyphStyle {
				return draw.GlyphStyle{Color: primary, Radius: vg.Points([]float64{5, 3.5, 2.5}[n]), Shape: draw.CircleGlyph{}}
			}
			p.Add(dots)
		}
		row[i] = p
	}
	canvas := vgimg.NewWith(vgimg.UseWH(vg.Points(1000), vg.Points(320)), vgimg.UseDPI(96), vgimg.UseBackgroundColor(paper))
	all := draw.New(canvas)
	tiles := draw.Tiles{Rows: 1, Cols: len(row), PadX: vg.Points(14), PadTop: vg.Points(12), PadBottom: vg.Points(12), PadLeft: vg.Points(14), PadRight: vg.Points(20)}
	at := plot.Align([][]*plot.Plot{row}, tiles, all)
	for i, p := range row {
		p.Draw(at[0][i])
	}
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	if _, err = (vgimg.PngCanvas{Canvas: canvas}).WriteTo(file); err != nil {
		_ = file.Close()
		return err
	}
	return file.Close()
}

func add(p *plot.Plot, points plotter.XYs, c color.Color, width float64) error {
	l, err := plotter.NewLine(points)
	if err != nil {
		return err
	}
	l.Color, l.Width = c, vg.Points(width)
	p.Add(l)
	return nil
}

// names stand at the left of the first panel.
type names struct{ shown bool }

func (n names) Ticks(_, _ float64) (ticks []plot.Tick) {
	for i, kind := range kinds {
		label := " "
		if n.shown {
			label = words[kind]
		}
		ticks = append(ticks, plot.Tick{Value: float64(i), Label: label})
	}
	return ticks
}

type milliseconds struct{}

func (milliseconds) Ticks(_, most float64) (ticks []plot.Tick) {
	for x := 1.0; x <= most; x *= 10 {
		ticks = append(ticks, plot.Tick{Value: x, Label: strconv.FormatFloat(x, 'f', -1, 64)})
	}
	return ticks
}
