package main

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	"kembrel/cli/term"
)

// manual writes the pages of the manual from the commands themselves; releases carry them.
func manual(a *term.App) *cobra.Command {
	var to string
	cmd := &cobra.Command{Use: "manual", Short: "Write the pages of the manual, one for each command", Hidden: true,
		Args: term.Arguments(), Example: "  kembrel manual --to /usr/local/share/man/man1",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to == "" {
				return term.Usage("say where to: --to FOLDER")
			}
			if err := os.MkdirAll(to, 0o755); err != nil {
				return err
			}
			written(cmd.Root())
			head := &doc.GenManHeader{Section: "1", Source: "Kembrel " + a.Version, Manual: "Kembrel"}
			if err := doc.GenManTree(cmd.Root(), head, to); err != nil {
				return fmt.Errorf("write the manual: %w", err)
			}
			pages, err := os.ReadDir(to)
			if err == nil {
				fmt.Fprintf(a.Out, "%d pages are in %s.\n", len(pages), to)
			}
			return err
		}}
	cmd.Flags().StringVar(&to, "to", "", "folder to write into")
	return cmd
}

// written readies a command and those below it for the manual, which is made by way of Markdown: there a bracket would
// begin a tag.
func written(cmd *cobra.Command) {
	plain := strings.NewReplacer("<", `\<`, "*", `\*`)
	cmd.DisableAutoGenTag = true
	cmd.Long = plain.Replace(cmd.Long)
	cmd.Flags().VisitAll(func(f *pflag.Flag) { f.Usage = plain.Replace(f.Usage) })
	for _, below := range cmd.Commands() {
		written(below)
	}
}
