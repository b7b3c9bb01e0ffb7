package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store/pg/db"
)

// sizes are how many runs projects have that are looked at: what people open must not take longer as one grows.
var sizes = []int{100, 1_000, 10_000, 100_000, 1_000_000}

// fillGrown makes a project of n runs straight in the database, each with two hyperparameters and a curve.
func (w *world) fillGrown(ctx context.Context, n int) (api.ProjectInput, error) {
	at := api.ProjectInput{Project: fmt.Sprintf("grown-%d", n)}
	if w.grown[n] {
		return at, nil
	}
	in := &api.NewProject{}
	in.Body.Key = at.Project
	if _, err := client.Call(ctx, w.client, api.CreateProject, in); err != nil {
		return at, err
	}
	p, err := w.db.ProjectByKey(ctx, at.Project)
	if err != nil {
		return at, err
	}
	for _, text := range []string{
		fmt.Sprintf(`insert into run (project, number, key, title, state, creator, host, started, ended) select %d, n, gen_random_uuid(), 'net ' || n %% 97, (array['finished', 'stopped', 'failed'])[1 + n %% 3]::run_state,
			%d, 'hydra-' || n %% 5, now() - n * interval '1 minute', now() - n * interval '1 minute' + interval '5 minutes' from generate_series(1, %d) n`, p.ID, w.person, n),
		fmt.Sprintf(`update project set runs = %d where id = %d`, n, p.ID),
		fmt.Sprintf(`insert into hyper (run, name, value) select r.id, h.name, h.value from run r cross join lateral (values ('lr', to_jsonb(round(power(10, -1 - 3 * random())::numeric, 6))), ('seed', to_jsonb(r.number))) h(name, value) where r.project = %d`, p.ID),
		fmt.Sprintf(`insert into leg (run, number, key, recorder, state, started, ended, last_step, last_epoch, open) select id, 1, gen_random_uuid(), gen_random_uuid(), 'finished', started, ended, 3000, 30, false from run where project = %d`, p.ID),
		fmt.Sprintf(`insert into curve (run, id, name) select id, 1, 'loss.val' from run where project = %d`, p.ID),
		fmt.Sprintf(`insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch, last_time, last_value, low_step, low_epoch, low_time, low_value, high_step, high_epoch, high_time, high_value, sketch_every, sketch)
			select r.id, 1, 30, 0, 0, 3000, 30, 1, v + 0.1, 2000, 20, 1, v, 100, 1, 1, v + 1, 1, '' from run r cross join lateral (select random() + r.id * 0 as v) x where r.project = %d`, p.ID),
		fmt.Sprintf(`update run r set best = s.low_value, best_step = 2000 from curve_summary s where r.project = %d and s.run = r.id and s.curve = 1`, p.ID),
		`analyze run`, `analyze hyper`, `analyze curve`, `analyze curve_summary`, `analyze leg`,
	} {
		if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
			return at, fmt.Errorf("%.60s: %w", text, err)
		}
	}
	if err := w.db.GatherTally(ctx); err != nil {
		return at, err
	}
	if w.grown == nil {
		w.grown = map[int]bool{}
	}
	w.grown[n] = true
	return at, nil
}

// wideTable measures reading 60 columns of a page and of all runs of a project of 5,000, half of them hyperparameters
// and half figures of curves.
func (w *world) wideTable() []row {
	ctx := context.Background()
	at := api.ProjectInput{Project: "wide"}
	columns := ""
	for i := range 30 {
		columns += fmt.Sprintf("hyper.h%02d,last(\"c%02d\"),", i, i)
	}
	fill := func() error {
		if !w.wide {
			in := &api.NewProject{}
			in.Body.Key = at.Project
			if _, err := client.Call(ctx, w.client, api.CreateProject, in); err != nil {
				return err
			}
			p, err := w.db.ProjectByKey(ctx, at.Project)
			if err != nil {
				return err
			}
			for _, text := range []string{
				fmt.Sprintf(`insert into run (project, number, key, title, state, creator, started, ended) select %d, n, gen_random_uuid(), 'net', 'finished', %d, now(), now() from generate_series(1, 5000) n`, p.ID, w.person),
				fmt.Sprintf(`insert into hyper (run, name, value) select r.id, 'h' || to_char(h, 'FM00'), to_jsonb(h) from run r cross join generate_series(0, 29) h where r.project = %d order by r.id, h`, p.ID),
				fmt.Sprintf(`insert into curve (run, id, name) select r.id, c + 1, 'c' || to_char(c, 'FM00') from run r cross join generate_series(0, 29) c where r.project = %d order by r.id, c`, p.ID),
				fmt.Sprintf(`insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch, last_time, last_value, low_step, low_epoch, low_time, low_value, high_step, high_epoch, high_time, high_value, sketch_every, sketch)
					select r.id, c, 30, 0, 0, 3000, 30, 1, 1, 2000, 20, 1, 1, 100, 1, 1, 2, -1, '' from run r cross join generate_series(1, 30) c where r.project = %d order by r.id, c`, p.ID),
				`analyze run`, `analyze hyper`, `analyze curve`, `analyze curve_summary`,
			} {
				if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
					return fmt.Errorf("%.60s: %w", text, err)
				}
			}
			w.wide = true
		}
		return nil
	}
	page := func() (float64, error) {
		if err := fill(); err != nil {
			return 0, err
		}
		began := time.Now()
		in := &api.RunsInput{ProjectInput: at, PageInput: api.PageInput{Limit: 100}}
		in.Columns = strings.TrimSuffix(columns, ",")
		found, err := client.Call(ctx, w.client, api.ListRuns, in)
		if err == nil && (len(found.Items) != 100 || len(found.Items[0].Values) != 60) {
			err = fmt.Errorf("%d runs came", len(found.Items))
		}
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	whole := func() (float64, error) {
		if err := fill(); err != nil {
			return 0, err
		}
		began := time.Now()
		got, err := client.Stream(ctx, w.client, api.GetHistory,
			&api.HistoryInput{ProjectInput: at, Format: "csv", What: "runs", Columns: strings.TrimSuffix(columns, ",")})
		if err != nil {
			return 0, err
		}
		defer got.Close()
		n, err := io.Copy(io.Discard, got)
		if err == nil && n < 5000*60 {
			err = fmt.Errorf("%d bytes came", n)
		}
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	return []row{
		{what: "a project of 5,000 runs: a page of 100 with 60 columns", reference: "(itself)", unit: "ms",
			want: "<= 500 ms", rounds: 5, theirs: page, ours: page},
		{what: "a project of 5,000 runs: all of them with 60 columns, as CSV", reference: "(itself)", unit: "ms",
			want: "<= 500 ms", rounds: 5, theirs: whole, ours: whole},
	}
}

// greatSearch measures what is shown of searches of 10,000 trials, all of which have run.
func (w *world) greatSearch() (rows []row) {
	ctx := context.Background()
	at, number := api.ProjectInput{Project: "tried"}, 0
	fill := func() error {
		if number > 0 {
			return nil
		}
		project := &api.NewProject{}
		project.Body.Key = at.Project
		if _, err := client.Call(ctx, w.client, api.CreateProject, project); err != nil {
			return err
		}
		in := &api.NewSearch{ProjectInput: at, Key: uuid.NewString()}
		in.Body.Strategy, in.Body.Seed, in.Body.Budget, in.Body.Command = "random", 7, 10_000,
			[]string{"train", "--lr", "{lr}"}
		in.Body.Space = "space: 1\nhyperparameters:\n  lr: {real: [0.0001, 1], log: true}\n  hidden: {integer: [8, 512]}\n  dropout: {real: [0, 0.6]}\n  optimiser: {choice: [momentum, adam]}\n  momentum: {real: [0.8, 0.95], when: {optimiser: momentum}}\n"
		made, err := client.Call(ctx, w.client, api.CreateSearch, in)
		if err != nil {
			return err
		}
		p, err := w.db.ProjectByKey(ctx, at.Project)
		if err != nil {
			return err
		}
		for _, text := range []string{
			fmt.Sprintf(`insert into run (project, number, key, title, state, creator, started, ended, search, trial, best) select %d, n, gen_random_uuid(), 'net', 'finished', %d, now(), now(), %d, n, 1.0 / n from generate_series(1, 10000) n`, p.ID, w.person, made.Number),
			fmt.Sprintf(`insert into leg (run, number, key, recorder, state, started, ended, last_step, last_epoch, open) select id, 1, gen_random_uuid(), gen_random_uuid(), 'finished', started, ended, 3000, 30, false from run where project = %d`, p.ID),
			`analyze run`, `analyze leg`,
		} {
			if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
				return fmt.Errorf("%.60s: %w", text, err)
			}
		}
		number = made.Number
		return nil
	}
	add := func(what string, do func() error) {
		read := func() (float64, error) {
			if err := fill(); err != nil {
				return 0, err
			}
			began := time.Now()
			err := do()
			return float64(time.Since(began).Microseconds()) / 1000, err
		}
		rows = append(rows, row{what: "a search of 10,000 trials: " + what, reference: "(itself)", unit: "ms",
			want: "<= 300 ms", rounds: 7, theirs: read, ours: read})
	}
	add("shown with its trials", func() error {
		found, err := client.Call(ctx, w.client, api.GetSearch, &api.SearchInput{ProjectInput: at, Number: number})
		if err == nil && (len(found.Trials) != 10_000 || found.Trials[9_999].Best == nil) {
			err = fmt.Errorf("%d trials", len(found.Trials))
		}
		return err
	})
	add("in the list of searches", func() error {
		found, err := client.Call(ctx, w.client, api.ListSearches,
			&api.SearchesInput{ProjectInput: at, PageInput: api.PageInput{Limit: 50}})
		if err == nil && (len(found.Items) != 1 || found.Items[0].Count != 10_000) {
			err = fmt.Errorf("%d searches", len(found.Items))
		}
		return err
	})
	return rows
}

// grownRows are what people and recorders ask for, at each size.
func (w *world) grownRows() (rows []row) {
	ctx := context.Background()
	rows = append(append(rows, w.wideTable()...), w.greatSearch()...)
	for _, n := range sizes {
		add := func(what string, do func(at api.ProjectInput) error) {
			read := func() (float64, error) {
				at, err := w.fillGrown(ctx, n)
				if err != nil {
					return 0, err
				}
				began := time.Now()
				err = do(at)
				return float64(time.Since(began).Microseconds()) / 1000, err
			}
			rows = append(rows, row{what: fmt.Sprintf("a project of %d runs: %s", n, what), reference: "(itself)",
				unit: "ms", want: "<= 10 ms", rounds: 7, theirs: read, ours: read})
		}
		add("the first page of its runs", func(at api.ProjectInput) error {
			found, err := client.Call(ctx, w.client, api.ListRuns,
				&api.RunsInput{ProjectInput: at, PageInput: api.PageInput{Limit: 50}})
			if err == nil && len(found.Items) != 50 {
				err = fmt.Errorf("%d runs came", len(found.Items))
			}
			return err
		})
		add("the project", func(at api.ProjectInput) error {
			found, err := client.Call(ctx, w.client, api.GetProject, &at)
			if err == nil && (found.Runs < int64(n) || found.Best == nil) {
				err = fmt.Errorf("%d runs, best %v", found.Runs, found.Best)
			}
			return err
		})
		add("how its best moved", func(at api.ProjectInput) error {
			found, err := client.Call(ctx, w.client, api.GetImprovements,
				&api.ImprovementsInput{ProjectInput: at, Limit: 100})
			if err == nil && len(found.Items) == 0 {
				err = errors.New("no improvement came")
			}
			return err
		})
		add("the list of projects", func(api.ProjectInput) error {
			_, err := client.Call(ctx, w.client, api.ListProjects,
				&api.ProjectsInput{PageInput: api.PageInput{Limit: 100}})
			return err
		})
		add("a run", func(at api.ProjectInput) error {
			_, err := client.Call(ctx, w.client, api.GetRun, &api.RunInput{ProjectInput: at, Number: n / 2})
			return err
		})
		add("comparing 5 runs", func(at api.ProjectInput) error {
			_, err := client.Call(ctx, w.client, api.Compare,
				&api.CompareInput{ProjectInput: at, Runs: []int{1, n / 4, n / 2, n - 1, n}})
			return err
		})
		var leg api.LegInput
		sent := int64(0)
		add("a batch", func(at api.ProjectInput) error {
			if sent == 0 {
				begin := &api.NewRun{ProjectInput: at, Key: uuid.NewString()}
				begin.Body.Started = time.Now()
				run, err := client.Call(ctx, w.client, api.BeginRun, begin)
				if err != nil {
					return err
				}
				open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: at, Number: run.Number}, Key: uuid.NewString()}
				open.Body.Recorder, open.Body.Started = uuid.NewString(), time.Now()
				counted, err := client.Call(ctx, w.client, api.OpenLeg, open)
				if err != nil {
					return err
				}
				leg = api.LegInput{RunInput: open.RunInput, Leg: counted.Leg, Recorder: open.Body.Recorder}
			}
			sent++
			in := &api.BatchInput{LegInput: leg, Body: api.Batch{Number: sent, Upto: sent}}
			in.Body.Axis = api.Axis{Step: api.Ints{sent}, Epoch: api.Floats{0}, Time: api.Ints{time.Now().UnixMilli()}}
			in.Body.Curves = []api.Column{{Name: "loss.val", Values: api.Floats{1}}}
			_, err := client.Call(ctx, w.client, api.SendBatch, in)
			return err
		})
	}
	return rows
}
