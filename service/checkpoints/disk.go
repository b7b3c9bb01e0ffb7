package checkpoints

import (
	"context"
	"time"

	"kembrel/api"
	"kembrel/service/act"
)

// Disk says how the disk of the blobs stands; nil where they are not on one.
func (s *Checkpoints) Disk() *api.Disk {
	f := s.chunks.Space()
	if f == nil {
		return nil
	}
	d := &api.Disk{Folder: f.Folder, Free: f.Free, Reserve: f.Reserve, Missing: f.Missing}
	if d.Missing > 0 {
		d.Says = act.SayFull(*f)
	}
	return d
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
