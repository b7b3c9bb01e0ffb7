package checkpoints

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Blobs makes the command blobs.
func (a *Commands) Blobs() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "blobs", Short: "What the chunk store holds; check it", Args: term.Arguments(),
		Long:    "What the chunk store holds: checkpoints share chunks, and chunks are packed (docs/storage.md).",
		Example: "  kembrel blobs\n  kembrel blobs check --sample 5%",
		RunE: func(cmd *cobra.Command, _ []string) error {
			t, err := client.Call(cmd.Context(), a.Client(), api.GetBlobs, &struct{}{})
			if err != nil {
				return err
			}
			l := term.List("", "value#")
			l.Add("checkpoints", fmt.Sprint(t.Checkpoints))
			l.Add("bytes of them, each whole", api.Bytes(t.Held))
			l.Add("different chunks", fmt.Sprint(t.Chunks))
			l.Add("bytes of them", api.Bytes(t.Bytes))
			l.Add("packed", api.Bytes(t.Stored))
			l.Add("of that held by none", api.Bytes(t.Loose))
			l.Add("damaged chunks", fmt.Sprint(t.Damaged))
			l.Add("missing chunks", fmt.Sprint(t.Missing))
			return a.Print(output, l, t)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.blobsCheck())
	return cmd
}

func (a *Commands) blobsCheck() *cobra.Command {
	var output, sample string
	cmd := &cobra.Command{Use: "check", Short: "Read chunks and check every digest", Args: term.Arguments(),
		Long: `Read the chunk store, or a sample of it, and check every chunk against its digest. A chunk that is damaged, or not where it was kept, is listed with the checkpoints that it
hurts; the exit code is then 7. What is missing is looked for again whenever it is read, and by the next check. Sending the same content again heals it: a recorder that still has the checkpoint does, and so does any run that saves the same
tensors. For administrators. The service checks all by itself within 30 days.`,
		Example: "  kembrel blobs check\n  kembrel blobs check --sample 5%",
		RunE: func(cmd *cobra.Command, _ []string) error {
			share, err := strconv.ParseFloat(strings.TrimSuffix(sample, "%"), 64)
			if strings.HasSuffix(sample, "%") {
				share /= 100
			}
			if err != nil || !(share > 0 && share <= 1) {
				return term.Usage("--sample %q: write a share such as 5%% or 0.05", sample)
			}
			totals, err := client.Call(cmd.Context(), a.Client(), api.GetBlobs, &struct{}{})
			if err != nil {
				return err
			}
			in, all := &api.CheckBlobsInput{}, api.CheckedBlobs{Damaged: []api.DamagedChunk{}}
			in.Body.Share, in.Body.Limit = share, 500
			m := a.Meter("check", int64(float64(totals.Bytes)*share))
			for {
				found, err := client.Call(cmd.Context(), a.Client(), api.CheckBlobs, in)
				if err != nil {
					m.Done()
					return err
				}
				m.Add(found.Bytes)
				all.Chunks, all.Bytes, all.Damaged = all.Chunks+found.Chunks, all.Bytes+found.Bytes,
					append(all.Damaged, found.Damaged...)
				if in.Body.After = found.Next; found.Next == "" {
					break
				}
			}
			m.Done()
			l := term.List("chunk", "is", "size#", "checkpoints")
			for _, d := range all.Damaged {
				is := "damaged"
				if d.Missing {
					is = "missing"
				}
				l.Add(d.Digest, is, api.Bytes(d.Size), strings.Join(d.Checkpoints, " "))
			}
			l.Empty = fmt.Sprintf("%d chunks with %s are what they are named by.", all.Chunks, api.Bytes(all.Bytes))
			if err := a.Print(output, l, all); err != nil {
				return err
			}
			if len(all.Damaged) > 0 {
				return term.Exit{Code: term.ExitDiffers}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&sample, "sample", "100%", "share of the chunks to read")
	return cmd
}
