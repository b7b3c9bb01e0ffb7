package catalogue

import (
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
)

func (a *Commands) describe() *cobra.Command {
	var to string
	cmd := &cobra.Command{Use: "describe EDITION", Short: "Describe an edition for those who use it",
		Args: term.Arguments("EDITION"),
		Long: `Describe an edition for those who use it: what it is for and cannot do, as people wrote it of the model; how it is loaded, how well it does by class, how it was
made, what it is made of. As Markdown, as one HTML file, or as a CycloneDX bill of materials, by the ending of --to.`,
		Example: `  kembrel catalogue describe vessel-classifier/in-use
  kembrel catalogue describe vessel-classifier#3 --to classifier.html
  kembrel catalogue describe vessel-classifier#3 --to classifier.cdx.json`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "edition")
			if err != nil {
				return err
			}
			e, err := term.Edition(cmd.Context(), a.Client(), at)
			if err != nil {
				return err
			}
			in := &api.DescriptionInput{EditionInput: api.EditionInput{ModelInput: api.ModelInput{Model: e.Model},
				Edition: e.Number}}
			switch ending := strings.ToLower(filepath.Ext(to)); ending {
			case "", ".", ".md", ".markdown":
				in.Format = "markdown"
			case ".html", ".htm":
				in.Format = "html"
			case ".json":
				in.Format = "cyclonedx"
			default:
				return term.Usage("%s: there are .md, .html and .cdx.json", to)
			}
			return term.WriteAnswer(cmd.Context(), a.App, to, api.ExportDescription, in)
		}}
	cmd.Flags().StringVar(&to, "to", "-", "file to write; - for the output")
	return cmd
}
