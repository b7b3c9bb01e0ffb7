package chart

import (
	"fmt"
	"html"
	"io"
	"math"
	"strconv"

	"kembrel/core/plain"
)

// Strip is a row of points, with their mean, of a drawing that ranks groups.
type Strip struct {
	Label, Count, Value string // before the row, and behind it
	Points              []float64
	Mean                float64
}

// Strips draws rows of points over one axis as SVG, the first on top. Rows without a finite point stay empty.
func Strips(w io.Writer, rows []Strip) error {
	const wide, left, right, high = 760.0, 260.0, 150.0, 26.0
	low, top := math.Inf(1), math.Inf(-1)
	for _, r := range rows {
		for _, v := range r.Points {
			low, top = math.Min(low, v), math.Max(top, v)
		}
	}
	if !(top > low) { // one place: around it
		half := math.Max(math.Abs(low)/10, 1e-9)
		low, top = low-half, low+half
	}
	margin := (top - low) * 0.06
	low, top = low-margin, top+margin
	x := func(v float64) float64 { return left + (v-low)/(top-low)*(wide-left-right) }
	end := high * float64(len(rows))
	out := fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %g %g" font-family="sans-serif" font-size="12" fill="#22282b">`, wide, end+24)
	for _, v := range round(low, top, 5) {
		out += fmt.Sprintf(`<path d="M%.1f 0V%.1f" stroke="#e1ded6"/><text x="%.1f" y="%.1f" fill="#596165" font-size="11" text-anchor="middle">%s</text>`, x(v), end, x(v), end+16, strconv.FormatFloat(v, 'g', 5, 64))
	}
	for i, r := range rows {
		y, c := high*(float64(i)+0.5), Colours[i%len(Colours)]
		colour := fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)
		out += fmt.Sprintf(`<text x="0" y="%.1f">%d  %s</text><text x="%.1f" y="%.1f" text-anchor="end">%s</text><text x="%.1f" y="%.1f" text-anchor="end" fill="#596165">%s</text>`,
			y+4, i+1, html.EscapeString(plain.XML(fit(r.Label, 38))), wide, y+4, html.EscapeString(plain.XML(r.Value)),
			wide-70, y+4, html.EscapeString(plain.XML(r.Count)))
		lowest, highest := math.Inf(1), math.Inf(-1)
		for _, v := range r.Points {
			lowest, highest = math.Min(lowest, v), math.Max(highest, v)
		}
		if len(r.Points) > 1 {
			out += fmt.Sprintf(`<path d="M%.1f %.1fH%.1f" stroke="%s" stroke-width="6" opacity="0.25"/>`, x(lowest), y,
				x(highest), colour)
		}
		for _, v := range r.Points {
			out += fmt.Sprintf(`<circle cx="%.1f" cy="%.1f" r="3.2" fill="#fdfcfa" stroke="%s" stroke-width="1.6"/>`,
				x(v), y, colour)
		}
		if len(r.Points) > 1 {
			out += fmt.Sprintf(`<path d="M%.1f %.1fV%.1f" stroke="%s" stroke-width="2.4"/>`,
				x(r.Mean), y-7, y+7, colour)
		}
	}
	_, err := io.WriteString(w, out+"</svg>")
	return err
}

func fit(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// round are round places from low to high, about so many: multiples of 1, 2 or 5 times a power of ten.
func round(low, high float64, about int) []float64 {
	raw := (high - low) / float64(about)
	power := math.Pow(10, math.Floor(math.Log10(raw)))
	step := 10 * power
	for _, m := range []float64{1, 2, 5} {
		if m*power >= raw {
			step = m * power
			break
		}
	}
	var out []float64
	for i := math.Ceil(low / step); i*step <= high; i++ {
		v, _ := strconv.ParseFloat(strconv.FormatFloat(i*step, 'g', 12, 64), 64)
		out = append(out, v)
	}
	return out
}
