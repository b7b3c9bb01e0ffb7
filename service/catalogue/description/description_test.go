package description

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/tensor"
)

// full has something in every place, odd texts among it.
func full() *api.Description {
	low, high := 0.4, 0.6
	half := &assess.Interval{Value: 0.5, Low: &low, High: &high}
	return &api.Description{Address: "vessel-classifier#3", Model: "vessel-classifier", Number: 3,
		Title: "Vessel <classes> | by sound", Purpose: "Names the class.\n\nOf passing <b>vessels</b>.",
		Limits:  "No rain.",
		Contact: "Sonar crew", Who: "Ada", Entered: time.Date(2026, 11, 2, 3, 4, 5, 0, time.UTC), Why: "better",
		Standings: []string{"in-use"}, Warnings: []string{"It has no preprocess."},
		Load: []api.LoadLines{{In: "In a terminal", Language: "sh", Lines: "kembrel restore vessel-classifier#3"}},
		Files: []api.File{{Part: "weights", Path: "weights.safetensors", Size: 801_000, Digest: "b3:00"},
			{Part: "architecture", Path: "sub/architecture.json", Size: 535, Digest: "b3:01"}},
		Figures: []api.FigureOf{{Name: "loss.val", Of: "the run", Value: 0.73}},
		Seen:    []string{"hydrophone#2:val"},
		Classes: []api.ClassesOn{{On: "hydrophone#2:test", Classes: []assess.Class{
			{Name: "tug | boat", True: 80, Predicted: 70, Right: 40, Recall: half, Precision: half}, {Name: "ferry"}}}},
		Checks:     []api.EditionCheck{{Name: "every class", Passed: true, Who: "buildhall"}},
		Data:       []api.FactOf{{Name: "train", Of: "hydrophone#2:train"}, {Name: "val", Of: "hydrophone#2:val"}},
		Made:       []api.Fact{{Name: "run", Value: "vessels/17"}, {Name: "command", Value: "./harbour train"}},
		Parameters: 1560, Arrays: 2,
		Tensors: []tensor.Info{{Name: "layer1.weight", Dtype: "F32", Shape: []int64{4, 384}}, {Name: "b",
			Dtype: "F32"}}}
}

// schemas is the folder of the official schemas, which come with the library that writes the format.
func schemas(t *testing.T) string {
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/CycloneDX/cyclonedx-go").Output()
	require.NoError(t, err)
	return filepath.Join(strings.TrimSpace(string(out)), "schema")
}

// The bill of materials is one by the format's own schema, also where nearly nothing is known.
func TestBillOfMaterialsIsValid(t *testing.T) {
	c := jsonschema.NewCompiler()
	for _, name := range []string{"bom-1.6.schema.json", "spdx.schema.json", "jsf-0.82.schema.json"} {
		path := filepath.Join(schemas(t), name)
		content, err := os.ReadFile(path)
		if os.IsNotExist(err) {
			content,
				err = []byte(`{"$schema":"http://json-schema.org/draft-07/schema#","definitions":{"signature":{}}}`), nil
		}
		require.NoError(t, err)
		parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(content))
		require.NoError(t, err)
		require.NoError(t, c.AddResource("http://cyclonedx.org/schema/"+name, parsed))
	}
	schema, err := c.Compile("http://cyclonedx.org/schema/bom-1.6.schema.json")
	require.NoError(t, err)
	for _, d := range []*api.Description{full(), {Address: "m#1", Model: "m", Number: 1, Title: "m"}} {
		text, err := CycloneDX(d)
		require.NoError(t, err)
		parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(parsed))
		again, err := CycloneDX(d)
		require.NoError(t, err)
		require.Equal(t, text, again)
		parsed.(map[string]any)["bomFormat"] = "another"
		require.Error(t, schema.Validate(parsed), "the schema is looked at")
	}
	var bom struct {
		Metadata struct {
			Component struct {
				Type      string
				ModelCard struct {
					QuantitativeAnalysis struct {
						PerformanceMetrics []struct{ Type, Slice string }
					}
				}
			}
		}
	}
	text, err := CycloneDX(full())
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &bom))
	require.Equal(t, "machine-learning-model", bom.Metadata.Component.Type)
	require.Len(t, bom.Metadata.Component.ModelCard.QuantitativeAnalysis.PerformanceMetrics, 2,
		"what is not known is left out")
}

func TestTexts(t *testing.T) {
	text, err := Markdown(full())
	require.NoError(t, err)
	for _, want := range []string{`# Vessel &lt;classes> \| by sound, edition 3`, "`vessel-classifier#3`, in use.",
		"Of passing &lt;b>vessels", "```sh\nkembrel restore", `| tug \| boat | 80 | 0.500 (0.400 to 0.600) |`,
		"| ferry | 0 |  |  |", "1,560 numbers in 2 arrays", "| `layer1.weight` | F32 | 4 x 384 |", "Sonar crew"} {
		require.Contains(t, string(text), want)
	}
	page, err := HTML(full())
	require.NoError(t, err)
	for _, want := range []string{"Vessel &lt;classes&gt;", "<p>Of passing &lt;b&gt;vessels&lt;/b&gt;.</p>",
		"default-src 'none'",
		"<td>tug | boat</td>"} {
		require.Contains(t, string(page), want)
	}
	for _, write := range []func(*api.Description) ([]byte, error){Markdown, HTML} {
		text, err := write(&api.Description{Address: "m#1", Model: "m", Number: 1, Title: "m", Who: "Ada"})
		require.NoError(t, err)
		require.Contains(t, string(text), "Nobody has written it down.")
		require.Contains(t, string(text), "No figure is known.")
		require.Contains(t, string(text), "Ada, who entered it.")
	}
}
