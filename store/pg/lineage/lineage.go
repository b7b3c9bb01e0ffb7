package lineage

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// lists are keys as the queries take them.
func lists(keys []store.LineageKey) db.A {
	snapshots, runs := []int64{}, []int64{}
	pointRuns, points, foundRuns, founds := []int64{}, []int64{}, []int64{}, []int64{}
	editions := []int64{}
	for _, k := range keys {
		switch k.Kind {
		case "snapshot":
			snapshots = append(snapshots, k.ID)
		case "run":
			runs = append(runs, k.Run)
		case "checkpoint":
			pointRuns, points = append(pointRuns, k.Run), append(points, k.ID)
		case "edition":
			editions = append(editions, k.ID)
		case "evaluation":
			foundRuns, founds = append(foundRuns, k.Run), append(founds, k.ID)
		}
	}
	return db.A{"snapshots": snapshots, "runs": runs, "point_runs": pointRuns, "points": points,
		"found_runs": foundRuns, "founds": founds,
		"editions": editions}
}

// LineageUp lists what things were made with.
func (q Queries) LineageUp(ctx context.Context, keys []store.LineageKey) ([]store.LineageLink, error) {
	return db.List[store.LineageLink](ctx, q, "lineage_up", lists(keys))
}

// LineageDown lists what was made with things, in the projects that are seen: at most limit.
func (q Queries) LineageDown(ctx context.Context, seen store.Seen, keys []store.LineageKey,
	limit int) ([]store.LineageKey, error) {
	args := lists(keys)
	args["all"], args["open"], args["keys"], args["only"] = seen.All, seen.Open, seen.Keys, seen.Only
	args["limit"] = limit
	return db.List[store.LineageKey](ctx, q, "lineage_down", args)
}

// LineageNodes describes things, in no order.
func (q Queries) LineageNodes(ctx context.Context, keys []store.LineageKey) ([]store.LineageNode, error) {
	return db.List[store.LineageNode](ctx, q, "lineage_nodes", lists(keys))
}

// EditionNamed finds an edition and the project of its model.
func (q Queries) EditionNamed(ctx context.Context, model string, number int) (store.NamedEdition, error) {
	return db.One[store.NamedEdition](ctx, q, "edition_named", db.A{"model": model, "number": number})
}
