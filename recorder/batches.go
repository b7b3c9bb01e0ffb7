package recorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/core/hyper"
	"kembrel/core/space"
	"kembrel/recorder/spool"
)

// What the service refuses for good is set aside item by item: it stays in the spool's file "refused", the run and the
// person are told, and everything else is sent.

// pending is a batch being gathered from records.
type pending struct {
	batch   api.Batch
	builder curve.Builder
	records []spool.Record
}

// add takes a record into the batch. Curves that the service does not take are left out of it, and so is what this
// version cannot read.
func (s *sender) add(p *pending, r spool.Record) {
	p.records = append(p.records, r)
	p.batch.Upto = r.Number
	var err error
	switch r.Kind {
	case spool.Readings:
		var names []string
		var batch curve.Batch
		if names, batch, err = decodeReadings(r.Body); err == nil {
			if names, batch = s.wanted(names, batch); len(names) > 0 {
				p.builder.Add(names, batch)
			}
		}
	case spool.Hyper:
		values := map[string]json.RawMessage{}
		if err = json.Unmarshal(r.Body, &values); err == nil {
			good, bad := hyper.Clean(values)
			s.sayBad(bad)
			if p.batch.Hyper == nil {
				p.batch.Hyper = map[string]json.RawMessage{}
			}
			maps.Copy(p.batch.Hyper, good)
		}
	case spool.Program:
		err = json.Unmarshal(r.Body, &p.batch.Says)
	case spool.Data:
		var u api.DataUse
		if err = json.Unmarshal(r.Body, &u); err == nil {
			p.batch.Data = append(p.batch.Data, u)
		}
	case spool.Note:
		var n api.NewNote
		if err = json.Unmarshal(r.Body, &n); err == nil {
			p.batch.Notes = append(p.batch.Notes, n)
		}
	default:
		err = fmt.Errorf("it is of kind %d, which this version does not know", r.Kind)
	}
	if err != nil {
		s.keepAside(r, err)
	}
}

// sayBad tells of hyperparameters that cannot be kept.
func (s *sender) sayBad(bad map[string]error) {
	for _, name := range slices.Sorted(maps.Keys(bad)) {
		text := fmt.Sprintf("The hyperparameter %.100q is not kept: %v.", name, bad[name])
		if s.told(text) {
			s.say("%s", text)
			s.remark(text)
		}
	}
}

// told reports whether a text has not been said before.
func (s *sender) told(text string) (fresh bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.warned == nil {
		s.warned = map[string]bool{}
	}
	fresh = !s.warned[text]
	s.warned[text] = true
	return fresh
}

// keepAside keeps a record that is not sent.
func (s *sender) keepAside(r spool.Record, why error) {
	what := sayRecord(r)
	s.say("%s cannot be sent: %v; it stays in the spool, the rest is sent", what, problemOf(why))
	if err := s.spool.SetAside(r); err != nil {
		s.say("it could not be set aside: %v", withoutPath(err))
	}
	s.putAside(fmt.Errorf("%s: %w", what, why))
}

// wanted leaves out the columns of curves that the service refused.
func (s *sender) wanted(names []string, b curve.Batch) ([]string, curve.Batch) {
	if len(s.refusedCurves) == 0 {
		return names, b
	}
	var some []string
	out := curve.Batch{Axis: b.Axis}
	for i, name := range names {
		if s.refusedCurves[name] == nil {
			c := b.Columns[i]
			c.Curve = len(some)
			some, out.Columns = append(some, name), append(out.Columns, c)
		}
	}
	return some, out
}

// gathered makes a batch of records.
func (s *sender) gathered(records []spool.Record) (p pending) {
	for _, r := range records {
		s.add(&p, r)
	}
	return p
}

// ofItem reports whether a refusal is about what was sent, so that the rest may be taken without it, not about who
// sends or where to.
func ofItem(err error) bool {
	for _, kind := range []api.Kind{api.Invalid, api.Malformed, api.TooLarge, api.Conflict, api.Mismatch, api.BadMedia,
		api.Precondition, api.Internal, api.TooSlow, api.NotAllowed, api.Gone} {
		if api.Is(err, kind) {
			return true
		}
	}
	return false
}

// faultTries is how often something is sent again at which the service fails by a fault of its own, before it is taken
// as refused.
const faultTries = 5

// tryItem is try for what may be at fault itself: a service that fails at it again and again while it answers otherwise
// refuses it.
func (s *sender) tryItem(ctx context.Context, call func(context.Context) error) error {
	return s.tryItemWithin(ctx, callTime, call)
}

// tryItemWithin is tryItem with a limit of its own to a call.
func (s *sender) tryItemWithin(ctx context.Context, limit time.Duration, call func(context.Context) error) error {
	faults := 0
	var fault error
	err := s.tryWithin(ctx, limit, func(ctx context.Context) error {
		err := call(ctx)
		if api.Is(err, api.Internal) || api.Is(err, api.TooSlow) || slow(err) && s.answers() {
			if faults++; faults >= faultTries {
				fault = err
				return nil
			}
		}
		return err
	})
	if err == nil {
		err = fault
	}
	return err
}

// slow reports whether a call took longer than it may.
func slow(err error) bool { return errors.Is(err, context.DeadlineExceeded) }

// answers reports whether the service answers at all: then a call that took too long is at fault itself.
func (s *sender) answers() bool {
	ctx, cancel := context.WithTimeout(context.Background(), lifePace)
	defer cancel()
	_, err := client.Call(ctx, s.connect(), api.GetReady, &struct{}{})
	return err == nil
}

// sendBatch sends a batch. inStep is false where the service has counted otherwise than this process thought, as after
// a crash on either side: then the records are to be read again from the beginning. A batch that is refused is divided
// until what is at fault stands alone.
func (s *sender) sendBatch(ctx context.Context, p pending) (inStep bool, err error) {
	if fresh, err := s.nameCurves(ctx, p.builder.Names); err != nil {
		return false, err
	} else if fresh { // some were refused
		p = s.gathered(p.records)
	}
	inStep, err = s.sendWhole(ctx, p)
	if !ofItem(err) {
		return inStep, err
	}
	if len(p.records) == 1 {
		return s.refuse(ctx, p.records[0], err)
	}
	half := len(p.records) / 2
	for _, part := range [][]spool.Record{p.records[:half], p.records[half:]} {
		if inStep, err := s.sendBatch(ctx, s.gathered(part)); err != nil || !inStep {
			return inStep, err
		}
	}
	return true, nil
}

func (s *sender) sendWhole(ctx context.Context, p pending) (inStep bool, err error) {
	s.pack(&p)
	p.batch.Number = s.counted.Batch + 1
	in := &api.BatchInput{LegInput: s.leg, Body: p.batch}
	var counted *api.Counted
	err = s.tryItem(ctx, func(ctx context.Context) (err error) {
		counted, err = client.Call(ctx, s.via(), api.SendBatch, in)
		return err
	})
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Kind() == api.BatchGap {
		counted, err = &api.Counted{Leg: s.leg.Leg, Batch: problem.Batch, Upto: problem.Upto}, nil
	}
	if api.Is(err, api.LegClaimed) {
		s.advise(err.Error())
	}
	if err != nil {
		return false, fmt.Errorf("send batch %d: %w", p.batch.Number, err)
	}
	inStep = counted.Batch == p.batch.Number && counted.Upto == p.batch.Upto
	s.counted = *counted
	if inStep {
		s.readings.Add(int64(p.builder.Len()))
		for _, r := range p.records {
			if r.Kind != spool.Readings {
				s.others.Add(1)
			}
		}
	}
	s.change(func(st *spool.State) { st.Batch, st.Upto = counted.Batch, counted.Upto })
	return inStep, nil
}

// pack makes the readings ready to be kept as they are. Those of one enormous message are spelt out instead, as packing
// bounds what is decoded at once.
func (s *sender) pack(p *pending) {
	batch := p.builder.Batch()
	if len(batch.Axis) == 0 {
		return
	}
	numbered := curve.Batch{Axis: batch.Axis, Columns: slices.Clone(batch.Columns)}
	for i, name := range p.builder.Names {
		numbered.Columns[i].Curve = s.numbers[name]
	}
	if p.batch.Packed = curve.AppendJournal(nil, numbered); len(p.batch.Packed) > api.MaxPacked {
		p.batch.Packed = nil
		p.batch.Axis, p.batch.Curves = api.ToBatch(p.builder.Names, batch)
	}
}

// refuse sets a record aside that the service refuses for good. In its place goes a note that says so.
func (s *sender) refuse(ctx context.Context, r spool.Record, why error) (inStep bool, err error) {
	text := fmt.Sprintf("The service refused %s: %v. It is kept in the spool %s on the machine that recorded it.",
		sayRecord(r), problemOf(why), filepath.Base(s.spool.Folder))
	s.keepAside(r, why)
	// without words where even they are refused
	for _, notes := range [][]api.NewNote{{{At: time.Now(), Text: clip(text, 9000)}}, nil} {
		p := pending{records: []spool.Record{r}}
		p.batch.Upto, p.batch.Notes = r.Number, notes
		if inStep, err = s.sendWhole(ctx, p); !ofItem(err) {
			return inStep, err
		}
	}
	return inStep, err
}

// sayRecord names what a record holds.
func sayRecord(r spool.Record) string {
	switch r.Kind {
	case spool.Readings:
		if names, b, err := decodeReadings(r.Body); err == nil {
			return fmt.Sprintf("readings of %d curves, steps %d to %d", len(names), b.Axis[0].Step,
				b.Axis[len(b.Axis)-1].Step)
		}
	case spool.Hyper:
		return "hyperparameters"
	case spool.Program:
		return "what the program says of itself"
	case spool.Note:
		return "a note"
	case spool.Data:
		return "what data it uses"
	}
	return fmt.Sprintf("record %d", r.Number)
}

// problemOf is what the service said, without what was being done.
func problemOf(err error) string {
	var p *api.Problem
	if errors.As(err, &p) {
		return p.Error()
	}
	return err.Error()
}

func clip(text string, most int) string {
	if len(text) > most {
		return text[:most]
	}
	return text
}

// putAside remembers that something stays in the spool.
func (s *sender) putAside(why error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.aside = why
}

// nameCurves asks once for the numbers of curves. One that the service does not take is left out from now on, which the
// run is told; fresh says that there was such.
func (s *sender) nameCurves(ctx context.Context, names []string) (fresh bool, err error) {
	var unknown []string
	for _, n := range names {
		if s.numbers[n] == 0 {
			unknown = append(unknown, n)
		}
	}
	if len(unknown) == 0 {
		return false, nil
	}
	err = s.nameSome(ctx, unknown)
	if api.Is(err, api.LegClaimed) {
		s.advise(err.Error())
	}
	if !ofItem(err) {
		return false, err
	}
	for _, name := range unknown { // which of them?
		err := s.nameSome(ctx, []string{name})
		if err != nil && !ofItem(err) {
			return fresh, err
		}
		if err != nil {
			s.refusedCurves[name], fresh = err, true
			s.say("the service refuses the curve %q for good: %v; its readings are left out", name, problemOf(err))
			s.remark(fmt.Sprintf("The service refused the curve %q: %v. Its readings are left out; the spool %s on the machine that recorded them keeps them.", name, problemOf(err), filepath.Base(s.spool.Folder)))
			s.putAside(fmt.Errorf("curve %q: %w", name, err))
		}
	}
	return fresh, nil
}

func (s *sender) nameSome(ctx context.Context, names []string) error {
	in := &api.CurveNames{LegInput: s.leg}
	in.Body.Names = names
	err := s.tryItem(ctx, func(ctx context.Context) error {
		out, err := client.Call(ctx, s.via(), api.NameCurves, in)
		if err == nil && len(out.Curves) == len(names) {
			for i, n := range names {
				s.numbers[n] = out.Curves[i]
			}
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("name curves: %w", err)
	}
	return nil
}

// remark leaves a note on the run, with the next batch. It is made of what is sent, so it is not spooled.
func (s *sender) remark(text string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.remarks = append(s.remarks, api.NewNote{At: time.Now(), Text: clip(text, 9000)})
}

// sendRemarks sends what is to be remarked, as a batch of its own that counts no record.
func (s *sender) sendRemarks(ctx context.Context) error {
	s.mutex.Lock()
	notes := s.remarks
	s.remarks = nil
	s.mutex.Unlock()
	if len(notes) == 0 {
		return nil
	}
	if s.counted.Upto == 0 { // a batch counts a record at least: with the first
		s.mutex.Lock()
		s.remarks = append(notes, s.remarks...)
		s.mutex.Unlock()
		return nil
	}
	p := pending{}
	p.batch.Upto, p.batch.Notes = s.counted.Upto, notes
	if _, err := s.sendWhole(ctx, p); err != nil && !ofItem(err) {
		return err
	}
	return nil
}

// beginRun makes the run. What of its description the service refuses is left out, and told.
func (s *sender) beginRun(ctx context.Context) (number int, err error) {
	l := s.spool.Leg
	start := &api.NewRun{ProjectInput: api.ProjectInput{Project: l.Project}, Key: l.RunKey}
	b := &start.Body
	good, bad := hyper.Clean(l.Hyper)
	s.sayBad(bad)
	b.Title, b.Hyper, b.Recipe, b.Started, b.Stop, b.Origin = l.Title, good, l.Recipe, l.Started, l.Stop, l.Origin
	b.Place = l.Place
	call := func() error {
		return s.tryItem(ctx, func(ctx context.Context) error {
			run, err := client.Call(ctx, s.via(), api.BeginRun, start)
			if err == nil {
				number = run.Number
			}
			return err
		})
	}
	err = call()
	for _, part := range []struct {
		name string
		drop func()
	}{
		{"its origin", func() { b.Origin = nil }}, {"its stop rule", func() { b.Stop = nil }},
		{"its hyperparameters", func() { b.Hyper = nil }}, {"its title", func() { b.Title = "" }},
		{"its place in the search", func() { b.Place = space.Place{} }},
		{"its recipe", func() { b.Recipe = api.Recipe{Command: []string{}} }},
	} {
		if !ofItem(err) && !(api.Is(err, api.NotFound) && b.Origin != nil) { // the run that it comes from may be gone
			break
		}
		before := *b
		why := err
		part.drop()
		if err = call(); err == nil {
			s.say("the service refuses %s for good: %v; the run is without", part.name, problemOf(why))
			s.remark(fmt.Sprintf("The service refused %s: %v. The run is without; the spool %s on the machine that recorded it keeps it.", part.name, problemOf(why), filepath.Base(s.spool.Folder)))
			s.putAside(fmt.Errorf("%s: %w", part.name, why))
		} else if part.name != "its recipe" && !ofItem(err) {
			*b = before
		}
	}
	return number, err
}
