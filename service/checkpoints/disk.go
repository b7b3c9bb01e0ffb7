package checkpoints

import (
	"context"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/store/blob"
)

// Disk says how the disk of the blobs stands; nil where they are not on one.
func (s *Checkpoints) Disk() *api.Disk {
	f := s.chunks.Space()
	if f == nil {
		return nil
	}
	d := &api.Disk{Folder: f.Folder, Free: f.Free, Reserve: f.Reserve, Missing: f.Missing}
	if d.Missing > 0 {
		d.Says = sayFull(*f)
	}
	return d
}

func sayFull(f blob.Full) string {
	return fmt.Sprintf("The disk of %s has %s left, which are kept for the database (%s): %s more must become free before checkpoints are kept again. Until then they wait in the recorders' spools; readings, listings and deletions go on. Drop checkpoints or runs, then: kembrel storage free --now",
		f.Folder, api.Bytes(f.Free), api.Bytes(f.Reserve), api.Bytes(f.Missing))
}

// readyPace is how long an answer of the blob store is taken as that of now.
const readyPace = 5 * time.Second

// BlobsReady asks the blob store whether it is there, or remembers what it said a moment ago.
func (s *Checkpoints) BlobsReady(ctx context.Context) error {
	s.readyAt.mutex.Lock()
	defer s.readyAt.mutex.Unlock()
	if time.Since(s.readyAt.at) > readyPace {
		s.readyAt.err = s.chunks.Ready(ctx)
		s.readyAt.at = time.Now()
	}
	return s.readyAt.err
}
