package description

import (
	"bytes"
	_ "embed"
	"fmt"
	htmltemplate "html/template"
	"strings"
	"text/template"

	"kembrel/api"
	"kembrel/core/assess"
)

//go:embed description.md
var markdown string

//go:embed description.html
var page string

var shared = map[string]any{
	"share": func(i *assess.Interval) string {
		if i == nil {
			return ""
		}
		if i.Low == nil || i.High == nil {
			return fmt.Sprintf("%.3f", i.Value)
		}
		return fmt.Sprintf("%.3f (%.3f to %.3f)", i.Value, *i.Low, *i.High)
	},
	"shape": func(shape []int64) string {
		return strings.Join(strings.Fields(strings.Trim(fmt.Sprint(shape), "[]")), " x ")
	},
	"bytes":     api.Bytes,
	"thousands": api.Thousands,
	"number":    func(v api.Float) string { return fmt.Sprintf("%.5g", float64(v)) },
	"words":     func(s string) string { return strings.ReplaceAll(s, "-", " ") },
}

// cell is a text that is to stand in a table of Markdown, or within a line of it.
func cell(s string) string {
	return strings.NewReplacer("\n", " ", "\r", " ", "|", `\|`, "`", "'", "<", "&lt;", "[", `\[`, "*", `\*`,
		"_", `\_`).Replace(s)
}

var inMarkdown = template.Must(template.New("markdown").Funcs(shared).Funcs(template.FuncMap{"cell": cell,
	"code":  func(s string) string { return strings.NewReplacer("\n", " ", "`", "'", "|", `\|`).Replace(s) },
	"prose": func(s string) string { return strings.ReplaceAll(s, "<", "&lt;") },
}).Parse(markdown))

var inHTML = htmltemplate.Must(htmltemplate.New("html").Funcs(shared).Funcs(htmltemplate.FuncMap{
	"paragraphs": func(s string) []string { return strings.Split(strings.TrimSpace(s), "\n\n") },
}).Parse(page))

// Markdown writes it as Markdown.
func Markdown(d *api.Description) ([]byte, error) {
	var out bytes.Buffer
	err := inMarkdown.Execute(&out, d)
	return out.Bytes(), err
}

// HTML writes it as one HTML file that needs nothing else.
func HTML(d *api.Description) ([]byte, error) {
	var out bytes.Buffer
	err := inHTML.Execute(&out, d)
	return out.Bytes(), err
}
