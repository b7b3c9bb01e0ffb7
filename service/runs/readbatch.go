package runs

import (
	"context"
	"fmt"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
)

// readBatch is a batch in core's form.
type readBatch struct {
	curve.Batch
	names    []string // of the columns that came by name, else ""
	payload  []byte   // as it came, where it is kept so
	training int      // points that have more than the machine's readings
}

// toBatch checks a batch and turns it into core's form; fresh says that some of its names have no number yet.
func (s *Runs) toBatch(ctx context.Context, run int64, in api.Batch) (out readBatch, fresh bool, err error) {
	read := spelt
	if len(in.Packed) > 0 {
		read = unpacked
	}
	if out, err = read(in); err == nil {
		err = out.Check(0)
	}
	if err != nil {
		return readBatch{}, false, api.Fail(api.Invalid, "batch %d: %v", in.Number, err)
	}
	if late := act.Ahead(ctx).Milliseconds(); late != 0 {
		for i := range out.Axis {
			out.Axis[i].Time -= late
		}
		out.payload = nil // it has the sender's times
	}
	if len(out.Columns) > 0 {
		fresh, err = s.numberCurves(ctx, run, in.Number, &out)
	}
	return out, fresh, err
}

// unpacked reads a batch that the recorder packed.
func unpacked(in api.Batch) (out readBatch, err error) {
	if len(in.Axis.Step)+len(in.Curves) > 0 || len(in.Packed) > api.MaxPacked {
		return out, fmt.Errorf("packed readings have at most %d bytes, and no axis and curves beside them",
			api.MaxPacked)
	}
	out.Batch, err = curve.DecodeJournal(in.Packed)
	out.payload, out.names = in.Packed, make([]string, len(out.Columns))
	return out, err
}

// spelt reads a batch whose axis and curves are spelt out.
func spelt(in api.Batch) (out readBatch, err error) {
	n := len(in.Axis.Step)
	if len(in.Axis.Epoch) != n || len(in.Axis.Time) != n {
		return out, fmt.Errorf("the axis has %d steps, %d epochs and %d times", n, len(in.Axis.Epoch),
			len(in.Axis.Time))
	}
	out.Axis, out.Columns, out.names = make([]curve.Point, n), make([]curve.Column, len(in.Curves)),
		make([]string, len(in.Curves))
	for i := range out.Axis {
		out.Axis[i] = curve.Point{Step: in.Axis.Step[i], Epoch: in.Axis.Epoch[i], Time: in.Axis.Time[i]}
	}
	for i, c := range in.Curves {
		switch {
		case c.Name != "" && c.Curve != 0:
			return out, fmt.Errorf("curve %q has a name and a number; give one of them", c.Name)
		case c.Name != "":
			if err := curve.CheckName(c.Name); err != nil {
				return out, err
			}
		case c.Curve < 1:
			return out, fmt.Errorf("column %d has neither a name nor a number that name-curves gave", i)
		}
		out.names[i], out.Columns[i] = c.Name, curve.Column{Curve: c.Curve, Values: c.Values}
		if c.Rows != nil {
			out.Columns[i].Rows = make([]int, len(c.Rows))
			for k, r := range c.Rows {
				out.Columns[i].Rows[k] = int(r)
			}
		}
	}
	return out, nil
}

// numberCurves gives the columns that came by name their numbers, as far as they have one, and checks those that came
// by number.
func (s *Runs) numberCurves(ctx context.Context, run, batch int64, b *readBatch) (fresh bool, err error) {
	invalid := func(format string, args ...any) (bool, error) {
		return false, api.Fail(api.Invalid, "batch %d: %s", batch, fmt.Sprintf(format, args...))
	}
	var named []string
	highest := 0
	for i, c := range b.Columns {
		if highest = max(highest, c.Curve); b.names[i] != "" {
			named = append(named, b.names[i])
		}
	}
	known, err := s.db.CachedCurves(ctx, run, named, min(highest, maxCurves))
	if err != nil {
		return false, err
	}
	seen, added := make([]bool, len(known.Numbers)+1), map[string]bool{}
	for i := range b.Columns {
		c, name := &b.Columns[i], b.names[i]
		if name != "" {
			number, has := known.Numbers[name]
			if !curve.OfMachine(name) {
				b.training = len(b.Axis)
			}
			if !has {
				if added[name] {
					return invalid("curve %q is there twice", name)
				}
				added[name], fresh = true, true
				continue
			}
			c.Curve = number
		} else if !known.Has(c.Curve) {
			return invalid("no curve has the number %d; name-curves gives numbers", c.Curve)
		} else if !known.OfMachine(c.Curve) {
			b.training = len(b.Axis)
		}
		if seen[c.Curve] {
			return invalid("curve %d is there twice", c.Curve)
		}
		seen[c.Curve] = true
	}
	if len(known.Numbers)+len(added) > maxCurves {
		return invalid("the run would have more than %d curves", maxCurves)
	}
	return fresh, nil
}
