package catalogue

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/service/act"
	"kembrel/service/catalogue/description"
	"kembrel/store"
)

// mostTensors is how many arrays of the weights are listed.
const mostTensors = 200

// GetDescription describes an edition for those who use it.
func (s *Catalogue) GetDescription(ctx context.Context, who act.Who, in *api.EditionInput) (*api.Description, error) {
	m, row, err := s.edition(ctx, who, *in)
	if err != nil {
		return nil, err
	}
	e, err := s.showEdition(ctx, who, m, row)
	if err != nil {
		return nil, err
	}
	f := &e.Facts
	out := &api.Description{Address: e.Address, Model: m.Name, Number: e.Number, Title: m.Title, Purpose: m.Purpose,
		Limits: m.Limits, Contact: m.Contact, Who: e.Who, Entered: e.Entered, Why: e.Why, Standings: e.Standings,
		Warnings: e.Warnings, Load: loadLines(e), Figures: []api.FigureOf{}, Seen: f.TrainedOn, Checks: e.Checks,
		SignOffs: e.SignOffs,
		Data:     []api.FactOf{}, Made: made(e)}
	if out.Title == "" {
		out.Title = m.Name
	}
	for _, file := range e.Files {
		file.Chunks = nil
		out.Files = append(out.Files, file)
	}
	for _, use := range slices.Sorted(maps.Keys(f.Data)) {
		out.Data = append(out.Data, api.FactOf{Name: use, Of: f.Data[use]})
	}
	for _, name := range slices.Sorted(maps.Keys(f.Figures)) {
		out.Figures = append(out.Figures, api.FigureOf{Name: name, Of: "the run", Value: f.Figures[name]})
	}
	for _, on := range slices.Sorted(maps.Keys(f.Measured)) {
		for _, name := range slices.Sorted(maps.Keys(f.Measured[on])) {
			out.Figures = append(out.Figures, api.FigureOf{Name: name, Of: on, Value: f.Measured[on][name]})
		}
	}
	if err := s.describeClasses(ctx, who, row, e, out); err != nil {
		return nil, err
	}
	return out, s.describeWeights(ctx, row, out)
}

// describeClasses adds figures by class, where the run is there and whoever asks sees it.
func (s *Catalogue) describeClasses(ctx context.Context, who act.Who, row store.Edition, e *api.Edition,
	out *api.Description) error {
	at, err := api.ParseAddress(e.Facts.Run)
	if err != nil || row.Run == nil {
		return nil
	}
	if sees, err := s.Sees(ctx, at.Project); err != nil || !sees {
		return err
	}
	sheets, err := s.sheetsOf(ctx, *row.Run, e)
	for _, on := range slices.Sorted(maps.Keys(sheets)) {
		shown, err := s.sheets.GetSheet(ctx, who, &api.SheetInput{RunInput: api.RunInput{
			ProjectInput: api.ProjectInput{Project: at.Project}, Number: at.Run}, Sheet: sheets[on]})
		if api.Is(err, api.NotFound) {
			continue // it was deleted meanwhile
		}
		if err != nil {
			return err
		}
		if len(shown.Assessed.Classes) > 0 {
			out.Classes = append(out.Classes, api.ClassesOn{On: on, Classes: shown.Assessed.Classes})
		}
	}
	return err
}

// describeWeights adds which arrays the weights are. What cannot be read is not described.
func (s *Catalogue) describeWeights(ctx context.Context, row store.Edition, out *api.Description) error {
	files, err := s.db.EditionFiles(ctx, row.ID)
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.Part != string(checkpoint.Weights) || !slices.ContainsFunc([]string{".safetensors", ".npy", ".npz"},
			func(end string) bool { return strings.HasSuffix(f.Path, end) }) {
			continue
		}
		pieces, err := chunk.Unpack(f.Chunks)
		if err != nil {
			return err
		}
		opened, err := tensor.Open(s.chunks.NewReader(ctx, f.Path, pieces), f.Size)
		if err != nil {
			continue
		}
		for _, t := range opened.Tensors {
			out.Parameters += t.Count()
			out.Arrays++
			if len(out.Tensors) < mostTensors {
				out.Tensors = append(out.Tensors, t)
			}
		}
	}
	return nil
}

// made is how an edition was made.
func made(e *api.Edition) []api.Fact {
	f := &e.Facts
	out := []api.Fact{{Name: "run", Value: f.Run}, {Name: "checkpoint", Value: e.Origin}, {Name: "trained by",
		Value: f.Who},
		{Name: "started", Value: f.Started.UTC().Format("2006-01-02 15:04:05 MST")}}
	add := func(name, value string) {
		if value != "" {
			out = append(out, api.Fact{Name: name, Value: value})
		}
	}
	add("title", f.Title)
	add("command", strings.Join(f.Command, " "))
	code := f.Commit
	if code != "" && f.Clean != nil && !*f.Clean {
		code += ", with changes that were not committed"
	}
	add("code", code)
	for _, use := range slices.Sorted(maps.Keys(f.Data)) {
		add("data for "+use, f.Data[use])
	}
	var hyper []string
	for _, name := range slices.Sorted(maps.Keys(f.Hyper)) {
		hyper = append(hyper, name+"="+sayValue(f.Hyper[name]))
	}
	add("hyperparameters", strings.Join(hyper, " "))
	return out
}

// sayValue is a value as it stands in a line.
func sayValue(v json.RawMessage) string {
	var text string
	if json.Unmarshal(v, &text) == nil {
		return text
	}
	return string(v)
}

// loadLines are lines that load an edition. Names of files are those of this one.
func loadLines(e *api.Edition) []api.LoadLines {
	restore := []string{"restore", e.Address, "--for-use", "--into", "model"}
	standing := ""
	for _, name := range e.Standings {
		if name != catalogue.Proposed {
			standing = "\n# kembrel restore " + catalogue.Address{Model: e.Model, Standing: name}.String() +
				" --for-use --into model: whichever is " + sayStanding(name)
			break
		}
	}
	out := []api.LoadLines{{In: "In a terminal", Language: "sh", Lines: "kembrel " + strings.Join(restore,
		" ") + standing}}
	path := ""
	for _, f := range e.Files {
		if f.Part == string(checkpoint.Weights) && strings.HasSuffix(f.Path, ".safetensors") {
			path = f.Path
			break
		}
	}
	quoted := make([]string, len(restore))
	for i, word := range restore {
		quoted[i] = strconv.Quote(word)
	}
	python := fmt.Sprintf("import subprocess\nimport kembrel\n\nsubprocess.run([\"kembrel\", %s], check=True)",
		strings.Join(quoted, ", "))
	inGo := fmt.Sprintf("restore := exec.Command(\"kembrel\", %s)\nif out, err := restore.CombinedOutput(); err != nil {\n\tlog.Fatalf(\"%%s\", out)\n}",
		strings.Join(quoted, ", "))
	if path != "" {
		python += fmt.Sprintf("\nweights = kembrel.read_tensors(%s)  # by name", strconv.Quote("model/"+path))
		inGo += fmt.Sprintf("\n// wanted: the arrays of your model, by name, dtype and shape\nfit, err := kembrel.Match(%s, wanted)",
			strconv.Quote("model/"+path))
	}
	return append(out, api.LoadLines{In: "In Python", Language: "python", Lines: python},
		api.LoadLines{In: "In Go", Language: "go", Lines: inGo})
}

// DescriptionFile is the description as a file of a format, with its name and media type.
func (s *Catalogue) DescriptionFile(ctx context.Context, who act.Who,
	in *api.DescriptionInput) (content []byte, name, media string, err error) {
	d, err := s.GetDescription(ctx, who, &in.EditionInput)
	if err != nil {
		return nil, "", "", err
	}
	name = fmt.Sprintf("%s-%d", d.Model, d.Number)
	switch in.Format {
	case "html":
		content, err = description.HTML(d)
		return content, name + ".html", "text/html; charset=utf-8", err
	case "cyclonedx":
		content, err = description.CycloneDX(d)
		return content, name + ".cdx.json", "application/vnd.cyclonedx+json; version=1.6", err
	}
	content, err = description.Markdown(d)
	return content, name + ".md", "text/markdown; charset=utf-8", err
}
