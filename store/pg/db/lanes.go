package db

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Lane says whose work a statement is. Each has connections of its own, so that people who ask for much do not keep
// recorders waiting, and neither keeps the jobs beside them.
type Lane int

// The lanes. A context without one is of people.
const (
	People Lane = iota
	Recorders
	Jobs
	Lists // what people's own conditions ask for, which may cost anything
	lanes
)

var laneRules = [lanes]struct {
	name        string
	connections int32
	statement   time.Duration // how long one statement may take
}{
	People:    {"people", 8, 30 * time.Second},
	Recorders: {"recorders", 8, 30 * time.Second},
	Jobs:      {"jobs", 8, 10 * time.Minute},
	Lists:     {"lists", 6, ListTime},
}

// ListTime is how long one statement of a list may take.
const ListTime = 5 * time.Second

// idleInTx ends a transaction whose holder has gone quiet.
const idleInTx = time.Minute

type laneKey struct{}

// In makes what is asked of the store under ctx work of a lane.
func In(ctx context.Context, lane Lane) context.Context {
	return context.WithValue(ctx, laneKey{}, lane)
}

// pools are the connections, a pool for each lane.
type pools [lanes]*pgxpool.Pool

func openPools(ctx context.Context, config *pgxpool.Config) (p pools, err error) {
	for lane, rule := range laneRules {
		c := config.Copy()
		c.MaxConns = rule.connections
		c.ConnConfig.RuntimeParams["application_name"] = "kembrel " + rule.name
		c.ConnConfig.RuntimeParams["statement_timeout"] = strconv.FormatInt(rule.statement.Milliseconds(), 10)
		c.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = strconv.FormatInt(idleInTx.Milliseconds(),
			10)
		if p[lane], err = pgxpool.NewWithConfig(ctx, c); err != nil {
			p.close()
			return p, fmt.Errorf("connect to the database: %w", err)
		}
	}
	return p, nil
}

func (p pools) close() {
	for _, pool := range p {
		if pool != nil {
			pool.Close()
		}
	}
}

func (p pools) of(ctx context.Context) *pgxpool.Pool {
	lane, _ := ctx.Value(laneKey{}).(Lane)
	return p[lane]
}

// Query implements querier.
func (p pools) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return p.of(ctx).Query(ctx, sql, args...)
}

// Exec implements querier.
func (p pools) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return p.of(ctx).Exec(ctx, sql, args...)
}

// SendBatch implements querier.
func (p pools) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	return p.of(ctx).SendBatch(ctx, b)
}
