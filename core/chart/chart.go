// Package chart draws lines into files, as PNG or SVG: charts below each other, each line labelled at its end. It knows
// no run and no curve, and imports core/plain only.
package chart

import (
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"kembrel/core/plain"
)

// Line is a line of a chart. Values that are not finite are gaps; Low and High, where there, are the edges of a band
// behind it.
type Line struct {
	Label     string // at its end
	X, Y      []float64
	Low, High []float64
	Dashed    bool
	Colour    color.RGBA
}

// Chart is a drawing of lines over one axis.
type Chart struct {
	Title, Axis string
	Lines       []Line
}

// Colours tell lines apart, also for those who do not see all colours; they are the console's.
var Colours = []color.RGBA{{0x2b, 0x6c, 0xb0, 0xff}, {0xc8, 0x64, 0x1b, 0xff}, {0x3c, 0x8d, 0x5a, 0xff},
	{0x8a, 0x4f, 0x9e, 0xff},
	{0xa3, 0x80, 0x1c, 0xff}, {0x2f, 0x8f, 0xa3, 0xff}, {0xb5, 0x51, 0x7a, 0xff}, {0x6d, 0x6f, 0x4a, 0xff}}

// The look of a drawing in a file: as the console's, on paper.
var (
	ink   = color.RGBA{0x22, 0x28, 0x2b, 0xff}
	ink2  = color.RGBA{0x5b, 0x64, 0x68, 0xff}
	rule  = color.RGBA{0xe1, 0xde, 0xd6, 0xff}
	paper = color.RGBA{0xfd, 0xfc, 0xfa, 0xff}
)

// Draw draws charts below each other, as "svg" or "png".
func Draw(w io.Writer, format string, all []Chart) error {
	const wide, high = 760, 260
	size := vg.Length(high * len(all))
	var canvas vg.CanvasSizer
	var out io.WriterTo
	if format == "svg" {
		c := vgsvg.New(wide, size)
		canvas, out = c, c
	} else {
		c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(wide, size), vgimg.UseDPI(120),
			vgimg.UseBackgroundColor(paper))}
		canvas, out = c, c
	}
	page := draw.New(canvas)
	page.FillPolygon(paper, []vg.Point{{X: 0, Y: 0}, {X: wide, Y: 0}, {X: wide, Y: size}, {X: 0, Y: size}})
	for i, c := range all {
		p, err := draft(c)
		if err != nil {
			return err
		}
		top := size - vg.Length(i*high)
		p.Draw(draw.Canvas{Canvas: page.Canvas, Rectangle: vg.Rectangle{Min: vg.Point{X: 14, Y: top - high + 8},
			Max: vg.Point{X: wide - 14, Y: top - 10}}})
	}
	_, err := out.WriteTo(w)
	return err
}

func draft(c Chart) (*plot.Plot, error) {
	p := plot.New()
	p.BackgroundColor = paper
	p.Title.Text = plain.XML(c.Title)
	p.Title.TextStyle.Color, p.Title.TextStyle.Font.Size = ink, 12
	p.Title.TextStyle.Font.Variant, p.Title.Padding = "Sans", 6
	p.X.Label.Text = plain.XML(c.Axis)
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Color, axis.Tick.Color, axis.Tick.Label.Color, axis.Label.TextStyle.Color = rule, rule, ink2, ink2
		axis.Tick.Label.Font.Variant, axis.Label.TextStyle.Font.Variant = "Mono", "Sans"
		axis.Tick.Label.Font.Size, axis.Label.TextStyle.Font.Size = 9, 10
		axis.Tick.Length = 0
	}
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color, grid.Horizontal.Width = 0, rule, 0.7
	p.Add(grid)
	for _, line := range c.Lines {
		style := draw.LineStyle{Color: line.Colour, Width: 1.5}
		if line.Dashed {
			style.Dashes = []vg.Length{5, 3}
		}
		x, y := line.X, line.Y
		if err := addBand(p, line, style.Color); err != nil {
			return nil, err
		}
		last := -1
		for from := 0; from < len(x); {
			var piece plotter.XYs
			for from < len(x) && (math.IsNaN(y[from]) || math.IsInf(y[from], 0)) {
				from++
			}
			for from < len(x) && !math.IsNaN(y[from]) && !math.IsInf(y[from], 0) {
				piece = append(piece, plotter.XY{X: x[from], Y: y[from]})
				last = from
				from++
			}
			if len(piece) == 0 {
				continue
			}
			l, err := plotter.NewLine(piece)
			if err != nil {
				return nil, err
			}
			l.LineStyle = style
			p.Add(l)
		}
		if last < 0 {
			continue
		}
		labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: x[last], Y: y[last]}},
			Labels: []string{" " + plain.XML(line.Label)}})
		if err != nil {
			return nil, err
		}
		labels.TextStyle[0].Color, labels.TextStyle[0].Font.Size,
			labels.TextStyle[0].Font.Variant = style.Color, 9, "Sans"
		labels.TextStyle[0].YAlign = draw.YCenter
		p.Add(labels)
	}
	if p.X.Max < p.X.Min { // no reading is a number: an empty chart
		p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 0, 1, 0, 1
	}
	if p.X.Max <= p.X.Min {
		p.X.Max = p.X.Min + 1
	}
	if p.Y.Max == p.Y.Min { // a constant: around it, not around zero
		half := max(math.Abs(p.Y.Max)/2, 1e-9)
		p.Y.Min, p.Y.Max = p.Y.Min-half, p.Y.Max+half
	}
	p.X.Max += (p.X.Max - p.X.Min) * 0.16 // room for the labels
	return p, nil
}

// addBand draws between what the readings lay where many fell together, as one pale area for each stretch of finite
// values.
func addBand(p *plot.Plot, c Line, of color.Color) error {
	if len(c.Low) == 0 {
		return nil
	}
	r, g, b, _ := of.RGBA()
	pale := color.NRGBA{uint8(r >> 8), uint8(g >> 8), uint8(b >> 8), 0x30}
	for from := 0; from < len(c.X); {
		for from < len(c.X) && math.IsNaN(c.Low[from]) {
			from++
		}
		to := from
		for to < len(c.X) && !math.IsNaN(c.Low[to]) {
			to++
		}
		if to-from > 1 {
			var edge plotter.XYs
			for i := from; i < to; i++ {
				edge = append(edge, plotter.XY{X: c.X[i], Y: c.High[i]})
			}
			for i := to - 1; i >= from; i-- {
				edge = append(edge, plotter.XY{X: c.X[i], Y: c.Low[i]})
			}
			area, err := plotter.NewPolygon(edge)
			if err != nil {
				return err
			}
			area.Color, area.LineStyle.Width = pale, 0
			p.Add(area)
		}
		from = to
	}
	return nil
}
