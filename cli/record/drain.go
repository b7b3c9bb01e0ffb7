package record

import (
	"github.com/spf13/cobra"

	"kembrel/recorder"
)

// Drain is what the recorder starts beside a program to take its output.
func Drain() *cobra.Command {
	return &cobra.Command{Use: recorder.DrainCommand, Hidden: true, Args: cobra.ExactArgs(1),
		// it needs no settings, and nothing of theirs may keep it from starting
		PersistentPreRunE: func(*cobra.Command, []string) error { return nil },
		RunE: func(_ *cobra.Command, args []string) error {
			recorder.DrainHere(args[0])
			return nil
		}}
}
