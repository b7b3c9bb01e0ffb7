package catalogue

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/catalogue"
	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/store"
)

// toEdition shows an edition as far as its row says.
func toEdition(model string, row store.Edition) (api.Edition, error) {
	out := api.Edition{Address: catalogue.Address{Model: model, Edition: row.Number}.String(), Model: model,
		Number: row.Number, Origin: row.Origin, RunGone: row.Run == nil, Size: row.Size, Why: row.Why, Who: row.Who,
		Entered: row.Entered, Standings: []string{}, Checks: []api.EditionCheck{}}
	err := json.Unmarshal(row.Facts, &out.Facts)
	out.Warnings = warn(&out.Facts)
	return out, err
}

// warn says what a person who counts on an edition should know.
func warn(f *api.EditionFacts) (out []string) {
	for _, part := range []string{"architecture", "preprocess"} {
		if !slices.Contains(f.Parts, part) {
			out = append(out, "It has no part "+part+", so whoever uses it must know that from elsewhere.")
		}
	}
	if f.Clean != nil && !*f.Clean {
		out = append(out, "The code of its run was not all committed.")
	}
	return out
}

// dress adds to editions of a model the standings that they have and the outcomes of their checks.
func (s *Catalogue) dress(ctx context.Context, model store.Model, rows []store.Edition,
	out []api.Edition) error {
	ids, at := make([]int64, len(rows)), map[int64]*api.Edition{}
	for i, e := range rows {
		ids[i], at[e.ID] = e.ID, &out[i]
	}
	standings, err := s.db.ListStandings(ctx, model.ID)
	if err != nil {
		return err
	}
	for _, st := range standings {
		if e := at[act.Deref(st.Edition)]; e != nil {
			e.Standings = append(e.Standings, st.Name)
		}
	}
	waiting, err := s.db.ListAskings(ctx, []int64{model.ID}, 0, true, mostShown)
	if err != nil {
		return err
	}
	for _, a := range waiting {
		if e := at[a.Edition]; e != nil && !slices.Contains(e.Standings, catalogue.Proposed) {
			e.Standings = append(e.Standings, catalogue.Proposed)
		}
	}
	checks, err := s.db.ListEditionChecks(ctx, ids)
	if err != nil {
		return err
	}
	files, err := s.checkFiles(ctx, checks)
	for _, c := range checks {
		shown := api.EditionCheck{Name: c.Name, Passed: c.Passed, Text: c.Text, Link: c.Link, Who: c.Who, At: c.At}
		if err := json.Unmarshal(c.Figures, &shown.Figures); err != nil {
			return err
		}
		for _, f := range files[c.ID] {
			shown.Files = append(shown.Files, api.CheckFile{Path: f.Path, Size: f.Size,
				Digest: chunk.Digest(f.Digest).String()})
		}
		at[c.Edition].Checks = append(at[c.Edition].Checks, shown)
	}
	return err
}

// ListEditions lists the editions of a model, the latest first.
func (s *Catalogue) ListEditions(ctx context.Context, who act.Who,
	in *api.EditionsInput) (*api.Page[api.Edition], error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	below, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListEditions(ctx, m.ID, int(min(below, 1<<31-1)), in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Edition]{Items: make([]api.Edition, 0, len(rows))}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		out.Next = strconv.Itoa(rows[in.Limit-1].Number)
	}
	for _, r := range rows {
		shown, err := toEdition(m.Name, r)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, shown)
	}
	return out, s.dress(ctx, m, rows, out.Items)
}

// edition finds an edition of a model.
func (s *Catalogue) edition(ctx context.Context, who act.Who, in api.EditionInput) (store.Model, store.Edition, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return m, store.Edition{}, err
	}
	row, err := s.db.Edition(ctx, m.ID, in.Edition, 0)
	return m, row, act.OrNotFound(err, "there is no edition %s#%d", in.Model, in.Edition)
}

// GetEdition shows an edition with its files and its answers.
func (s *Catalogue) GetEdition(ctx context.Context, who act.Who, in *api.EditionInput) (*api.Edition, error) {
	m, row, err := s.edition(ctx, who, *in)
	if err != nil {
		return nil, err
	}
	return s.showEdition(ctx, who, m, row)
}

func (s *Catalogue) showEdition(ctx context.Context, who act.Who, m store.Model,
	row store.Edition) (*api.Edition, error) {
	shown, err := toEdition(m.Name, row)
	if err != nil {
		return nil, err
	}
	list := []api.Edition{shown}
	if err := s.dress(ctx, m, []store.Edition{row}, list); err != nil {
		return nil, err
	}
	out := &list[0]
	out.Tagged(row.Tag())
	files, err := s.db.EditionFiles(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		file := api.File{Part: f.Part, Path: f.Path, Size: f.Size, Digest: chunk.Digest(f.Digest).String()}
		pieces, err := chunk.Unpack(f.Chunks)
		if err != nil {
			return nil, err
		}
		for _, p := range pieces {
			file.Chunks = append(file.Chunks, api.Piece{Digest: p.Digest.String(), Size: p.Size})
		}
		out.Files = append(out.Files, file)
	}
	held, err := s.db.ListHoldings(ctx, m.ID, "", mostShown)
	if err != nil {
		return nil, err
	}
	for _, h := range held {
		if h.Edition == nil || *h.Edition != row.Number {
			continue
		}
		var signed []api.Signed
		if err := json.Unmarshal(h.Signed, &signed); err != nil {
			return nil, err
		}
		for _, by := range signed {
			out.SignOffs = append(out.SignOffs, api.SignedFor{Standing: h.Standing, Signed: by})
		}
	}
	out.Says, err = s.answers(ctx, who, m, row, out)
	return out, err
}

// OpenEditionFile opens a file of an edition for reading at any place, as OpenFile does with one of a checkpoint.
func (s *Catalogue) OpenEditionFile(ctx context.Context, who act.Who,
	in *api.EditionFileInput) (io.ReadSeeker, api.File, time.Time, error) {
	_, row, err := s.edition(ctx, who, in.EditionInput)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	found, since, err := s.fileOf(ctx, row, in)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	pieces, err := chunk.Unpack(found.Chunks)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	content := s.chunks.NewReader(ctx, in.Path, pieces)
	if err := content.Prime(act.RangeStart(in.Range)); err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	return content, api.File{Part: found.Part, Path: in.Path, Size: found.Size,
		Digest: chunk.Digest(found.Digest).String()}, since, nil
}

// fileOf finds a file of an edition, or of the latest outcome of a check on it, and since when it is there.
func (s *Catalogue) fileOf(ctx context.Context, row store.Edition, in *api.EditionFileInput) (found store.File,
	since time.Time, err error) {
	if in.Check == "" {
		files, err := s.db.EditionFiles(ctx, row.ID)
		for _, f := range files {
			if f.Path == in.Path {
				return f, row.Entered, nil
			}
		}
		if err == nil {
			err = api.Fail(api.NotFound, "%s#%d has no file %q", in.Model, in.Edition, in.Path)
		}
		return found, since, err
	}
	checks, err := s.db.ListEditionChecks(ctx, []int64{row.ID})
	if err != nil {
		return found, since, err
	}
	checks = slices.DeleteFunc(checks, func(c store.EditionCheck) bool { return c.Name != in.Check })
	files, err := s.checkFiles(ctx, checks)
	for _, c := range checks {
		for _, f := range files[c.ID] {
			if f.Path == in.Path {
				return store.File{Path: f.Path, Size: f.Size, Digest: f.Digest, Chunks: f.Chunks}, c.At, nil
			}
		}
	}
	if err == nil {
		err = api.Fail(api.NotFound, "no file %q came of the check %q on %s#%d", in.Path, in.Check, in.Model,
			in.Edition)
	}
	return found, since, err
}

// checkFiles are the files of checks, by the check's id.
func (s *Catalogue) checkFiles(ctx context.Context, checks []store.EditionCheck) (map[int64][]store.CheckFile, error) {
	ids := make([]int64, len(checks))
	for i, c := range checks {
		ids[i] = c.ID
	}
	all, err := s.db.CheckFiles(ctx, ids)
	out := map[int64][]store.CheckFile{}
	for _, f := range all {
		out[f.Check] = append(out[f.Check], f)
	}
	return out, err
}

// AddEdition enters a checkpoint. One that is in the model already is that edition.
func (s *Catalogue) AddEdition(ctx context.Context, who act.Who, in *api.NewEdition) (*api.Edition, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	addr, err := api.ParseAddress(in.Body.Origin)
	if err == nil && addr.At.Kind == api.AtNone {
		err = errors.New("a checkpoint is entered, such as vessels/17@best")
	}
	if err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if role, err := s.RoleOn(ctx, addr.Project); err != nil || role < api.Reader {
		return nil, act.NoProject(addr.Project)
	}
	if err := s.Need(ctx, api.Member, addr.Project); err != nil {
		return nil, err
	}
	at := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: addr.Project},
		Number: addr.Run}, At: addr.At.String()}
	point, files, id, err := s.checkpoints.FindHeld(ctx, at)
	if err != nil {
		return nil, err
	}
	addr.At = api.At{Kind: api.AtStep, Step: point.Step, Leg: point.Leg}
	at.At = addr.At.String()
	number, err := s.db.EditionOf(ctx, m.ID, addr.String())
	if err == nil {
		return s.entered(ctx, who, m, number, true)
	} else if !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	run, err := s.runs.RunID(ctx, at.RunInput)
	if err != nil {
		return nil, err
	}
	facts, err := s.facts(ctx, who, at, point, run, id)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(facts)
	if err != nil {
		return nil, err
	}
	digests := map[chunk.Digest]int64{}
	for _, f := range files {
		pieces, err := chunk.Unpack(f.Chunks)
		if err != nil {
			return nil, err
		}
		for _, p := range pieces {
			digests[p.Digest] = p.Size
		}
	}
	existed := false
	err = s.inTx(ctx, func(q Tx) error {
		if err := q.LockModel(ctx, m.ID); err != nil {
			return err
		}
		if number, err = q.EditionOf(ctx, m.ID, addr.String()); err == nil {
			existed = true
			return nil
		} else if !errors.Is(err, store.ErrNone) {
			return err
		}
		if err := act.UseChunks(ctx, q, digests); api.Is(err, api.Conflict) {
			return api.Fail(api.Conflict, "some bytes of %s are gone or damaged; kembrel blobs check says which",
				point.Address)
		} else if err != nil {
			return err
		}
		number, err = q.AddEdition(ctx, store.Edition{Model: m.ID, Origin: addr.String(), Run: &run, Facts: text,
			Size: point.Size, Why: act.Clean(in.Body.Why)}, who.ID, files)
		if err != nil {
			return err
		}
		return s.event(ctx, q, who, m, "entered", addressOf(m, number),
			map[string]any{"origin": addr.String()})
	})
	if err != nil {
		return nil, err
	}
	return s.entered(ctx, who, m, number, existed)
}

// entered shows an edition to who entered it.
func (s *Catalogue) entered(ctx context.Context, who act.Who, m store.Model, number int,
	existed bool) (*api.Edition, error) {
	row, err := s.db.Edition(ctx, m.ID, number, 0)
	if err != nil {
		return nil, err
	}
	out, err := s.showEdition(ctx, who, m, row)
	if err == nil {
		out.Existed = existed
	}
	return out, err
}

// facts are what is known of a checkpoint and its run at the moment.
func (s *Catalogue) facts(ctx context.Context, who act.Who, at api.CheckpointInput, point *api.Checkpoint, run,
	id int64) (*api.EditionFacts, error) {
	r, err := s.runs.GetRun(ctx, who, &at.RunInput)
	if err != nil {
		return nil, err
	}
	f := &api.EditionFacts{Run: r.Address, Title: r.Title, Who: r.Who, Started: r.Started, Step: point.Step,
		Epoch: point.Epoch, Objective: r.Objective, Figures: point.Figures, UsableFor: point.UsableFor,
		Parts: point.Parts, Hyper: r.Hyper, Commit: r.Recipe.Commit, Clean: r.Recipe.Clean,
		Command: r.Recipe.Command, Measured: map[string]map[string]api.Float{}, Data: map[string]string{}}
	for _, u := range r.Data {
		if u.Data != "" {
			f.Data[u.Use] = u.Data
		}
	}
	found, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Checkpoint: id, Limit: 100})
	if err != nil {
		return nil, err
	}
	ons := map[int64]string{}
	for _, e := range slices.Backward(found) { // the latest stands
		var measures map[string]api.Float
		if err := json.Unmarshal(e.Measures, &measures); err != nil {
			return nil, err
		}
		on := e.Data
		if on == "" {
			on = e.Split
		}
		f.Measured[on], ons[e.ID] = measures, on
	}
	sheets, err := s.db.EvaluationSheets(ctx, run, slices.Collect(maps.Keys(ons)))
	if err != nil {
		return nil, err
	}
	for _, sheet := range sheets {
		var alarms []assess.Alarm
		if json.Unmarshal(sheet.Alarms, &alarms) == nil && slices.ContainsFunc(alarms,
			func(a assess.Alarm) bool { return a.Kind == assess.InTraining }) &&
			!slices.Contains(f.TrainedOn, ons[sheet.Evaluation]) {
			f.TrainedOn = append(f.TrainedOn, ons[sheet.Evaluation])
		}
	}
	return f, nil
}

// mostCheckBytes bounds what comes of a check.
const mostCheckBytes = 1 << 30

// ReportCheck keeps the outcome of a check. What waits for it may take its standing by it.
func (s *Catalogue) ReportCheck(ctx context.Context, who act.Who, in *api.NewEditionCheck) (*api.Edition, error) {
	m, row, err := s.edition(ctx, who, in.EditionInput)
	if err != nil {
		return nil, err
	}
	b := &in.Body
	if b.Name = strings.Join(strings.Fields(act.Clean(b.Name)), " "); b.Name == "" {
		return nil, api.Fail(api.Invalid, "the check has no name")
	}
	if b.Link != "" {
		if u, err := url.Parse(b.Link); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return nil, api.Fail(api.Invalid,
				"the link %.100q is no address on the web: it begins with https:// or http://",
				b.Link)
		}
	}
	figures := map[string]api.Float{}
	for name, v := range b.Figures {
		figures[act.Clean(name)] = v
	}
	text, err := json.Marshal(figures)
	if err != nil {
		return nil, err
	}
	for i := range b.Files {
		b.Files[i].Part = "file"
	}
	files, chunks, size, err := act.ToFiles(b.Files)
	if err != nil {
		return nil, err
	}
	if size > mostCheckBytes {
		return nil, api.Fail(api.TooLarge, "the files have %s; those of a check have at most %s", api.Bytes(size),
			api.Bytes(mostCheckBytes))
	}
	if len(files) > 0 {
		if err := s.Safe(ctx, s.chunks, chunks); err != nil {
			return nil, err
		}
	}
	err = s.inTx(ctx, func(q Tx) error {
		if err := q.LockModel(ctx, m.ID); err != nil {
			return err
		}
		if err := s.Reports(ctx, q, who, addressOf(m, row.Number), "the check "+b.Name); err != nil {
			return err
		}
		if err := act.UseChunks(ctx, q, chunks); err != nil {
			return err
		}
		if err := q.AddEditionCheck(ctx, store.EditionCheck{Edition: row.ID, Name: b.Name, Passed: b.Passed,
			Figures: text, Text: act.Clean(b.Text), Link: act.Clean(b.Link)}, who.ID, files); err != nil {
			return err
		}
		outcome := "failed"
		if b.Passed {
			outcome = "passed"
		}
		if err := s.event(ctx, q, who, m, "checked", addressOf(m, row.Number),
			map[string]any{"check": b.Name, "outcome": outcome}); err != nil {
			return err
		}
		_, err := s.settle(ctx, q, who, m)
		return err
	})
	if err != nil {
		return nil, err
	}
	return s.entered(ctx, who, m, row.Number, false)
}

// ReportUse keeps where an edition is used.
func (s *Catalogue) ReportUse(ctx context.Context, who act.Who, in *api.NewUse) (*api.None, error) {
	m, row, err := s.edition(ctx, who, in.EditionInput)
	if err != nil {
		return nil, err
	}
	place := act.Clean(in.Body.Where)
	return nil, s.inTx(ctx, func(q Tx) error {
		if err := s.Reports(ctx, q, who, addressOf(m, row.Number), "the use at "+place); err != nil {
			return err
		}
		if in.Body.Ended {
			if gone, err := q.DropConsumer(ctx, m.ID, place); err != nil {
				return err
			} else if !gone {
				return api.Fail(api.NotFound, "nobody said that %s is used at %s", m.Name, place)
			}
		} else if err := q.PutConsumer(ctx, m.ID, row.ID, who.ID, place); err != nil {
			return err
		}
		verb := "used"
		if in.Body.Ended {
			verb = "no-longer-used"
		}
		return s.event(ctx, q, who, m, verb, addressOf(m, row.Number),
			map[string]any{"where": place})
	})
}

func addressOf(m store.Model, edition int) string {
	return catalogue.Address{Model: m.Name, Edition: edition}.String()
}
