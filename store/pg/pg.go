package pg

import (
	"context"
	"errors"

	"kembrel/store/pg/act"
	"kembrel/store/pg/catalogue"
	"kembrel/store/pg/checkpoints"
	"kembrel/store/pg/curves"
	"kembrel/store/pg/datasets"
	"kembrel/store/pg/db"
	"kembrel/store/pg/entering"
	"kembrel/store/pg/evaluations"
	"kembrel/store/pg/files"
	"kembrel/store/pg/finding"
	"kembrel/store/pg/judging"
	"kembrel/store/pg/lineage"
	"kembrel/store/pg/people"
	"kembrel/store/pg/projects"
	"kembrel/store/pg/runs"
	"kembrel/store/pg/searches"
	"kembrel/store/pg/sheets"
	"kembrel/store/pg/subscriptions"
	"kembrel/store/pg/weights"
	"kembrel/store/pg/work"
)

type (
	ofAct         = act.Queries
	ofPeople      = people.Queries
	ofProjects    = projects.Queries
	ofRuns        = runs.Queries
	ofFinding     = finding.Queries
	ofCurves      = curves.Queries
	ofJudging     = judging.Queries
	ofCheckpoints = checkpoints.Queries
	ofWeights     = weights.Queries
	ofSearches    = searches.Queries
	ofDatasets    = datasets.Queries
	ofSheets      = sheets.Queries
	ofEvaluations = evaluations.Queries
	ofFiles       = files.Queries
	ofLineage     = lineage.Queries
	ofCatalogue   = catalogue.Queries

	ofSubscriptions = subscriptions.Queries
	ofEntering      = entering.Queries
	ofWork          = work.Queries

	news   = act.Store
	engine = curves.Store
)

// Queries are those of all slices, on the connections or in a transaction.
type Queries struct {
	db.Q
	ofAct
	ofPeople
	ofProjects
	ofRuns
	ofFinding
	ofCurves
	ofJudging
	ofCheckpoints
	ofWeights
	ofSearches
	ofDatasets
	ofSheets
	ofEvaluations
	ofFiles
	ofLineage
	ofCatalogue
	ofSubscriptions
	ofEntering
	ofWork
}

func queries(q db.Q) Queries {
	return Queries{Q: q, ofAct: act.Queries{Q: q}, ofPeople: people.Queries{Q: q}, ofProjects: projects.Queries{Q: q},
		ofRuns: runs.Queries{Q: q}, ofFinding: finding.Queries{Q: q}, ofCurves: curves.Queries{Q: q},
		ofJudging: judging.Queries{Q: q}, ofCheckpoints: checkpoints.Queries{Q: q}, ofWeights: weights.Queries{Q: q},
		ofSearches: searches.Queries{Q: q}, ofDatasets: datasets.Queries{Q: q},
		ofSheets: sheets.Queries{Q: q}, ofEvaluations: evaluations.Queries{Q: q},
		ofFiles: files.Queries{Q: q}, ofLineage: lineage.Queries{Q: q},
		ofCatalogue: catalogue.Queries{Q: q}, ofSubscriptions: subscriptions.Queries{Q: q},
		ofEntering: entering.Queries{Q: q}, ofWork: work.Queries{Q: q}}
}

// Store is a database with Kembrel's tables.
type Store struct {
	*db.DB
	Queries
	*news
	*engine
}

// Open connects to the database at url and waits for nothing: an unreachable database is an error.
func Open(ctx context.Context, url string) (*Store, error) {
	d, err := db.Open(ctx, url, db.Files, act.Files, people.Files, projects.Files, runs.Files, finding.Files,
		curves.Files, judging.Files, checkpoints.Files, weights.Files, searches.Files,
		datasets.Files, sheets.Files, evaluations.Files, files.Files, lineage.Files,
		catalogue.Files, subscriptions.Files, entering.Files, work.Files)
	if err != nil {
		return nil, err
	}
	return &Store{DB: d, Queries: queries(d.Q), news: &act.Store{DB: d}, engine: curves.New(d)}, nil
}

// Close ends all connections. Nothing may be asked of the store after.
func (s *Store) Close() {
	s.engine.Close()
	s.DB.Close()
}

// Migrate brings the tables to this version, from another cluster too. Where another role keeps the events, whose
// address is keeper, they belong to the service's meanwhile only; "": none does.
func (s *Store) Migrate(ctx context.Context, keeper string) error {
	if keeper == "" {
		return s.migrate(ctx)
	}
	k := act.Keeper{URL: keeper}
	if err := k.Open(ctx, s.news); err != nil {
		return err
	}
	err := s.migrate(ctx)
	return errors.Join(err, k.Close(context.WithoutCancel(ctx), s.news))
}

func (s *Store) migrate(ctx context.Context) error {
	if err := s.DB.Migrate(ctx); err != nil {
		return err
	}
	return s.news.Arrive(ctx)
}

// InTx runs do in a transaction that is committed if do returns nil.
func (s *Store) InTx(ctx context.Context, do func(q Queries) error) error {
	return s.DB.InTx(ctx, func(q db.Q) error { return do(queries(q)) })
}
