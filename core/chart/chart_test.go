package chart

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image/png"
	"io"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// elements reads an SVG to its end and counts what is in it.
func elements(t *testing.T, svg []byte) map[string]int {
	t.Helper()
	out := map[string]int{}
	d := xml.NewDecoder(bytes.NewReader(svg))
	d.Entity = xml.HTMLEntity
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		if e, ok := token.(xml.StartElement); ok {
			out[e.Name.Local]++
		}
	}
}

func TestDraw(t *testing.T) {
	nan := math.NaN()
	charts := []Chart{
		{Title: "loss", Axis: "epoch", Lines: []Line{
			{Label: "val <1>", X: []float64{1, 2, 3, 4}, Y: []float64{3, nan, 1, 2}, Low: []float64{2, nan, 0, 1},
				High: []float64{4, nan, 2, 3}, Colour: Colours[0]},
			{Label: "train", X: []float64{1, 2}, Y: []float64{2, 2}, Dashed: true, Colour: Colours[1]},
		}},
		{Title: "constant", Lines: []Line{{Label: "c", X: []float64{5}, Y: []float64{7}, Colour: Colours[2]}}},
		{Title: "nothing finite",
			Lines: []Line{{Label: "n", X: []float64{1, 2}, Y: []float64{nan, math.Inf(1)}, Colour: Colours[3]}}},
	}
	var svg, picture bytes.Buffer
	require.NoError(t, Draw(&svg, "svg", charts))
	found := elements(t, svg.Bytes())
	require.Greater(t, found["path"], 6)
	require.Contains(t, svg.String(), "stroke-dasharray", "training is dashed")
	for _, text := range []string{"loss", "constant", "val &lt;1&gt;", "train"} {
		require.Contains(t, svg.String(), text)
	}
	require.NoError(t, Draw(&picture, "png", charts))
	image, err := png.Decode(&picture)
	require.NoError(t, err)
	require.Greater(t, image.Bounds().Dy(), 3*260, "one below the other")
}

func TestStrips(t *testing.T) {
	var svg bytes.Buffer
	require.NoError(t, Strips(&svg, []Strip{
		{Label: "dropout <0.4> & a name that is far too long for its place", Count: "3 seeds", Value: "0.36",
			Points: []float64{0.35, 0.36, 0.37}, Mean: 0.36},
		{Label: "alone", Count: "1 run", Value: "0.4", Points: []float64{0.4}, Mean: 0.4},
		{Label: "none", Mean: math.NaN()},
	}))
	found := elements(t, svg.Bytes())
	require.Equal(t, 4, found["circle"], "a point for each figure")
	require.Contains(t, svg.String(), "&lt;0.4&gt; &amp;")
	require.Contains(t, svg.String(), "…")
	require.Less(t, strings.Index(svg.String(), "3 seeds"), strings.Index(svg.String(), "1 run"))
	svg.Reset()
	require.NoError(t, Strips(&svg, []Strip{{Label: "same", Points: []float64{2, 2}, Mean: 2}}))
	require.NotContains(t, svg.String(), "NaN")
	svg.Reset()
	require.NoError(t, Strips(&svg, nil))
	elements(t, svg.Bytes())
	require.NotContains(t, svg.String(), "NaN")
}

// Whatever is in a label, the drawing is XML.
func TestLabelsCannotBreakXML(t *testing.T) {
	odd := "a\x1b[31m\x00\x0b<b>&\ufffe\xff\u0085z"
	var svg bytes.Buffer
	require.NoError(t, Strips(&svg, []Strip{{Label: odd, Count: odd, Value: odd, Points: []float64{1, 2}, Mean: 1.5}}))
	elements(t, svg.Bytes())
	svg.Reset()
	require.NoError(t, Draw(&svg, "svg",
		[]Chart{{Title: odd, Axis: odd, Lines: []Line{{Label: odd, X: []float64{1, 2}, Y: []float64{1, 2}}}}}))
	elements(t, svg.Bytes())
	require.NotContains(t, svg.String(), "\x1b")
}

func TestRound(t *testing.T) {
	require.Equal(t, []float64{0.34, 0.36, 0.38, 0.4}, round(0.335, 0.41, 5))
	require.Equal(t, []float64{0, 50, 100}, round(-1, 101, 3))
}
