package db

import (
	"context"
	"time"
)

// PoolState is how the connections of a lane stand.
type PoolState struct {
	Lane             string
	InUse, Idle, Max int
	Waits            int64         // times that somebody had to wait for one
	Waited           time.Duration // in all
}

// JobCount is how many jobs of a kind are in a state.
type JobCount struct {
	Kind, State string
	Jobs        int64
}

// PoolStates are the states of all lanes' connections.
func (s *DB) PoolStates() []PoolState {
	var out []PoolState
	for lane, pool := range s.pools {
		if pool == nil {
			continue
		}
		now := pool.Stat()
		out = append(out, PoolState{Lane: laneRules[lane].name, InUse: int(now.AcquiredConns()),
			Idle: int(now.IdleConns()), Max: int(now.MaxConns()),
			Waits: now.EmptyAcquireCount(), Waited: now.EmptyAcquireWaitTime()})
	}
	return out
}

// JobCounts counts the jobs.
func (s *DB) JobCounts(ctx context.Context) ([]JobCount, error) {
	return List[JobCount](ctx, s.Q, "vitals_jobs", nil)
}

// RecordersHeard counts the legs whose recorders, or spools, have been heard of within a minute.
func (s *DB) RecordersHeard(ctx context.Context) (int64, error) {
	return Value[int64](ctx, s.Q, "vitals_recorders", nil)
}
