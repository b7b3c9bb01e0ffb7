package main

import (
	"context"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store/pg/db"
)

// fleetRuns is how many runs the project of the run list has.
const fleetRuns = 100_000

// fillFleet makes a project of many runs straight in the database, each with eight hyperparameters and four curves.
func (w *world) fillFleet(ctx context.Context) error {
	if w.fleet {
		return nil
	}
	in := &api.NewProject{}
	in.Body.Key = "fleet"
	if _, err := client.Call(ctx, w.client, api.CreateProject, in); err != nil {
		return err
	}
	p, err := w.db.ProjectByKey(ctx, "fleet")
	if err != nil {
		return err
	}
	for _, text := range []string{
		fmt.Sprintf(`insert into run (project, number, key, title, state, creator, host, started, ended) select %d, n, gen_random_uuid(), 'net ' || n %% 97, (array['finished', 'stopped', 'failed'])[1 + n %% 3]::run_state,
			%d, 'hydra-' || n %% 5, now() - n * interval '1 minute', now() - n * interval '1 minute' + interval '5 minutes' from generate_series(1, %d) n`, p.ID, w.person, fleetRuns),
		fmt.Sprintf(`update project set runs = %d where id = %d`, fleetRuns, p.ID),
		fmt.Sprintf(`insert into hyper (run, name, value) select r.id, h.name, h.value from run r cross join lateral (values ('lr', to_jsonb(round(power(10, -1 - 3 * random())::numeric, 6))), ('batch', to_jsonb(16 * (1 + r.number %% 8))),
			('dropout', to_jsonb(round(random()::numeric, 2))), ('seed', to_jsonb(r.number)), ('optimiser', to_jsonb((array['adam', 'momentum'])[1 + r.number %% 2])), ('layers', '[384, 64, 6]'::jsonb), ('epochs', '30'::jsonb), ('clips', '7680'::jsonb)) h(name, value) where r.project = %d`, p.ID),
		fmt.Sprintf(`insert into leg (run, number, key, recorder, state, started, ended, last_step, last_epoch) select id, 1, gen_random_uuid(), gen_random_uuid(), 'finished', started, ended, 3000, 30 from run where project = %d`, p.ID),
		fmt.Sprintf(`insert into curve (run, id, name) select r.id, c.id, c.name from run r cross join (values (1, 'loss.train'), (2, 'loss.val'), (3, 'accuracy.train'), (4, 'accuracy.val')) c(id, name) where r.project = %d`, p.ID),
		fmt.Sprintf(`insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch, last_time, last_value, low_step, low_epoch, low_time, low_value, high_step, high_epoch, high_time, high_value, sketch_every, sketch)
			select r.id, c.id, 30, 0, 0, 3000, 30, 1, v + 0.1, 2000, 20, 1, v, 100, 1, 1, v + 1, 1, '' from run r cross join generate_series(1, 4) c(id) cross join lateral (select random() + r.id * 0 + c.id * 0 as v) x where r.project = %d`, p.ID),
		fmt.Sprintf(`update run r set best = s.low_value from curve c, curve_summary s where r.project = %d and c.run = r.id and c.name = 'loss.val' and s.run = c.run and s.curve = c.id`, p.ID),
		`analyze run`, `analyze hyper`, `analyze curve`, `analyze curve_summary`, `analyze leg`,
	} {
		if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
			return fmt.Errorf("%.60s: %w", text, err)
		}
	}
	w.fleet = true
	return nil
}

// runList measures a page of the run list over HTTP, in milliseconds.
func (w *world) runList(what, want, where, sort string, page int) row {
	ctx := context.Background()
	read := func() (float64, error) {
		if err := w.fillFleet(ctx); err != nil {
			return 0, err
		}
		in := &api.RunsInput{ProjectInput: api.ProjectInput{Project: "fleet"}, PageInput: api.PageInput{Limit: 50},
			RunChoice: api.RunChoice{Where: where, Sort: sort}}
		var took time.Duration
		for range page {
			began := time.Now()
			found, err := client.Call(ctx, w.client, api.ListRuns, in)
			if err != nil {
				return 0, err
			}
			if took = time.Since(began); len(found.Items) != 50 {
				return 0, fmt.Errorf("%d runs came", len(found.Items))
			}
			in.Cursor = found.Next
		}
		return float64(took.Microseconds()) / 1000, nil
	}
	return row{what: "run list of 100,000 runs, " + what, reference: "(itself)", unit: "ms", want: want, rounds: 7,
		theirs: read, ours: read}
}

// fleetCall measures a call on the project of many runs, in milliseconds.
func (w *world) fleetCall(what, want string, do func(ctx context.Context) error) row {
	ctx := context.Background()
	read := func() (float64, error) {
		if err := w.fillFleet(ctx); err != nil {
			return 0, err
		}
		began := time.Now()
		err := do(ctx)
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	return row{what: what, reference: "(itself)", unit: "ms", want: want, rounds: 7, theirs: read, ours: read}
}

// fleetRows are what a table of 100,000 runs asks for as one moves in it, and what comparing some of them takes.
func (w *world) fleetRows() []row {
	fleet := api.ProjectInput{Project: "fleet"}
	choice := api.RunChoice{Where: "hyper.lr <= 0.01", Sort: "best"}
	landmarks := func(ctx context.Context) (*api.Landmarks, error) {
		return client.Call(ctx, w.client, api.ListLandmarks,
			&api.LandmarksInput{ProjectInput: fleet, RunChoice: choice, Every: 100})
	}
	middle := ""
	compared := api.CompareInput{ProjectInput: fleet}
	for n := range 9 {
		compared.Runs = append(compared.Runs, 1000+n)
	}
	weighed := api.CompareInput{ProjectInput: fleet, RunChoice: api.RunChoice{Where: "number <= 500"}}
	return []row{
		w.fleetCall("landmarks of 100,000 runs, hyper.lr <= 0.01, by best", "", func(ctx context.Context) error {
			found, err := landmarks(ctx)
			if err == nil {
				middle = found.Cursors[len(found.Cursors)/2]
			}
			return err
		}),
		w.fleetCall("run list of 100,000 runs, the same, from its middle, with 4 columns", "<= 100 ms (50)",
			func(ctx context.Context) error {
				_, err := client.Call(ctx, w.client, api.ListRuns,
					&api.RunsInput{ProjectInput: fleet, PageInput: api.PageInput{Limit: 100, Cursor: middle},
						RunChoice: choice,
						Columns:   `hyper.lr,hyper.dropout,best("accuracy.val"),last("loss.train")`})
				return err
			}),
		w.fleetCall("nine of 100,000 runs compared", "", func(ctx context.Context) error {
			_, err := client.Call(ctx, w.client, api.Compare, &compared)
			return err
		}),
		w.fleetCall("what mattered in 500 runs", "", func(ctx context.Context) error {
			_, err := client.Call(ctx, w.client, api.GetMattered, &api.InfluenceInput{CompareInput: weighed})
			return err
		}),
	}
}
