package catalogue

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ModelProject is the key of the project whose roles say who may do what with a model.
func (q Queries) ModelProject(ctx context.Context, name string) (string, error) {
	return db.Value[string](ctx, q, "model_project", db.A{"name": name})
}

// ListModels lists models by name, behind one, in the projects that are seen; name: that one alone.
func (q Queries) ListModels(ctx context.Context, seen store.Seen, name, after string, limit int) ([]store.Model,
	error) {
	return db.List[store.Model](ctx, q, "model_list", db.A{"all": seen.All, "open": seen.Open, "keys": seen.Keys,
		"only": seen.Only, "name": name, "after": after, "limit": limit})
}

// AddModel adds one; store.ErrNone where one of its name is there.
func (q Queries) AddModel(ctx context.Context, m store.Model, person int64) (id, project int64, err error) {
	at, err := db.One[struct{ ID, Project int64 }](ctx, q, "model_add", db.A{"name": m.Name, "title": m.Title,
		"purpose": m.Purpose, "limits": m.Limits, "contact": m.Contact,
		"project": m.Project, "person": person})
	return at.ID, at.Project, err
}

// ChangeModel changes what is given.
func (q Queries) ChangeModel(ctx context.Context, id int64, to store.ModelTexts) error {
	_, err := q.Exec(ctx, "model_change", db.A{"id": id, "title": to.Title, "purpose": to.Purpose, "limits": to.Limits,
		"contact": to.Contact})
	return err
}

// LockModel has what happens to a model happen one after another. It belongs in a transaction.
func (q Queries) LockModel(ctx context.Context, id int64) error {
	_, err := db.Value[int64](ctx, q, "model_lock", db.A{"id": id})
	return err
}

// PutStanding adds or changes a standing; place is its place in the order.
func (q Queries) PutStanding(ctx context.Context, s store.ModelStanding, place int) error {
	_, err := q.Exec(ctx, "standing_put", db.A{"model": s.Model, "name": s.Name, "place": place,
		"approvers": s.Approvers, "checks": append([]string{}, s.Checks...), "reporters": orEmpty(s.Reporters),
		"lowered_by": s.LoweredBy, "lowered_from": s.LoweredFrom})
	return err
}

func orEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

// DropStanding removes a standing that has no history, and reports whether it did.
func (q Queries) DropStanding(ctx context.Context, model int64, name string) (bool, error) {
	n, err := q.Exec(ctx, "standing_drop", db.A{"model": model, "name": name})
	return n > 0, err
}

// ListStandings lists the standings of models in their order, with who has them.
func (q Queries) ListStandings(ctx context.Context, models ...int64) ([]store.ModelStanding, error) {
	return db.List[store.ModelStanding](ctx, q, "standing_list", db.A{"models": models})
}

// Hold gives a standing to an edition, or to none, from now on. It belongs in a transaction in which the model is
// locked.
func (q Queries) Hold(ctx context.Context, n store.NewHolding) error {
	before, err := db.One[struct {
		Seq   int
		Until *time.Time
	}](ctx, q, "holding_end", db.A{"model": n.Model, "standing": n.Standing})
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	_, err = q.Exec(ctx, "holding_add", db.A{"model": n.Model, "standing": n.Standing, "seq": before.Seq + 1,
		"edition": n.Edition, "since": before.Until, "person": n.Person, "why": n.Why, "asking": n.Asking,
		"signed": orList(n.Signed)})
	return err
}

// ListHoldings lists who had which standing, the latest first; standing: that one alone.
func (q Queries) ListHoldings(ctx context.Context, model int64, standing string, limit int) ([]store.Holding, error) {
	return db.List[store.Holding](ctx, q, "holding_list", db.A{"model": model, "standing": standing, "limit": limit})
}

// ListEditions lists the editions of a model, the latest first, below a number; 0: from the latest.
func (q Queries) ListEditions(ctx context.Context, model int64, below, limit int) ([]store.Edition, error) {
	return db.List[store.Edition](ctx, q, "edition_list", db.A{"model": model, "below": below, "number": 0, "id": 0,
		"limit": limit})
}

// Edition finds one by its number, or, where that is 0, by its id.
func (q Queries) Edition(ctx context.Context, model int64, number int, id int64) (store.Edition, error) {
	return db.One[store.Edition](ctx, q, "edition_list", db.A{"model": model, "below": 0, "number": number, "id": id,
		"limit": 1})
}

// EditionOf is the number of the edition that a checkpoint is in a model.
func (q Queries) EditionOf(ctx context.Context, model int64, origin string) (int, error) {
	return db.Value[int](ctx, q, "edition_by_origin", db.A{"model": model, "origin": origin})
}

// AddEdition adds one with its files and gives it the next number. It belongs in a transaction in which the model is
// locked.
func (q Queries) AddEdition(ctx context.Context, e store.Edition, person int64, files []store.File) (int, error) {
	at, err := db.One[struct {
		ID     int64
		Number int
	}](ctx, q, "edition_add", db.A{"model": e.Model, "origin": e.Origin, "run": e.Run, "facts": e.Facts,
		"size": e.Size, "why": e.Why, "person": person})
	if err != nil {
		return 0, err
	}
	for _, f := range files {
		if _, err := q.Exec(ctx, "edition_file_add", db.A{"edition": at.ID, "path": f.Path, "part": f.Part,
			"size": f.Size, "digest": f.Digest, "chunks": f.Chunks}); err != nil {
			return 0, err
		}
	}
	return at.Number, nil
}

// EditionFiles lists the files of an edition.
func (q Queries) EditionFiles(ctx context.Context, edition int64) ([]store.File, error) {
	return db.List[store.File](ctx, q, "edition_files", db.A{"edition": edition})
}

// ListAskings lists what waits for standings of models first, then what did, the latest first.
func (q Queries) ListAskings(ctx context.Context, models []int64, id int64, waiting bool,
	limit int) ([]store.Asking, error) {
	return db.List[store.Asking](ctx, q, "asking_list", db.A{"models": models, "id": id, "waiting": waiting,
		"limit": limit})
}

// AddAsking has an edition wait for a standing.
func (q Queries) AddAsking(ctx context.Context, a store.Asking) (int64, error) {
	return db.Value[int64](ctx, q, "asking_add", db.A{"model": a.Model, "standing": a.Standing, "edition": a.Edition,
		"person": a.Person, "why": a.Why, "rule": a.Rule})
}

// EndAsking ends the waiting, and reports whether it did: it may have ended before.
func (q Queries) EndAsking(ctx context.Context, id int64, outcome string, ender int64, because string) (bool, error) {
	n, err := q.Exec(ctx, "asking_end", db.A{"id": id, "outcome": outcome, "ender": ender, "because": because})
	return n > 0, err
}

// PutSignOff keeps one person's sign-off, in place of an earlier one.
func (q Queries) PutSignOff(ctx context.Context, s store.SignOff) error {
	_, err := q.Exec(ctx, "sign_off_put", db.A{"asking": s.Asking, "person": s.Person, "why": s.Why, "upto": s.Upto})
	return err
}

// WithdrawSignOff takes one back, and reports whether there was one.
func (q Queries) WithdrawSignOff(ctx context.Context, asking, person int64) (bool, error) {
	n, err := q.Exec(ctx, "sign_off_withdraw", db.A{"asking": asking, "person": person})
	return n > 0, err
}

// ListSignOffs lists those of askings, withdrawn ones included.
func (q Queries) ListSignOffs(ctx context.Context, askings []int64) ([]store.SignOff, error) {
	return db.List[store.SignOff](ctx, q, "sign_off_list", db.A{"askings": askings})
}

// AddEditionCheck adds an outcome with the files that came of it. It belongs in a transaction.
func (q Queries) AddEditionCheck(ctx context.Context, c store.EditionCheck, person int64, files []store.File) error {
	id, err := db.Value[int64](ctx, q, "edition_check_add", db.A{"edition": c.Edition, "name": c.Name,
		"passed": c.Passed, "figures": c.Figures, "text": c.Text, "link": c.Link, "person": person})
	for _, f := range files {
		if err != nil {
			return err
		}
		_, err = q.Exec(ctx, "check_file_add", db.A{"check": id, "path": f.Path, "size": f.Size, "digest": f.Digest,
			"chunks": f.Chunks})
	}
	return err
}

// CheckFiles lists the files of checks.
func (q Queries) CheckFiles(ctx context.Context, checks []int64) ([]store.CheckFile, error) {
	return db.List[store.CheckFile](ctx, q, "check_files", db.A{"checks": checks})
}

// ListEditionChecks lists the latest outcome of each check on editions.
func (q Queries) ListEditionChecks(ctx context.Context, editions []int64) ([]store.EditionCheck, error) {
	return db.List[store.EditionCheck](ctx, q, "edition_check_list", db.A{"editions": editions})
}

// ListOutcomes lists the latest outcome of each check on editions by each who reported it and is still here.
func (q Queries) ListOutcomes(ctx context.Context, editions []int64) ([]store.EditionOutcome, error) {
	return db.List[store.EditionOutcome](ctx, q, "edition_outcomes", db.A{"editions": editions})
}

func orList(list json.RawMessage) json.RawMessage {
	if list == nil {
		return json.RawMessage("[]")
	}
	return list
}

// PutConsumer keeps that an edition is used at a place.
func (q Queries) PutConsumer(ctx context.Context, model, edition, person int64, place string) error {
	_, err := q.Exec(ctx, "consumer_put", db.A{"model": model, "place": place, "edition": edition, "person": person})
	return err
}

// DropConsumer forgets a place, and reports whether it was known.
func (q Queries) DropConsumer(ctx context.Context, model int64, place string) (bool, error) {
	n, err := q.Exec(ctx, "consumer_drop", db.A{"model": model, "place": place})
	return n > 0, err
}

// ListConsumers lists who uses which edition of models.
func (q Queries) ListConsumers(ctx context.Context, models ...int64) ([]store.Consumer, error) {
	return db.List[store.Consumer](ctx, q, "consumer_list", db.A{"models": models})
}

// Approvers are the names of people who may sign off what a project's models wait for, at most 100.
func (q Queries) Approvers(ctx context.Context, project string) ([]string, error) {
	return db.Values[string](ctx, q, "approvers", db.A{"project": project})
}
