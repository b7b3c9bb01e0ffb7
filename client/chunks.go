package client

import (
	"context"
	"errors"
	"io"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/core/chunk"
)

// sendsAtOnce is how many chunks are on their way together.
const sendsAtOnce = 4

// SendChunks sends those of some chunks, by their digests, that the service lacks.
func SendChunks(ctx context.Context, c *Client, chunks map[string][]byte) error {
	if len(chunks) == 0 {
		return nil
	}
	ask := &api.DigestListInput{}
	for d := range chunks {
		ask.Body.Digests = append(ask.Body.Digests, d)
	}
	missing, err := Call(ctx, c, api.MissingChunks, ask)
	if err != nil {
		return err
	}
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(sendsAtOnce)
	for _, d := range missing.Digests {
		data := chunks[d]
		group.Go(func() error {
			_, err := Call(working, c, api.PutChunk, &api.ChunkInput{Digest: d, RawBody: data})
			return err
		})
	}
	return group.Wait()
}

// heldChunks is how many chunks of a file are in memory at a time.
const heldChunks = 4

// SendFile sends what the service lacks of a file's chunks, and says what the file is, to be named in a manifest.
func SendFile(ctx context.Context, c *Client, path string, r io.Reader) (api.File, error) {
	out := api.File{Path: path}
	hash, held := chunk.NewHash(), map[string][]byte{}
	for {
		data := make([]byte, chunk.MaxSize)
		n, err := io.ReadFull(r, data)
		if n > 0 {
			data = data[:n]
			d := chunk.Sum(data).String()
			hash.Write(data)
			held[d] = data
			out.Size += int64(n)
			out.Chunks = append(out.Chunks, api.Piece{Digest: d, Size: int64(n)})
		}
		end := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !end {
			return out, err
		}
		if end || len(held) == heldChunks {
			if err := SendChunks(ctx, c, held); err != nil {
				return out, err
			}
			held = map[string][]byte{}
		}
		if end {
			out.Digest = hash.Digest().String()
			return out, nil
		}
	}
}
