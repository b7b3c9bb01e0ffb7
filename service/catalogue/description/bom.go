package description

import (
	"bytes"
	"crypto/sha256"
	"fmt"

	cyclonedx "github.com/CycloneDX/cyclonedx-go"
	"github.com/google/uuid"

	"kembrel/api"
)

// CycloneDX writes it as a bill of materials (CycloneDX 1.6, JSON) whose subject is the model. The same edition with
// the same figures gives the same bytes.
func CycloneDX(d *api.Description) ([]byte, error) {
	model := cyclonedx.Component{BOMRef: d.Address, Type: cyclonedx.ComponentTypeMachineLearningModel, Name: d.Model,
		Version: fmt.Sprint(d.Number), Description: d.Purpose, ModelCard: card(d)}
	var files []cyclonedx.Component
	for _, f := range d.Files {
		files = append(files, cyclonedx.Component{BOMRef: d.Address + " " + f.Path, Type: cyclonedx.ComponentTypeFile,
			Name: f.Path, Description: f.Part, Properties: &[]cyclonedx.Property{
				{Name: "kembrel:size", Value: fmt.Sprint(f.Size)}, {Name: "kembrel:digest", Value: f.Digest}}})
	}
	var uses []string
	for i, set := range d.Data {
		ref := fmt.Sprintf("data %d", i+1)
		uses = append(uses, ref)
		files = append(files, cyclonedx.Component{BOMRef: ref, Type: cyclonedx.ComponentTypeData, Name: set.Of,
			Data: &[]cyclonedx.ComponentData{{BOMRef: "the " + ref, Type: cyclonedx.ComponentDataTypeDataset,
				Name: set.Of, Description: "used for " + set.Name}}})
	}
	for _, f := range d.Files {
		uses = append(uses, d.Address+" "+f.Path)
	}
	model.Properties = properties(d)
	bom := cyclonedx.NewBOM()
	bom.Version = 1
	bom.Metadata = &cyclonedx.Metadata{Timestamp: d.Entered.UTC().Format("2006-01-02T15:04:05Z"), Component: &model}
	if len(files) > 0 {
		bom.Components = &files
	}
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: d.Address, Dependencies: &uses}}
	plain, err := encode(bom)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(plain)
	bom.SerialNumber = uuid.NewSHA1(uuid.NameSpaceOID, sum[:]).URN()
	return encode(bom)
}

func encode(bom *cyclonedx.BOM) ([]byte, error) {
	var out bytes.Buffer
	err := cyclonedx.NewBOMEncoder(&out, cyclonedx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(bom,
		cyclonedx.SpecVersion1_6)
	return out.Bytes(), err
}

func properties(d *api.Description) *[]cyclonedx.Property {
	var out []cyclonedx.Property
	for _, f := range d.Made {
		out = append(out, cyclonedx.Property{Name: "kembrel:" + f.Name, Value: f.Value})
	}
	for _, s := range d.Standings {
		out = append(out, cyclonedx.Property{Name: "kembrel:standing", Value: s})
	}
	return &out
}

func card(d *api.Description) *cyclonedx.MLModelCard {
	var figures []cyclonedx.MLPerformanceMetric
	for _, f := range d.Figures {
		figures = append(figures, cyclonedx.MLPerformanceMetric{Type: f.Name, Value: fmt.Sprint(f.Value), Slice: f.Of})
	}
	for _, on := range d.Classes {
		for _, c := range on.Classes {
			if c.Recall == nil {
				continue
			}
			recall := cyclonedx.MLPerformanceMetric{Type: "recall", Value: fmt.Sprint(c.Recall.Value),
				Slice: on.On + ", " + c.Name}
			if c.Recall.Low != nil && c.Recall.High != nil {
				recall.ConfidenceInterval = &cyclonedx.MLPerformanceMetricConfidenceInterval{
					LowerBound: fmt.Sprint(*c.Recall.Low), UpperBound: fmt.Sprint(*c.Recall.High)}
			}
			figures = append(figures, recall)
		}
	}
	out := &cyclonedx.MLModelCard{ModelParameters: &cyclonedx.MLModelParameters{}}
	if d.Parameters > 0 {
		out.ModelParameters.ModelArchitecture = fmt.Sprintf("%d numbers in %d arrays", d.Parameters, d.Arrays)
	}
	var sets []cyclonedx.MLDatasetChoice
	for i := range d.Data {
		sets = append(sets, cyclonedx.MLDatasetChoice{Ref: fmt.Sprintf("the data %d", i+1)})
	}
	if len(sets) > 0 {
		out.ModelParameters.Datasets = &sets
	}
	if len(figures) > 0 {
		out.QuantitativeAnalysis = &cyclonedx.MLQuantitativeAnalysis{PerformanceMetrics: &figures}
	}
	if d.Limits != "" || d.Purpose != "" {
		out.Considerations = &cyclonedx.MLModelCardConsiderations{}
		if d.Purpose != "" {
			out.Considerations.UseCases = &[]string{d.Purpose}
		}
		if d.Limits != "" {
			out.Considerations.TechnicalLimitations = &[]string{d.Limits}
		}
	}
	return out
}
