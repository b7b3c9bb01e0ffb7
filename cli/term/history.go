package term

import (
	"context"
	"fmt"
	"io"

	"kembrel/api"
	"kembrel/client"
)

// CopyHistory writes an exported history as it comes.
func CopyHistory(ctx context.Context, c *client.Client, in *api.HistoryInput, w io.Writer) error {
	body, err := client.Stream(ctx, c, api.GetHistory, in)
	if err != nil {
		return err
	}
	defer body.Close()
	if _, err := io.Copy(w, body); err != nil {
		return fmt.Errorf("the history was cut off: %w", err)
	}
	return nil
}
