package client

import (
	"context"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/core/dataset"
)

// Snapshot sends the items of a snapshot in blocks, as they come, and has it made of them.
type Snapshot struct {
	c      *Client
	draft  api.DraftInput
	block  []byte // items as they are sent
	held   int    // how many
	blocks int
	items  int64
	made   bool            // it is a snapshot already
	group  *errgroup.Group // blocks on their way
	under  context.Context
}

// blocksAtOnce is how many blocks are on their way at a time.
const blocksAtOnce = 2

// blockItems and blockBytes bound a block. With its last item, of two million bytes at most, it stays below
// chunk.MaxSize.
const (
	blockItems = 20_000
	blockBytes = 2 << 20
)

// BeginSnapshot begins one, or again the one of the key that the draft has: the blocks of a second time take the place
// of those of the first.
func BeginSnapshot(ctx context.Context, c *Client, in *api.NewDraft) (*Snapshot, error) {
	if in.Key == "" {
		in.Key = uuid.NewString()
	}
	draft, err := Call(ctx, c, api.BeginDraft, in)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{c: c, draft: api.DraftInput{DatasetInput: in.DatasetInput, Draft: draft.ID},
		made: draft.Snapshot != ""}
	s.group, s.under = errgroup.WithContext(ctx)
	s.group.SetLimit(blocksAtOnce)
	return s, nil
}

// Add takes an item, which was checked; full blocks are sent, two at a time. What was wrong with one before is told by
// this or by Commit.
func (s *Snapshot) Add(it dataset.Item) error {
	s.block = dataset.AppendItem(s.block, &it)
	s.held++
	s.items++
	if s.held < blockItems && len(s.block) < blockBytes {
		return nil
	}
	s.send()
	if s.under.Err() != nil {
		return s.group.Wait()
	}
	return nil
}

func (s *Snapshot) send() {
	if s.held == 0 {
		return
	}
	s.blocks++
	if s.made {
		s.block, s.held = nil, 0
		return
	}
	in := &api.BlockInput{DraftInput: s.draft, Block: s.blocks, RawBody: s.block}
	s.block, s.held = nil, 0
	s.group.Go(func() error {
		_, err := Call(s.under, s.c, api.PutBlock, in)
		return err
	})
}

// Commit has the snapshot made and waits until it is, which takes minutes for millions of items. waiting is called with
// each answer before that, unless it is nil. The service goes on if ctx ends.
func (s *Snapshot) Commit(ctx context.Context, waiting func(*api.Snapshot)) (*api.Snapshot, error) {
	s.send()
	if err := s.group.Wait(); err != nil {
		return nil, err
	}
	in := &api.CommitInput{DraftInput: s.draft}
	in.Body.Blocks, in.Body.Items = s.blocks, s.items
	return untilDone(ctx, s.c, api.CommitDraft, in,
		func(made *api.Snapshot) bool { return made.State == api.Making }, waiting)
}

// lookTime is how long LookedAt waits.
const lookTime = 30 * time.Second

// LookedAt shows a snapshot as soon as its questions are answered; where that takes more than half a minute, as it is.
func LookedAt(ctx context.Context, c *Client, in api.SnapshotInput) (*api.Snapshot, error) {
	for began, pause := time.Now(), 50*time.Millisecond; ; pause = min(2*pause, time.Second) {
		s, err := Call(ctx, c, api.GetSnapshot, &in)
		if err != nil || s.State != "looking" || time.Since(began) > lookTime {
			return s, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pause):
		}
	}
}
