package pack

import "context"

// Ready says whether the blob store is there; the error wraps blob.ErrAway where it does not answer.
func (p *Packs) Ready(ctx context.Context) error { return p.blobs.Ready(ctx) }
