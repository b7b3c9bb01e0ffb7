package act

import (
	"context"
	"crypto/sha256"
	"strings"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// Audit lists events, the latest first.
func (q Queries) Audit(ctx context.Context, in store.AuditQuery) ([]store.Told, error) {
	project := int64(0)
	if in.Project != "" {
		id, err := db.Value[int64](ctx, q, "event_project", db.A{"key": in.Project})
		if err != nil {
			if db.None(err) {
				err = nil // a project that is not there has no events
			}
			return nil, err
		}
		project = id
	}
	under := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(in.Subject)
	return db.ListAnew[store.Told](ctx, q, "event_audit", db.A{"project": project, "who": in.Who,
		"kind": in.Kind, "verb": in.Verb,
		"subject": in.Subject, "under": under + "@%", "since": in.Since, "until": in.Until, "before": in.Before,
		"limit": in.Limit})
}

type chainEnd struct {
	Seq, Event int64
	Xact       string
	Digest     []byte
}

// chainPage is how many events are chained, or checked, at a time.
const chainPage = 2000

func (q Queries) chainEnd(ctx context.Context) (chainEnd, error) {
	end, err := db.One[chainEnd](ctx, q, "chain_end", nil)
	if db.None(err) {
		return chainEnd{Xact: "0"}, nil
	}
	return end, err
}

// Chain gives the events that became visible since the last time their digests: SHA-256 over the digest before and the
// event's text. It returns how many those were; 0 also where another replica is at it.
func (s *Store) Chain(ctx context.Context) (added int, err error) {
	err = s.InTx(ctx, func(tx db.Q) error {
		q := Queries{tx}
		if mine, err := db.Value[bool](ctx, q, "chain_lock", nil); err != nil || !mine {
			return err
		}
		end, err := q.chainEnd(ctx)
		if err != nil {
			return err
		}
		next, err := db.List[struct {
			Xact string
			ID   int64
			Text string
		}](ctx, q, "chain_next", db.A{"xact": end.Xact, "event": end.Event, "limit": chainPage})
		if err != nil || len(next) == 0 {
			return err
		}
		var seqs, events []int64
		var xacts []string
		var digests [][]byte
		for i, e := range next {
			end.Digest = q.Link(end.Digest, e.Text)
			seqs, events, xacts, digests = append(seqs, end.Seq+int64(i)+1), append(events, e.ID),
				append(xacts, e.Xact), append(digests, end.Digest)
		}
		added = len(next)
		_, err = q.Exec(ctx, "chain_add", db.A{"seqs": seqs, "events": events, "xacts": xacts, "digests": digests})
		return err
	})
	return added, err
}

// Link is the digest of an event behind one with the digest before.
func (q Queries) Link(before []byte, event string) []byte {
	h := sha256.New()
	h.Write(before)
	h.Write([]byte(event))
	return h.Sum(nil)
}

// ReadChain reads the chain behind a number of it, some links at a time.
func (q Queries) ReadChain(ctx context.Context, after int64) ([]store.Chained, error) {
	return db.List[store.Chained](ctx, q, "chain_read", db.A{"after": after, "limit": chainPage})
}

// BesideChain finds an event that is older than the end of the chain and not in it; 0: there is none.
func (q Queries) BesideChain(ctx context.Context) (int64, error) {
	end, err := q.chainEnd(ctx)
	if err != nil {
		return 0, err
	}
	id, err := db.Value[int64](ctx, q, "chain_beside", db.A{"xact": end.Xact, "event": end.Event})
	if db.None(err) {
		return 0, nil
	}
	return id, err
}
