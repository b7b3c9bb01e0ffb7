package act

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"kembrel/store/pg/db"
)

// The tables of the audit: the service's role may add to them and read them.
var kept = []string{"event", "event_chain"}

// Keeper is a role of the database that is not the service's, and to which the events belong, so that the service's own
// cannot change them, nor take away what refuses changes. It is the superuser, or a member of the service's role that
// may create in the schema.
type Keeper struct{ URL string }

// Open gives the events to the service's role, which is about to bring all tables to its version.
func (k Keeper) Open(ctx context.Context, s *Store) error {
	return k.each(ctx, s, "open the events", func(table, service, _ string) []string {
		return []string{"alter table " + table + " owner to " + service}
	})
}

// Close takes them back: the service may add events and read them.
func (k Keeper) Close(ctx context.Context, s *Store) error {
	return k.each(ctx, s, "keep the events", func(table, service, keeper string) []string {
		return []string{
			"alter table " + table + " owner to " + keeper,
			"revoke all on " + table + " from " + service,
			"grant select, insert on " + table + " to " + service,
			"grant select on all sequences in schema public to " + service, // a backup keeps where they are
		}
	})
}

// each runs statements for each table that is there, all or none, and does not wait long for who reads them.
func (k Keeper) each(ctx context.Context, s *Store, what string,
	statements func(table, service, keeper string) []string) error {
	service, err := db.Value[string](ctx, s.DB.Q, "role", nil)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	conn, err := pgx.Connect(ctx, k.URL)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	keeper := conn.Config().User
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if keeper == service {
			return fmt.Errorf("the role %s cannot keep events from itself: name another one", service)
		}
		if _, err := tx.Exec(ctx, "set local lock_timeout = '30s'"); err != nil {
			return err
		}
		for _, table := range kept {
			var there bool
			if err := tx.QueryRow(ctx, "select to_regclass($1) is not null", table).Scan(&there); err != nil {
				return err
			}
			if !there {
				continue
			}
			for _, statement := range statements(table, quoted(service), quoted(keeper)) {
				if _, err := tx.Exec(ctx, statement); err != nil {
					return fmt.Errorf("%s: %w", table, err)
				}
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

func quoted(name string) string { return pgx.Identifier{name}.Sanitize() }
