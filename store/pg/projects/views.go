package projects

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListViews lists a person's views of a project and the project's own, by name.
func (q Queries) ListViews(ctx context.Context, project, person int64) ([]store.View, error) {
	return db.List[store.View](ctx, q, "view_list", db.A{"project": project, "person": person})
}

// SetView keeps a view under a name; person nil: everybody's.
func (q Queries) SetView(ctx context.Context, project int64, person *int64, name, look string) (int64, error) {
	return db.Value[int64](ctx, q, "view_set", db.A{"project": project, "person": person, "name": name, "look": look})
}

// DropView drops a view; false where it is not the person's, nor everybody's (where that is enough).
func (q Queries) DropView(ctx context.Context, project, person, id int64, everybodys bool) (bool, error) {
	n, err := q.Exec(ctx, "view_drop", db.A{"project": project, "person": person, "id": id, "everybodys": everybodys})
	return n > 0, err
}
