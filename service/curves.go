package service

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"sort"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/store"
)

// GetCurves reads curves of a run, whole, by range, or what came since a position.
func (s *Service) GetCurves(ctx context.Context, _ Who, in *api.CurvesInput) (*api.Curves, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	span := store.Span{Run: run, Names: in.Names, From: in.From, To: in.To}
	if in.After != "" {
		leg, batch, _ := strings.Cut(in.After, ".")
		l, err1 := strconv.ParseInt(leg, 10, 32)
		b, err2 := strconv.ParseInt(batch, 10, 64)
		if err1 != nil || err2 != nil {
			return nil, api.Fail(api.Invalid, "position %q is none that this service gave out", in.After)
		}
		if in.Smooth == 0 { // smoothing needs what came before
			span.After = store.Position{Leg: int(l), Batch: b}
		}
	}
	found, err := s.readings.ReadCurves(ctx, span)
	if err != nil {
		return nil, err
	}
	if in.After == "" {
		for _, n := range in.Names {
			if _, ok := found.ByName[n]; !ok {
				if err := s.checkCurve(ctx, run, in, n); err != nil {
					return nil, err
				}
			}
		}
	}
	out := &api.Curves{Position: fmt.Sprintf("%d.%d", found.Position.Leg, found.Position.Batch), Whole: found.Whole, Curves: []api.Curve{}}
	for name, readings := range found.ByName {
		if len(readings) > 0 {
			out.Curves = append(out.Curves, toCurve(name, readings, in.Smooth))
		}
	}
	sort.Slice(out.Curves, func(i, j int) bool { return out.Curves[i].Name < out.Curves[j].Name })
	return out, nil
}

func (s *Service) checkCurve(ctx context.Context, run int64, in *api.CurvesInput, name string) error {
	known, err := s.db.CurveIDs(ctx, run, nil)
	if err != nil {
		return err
	}
	if _, ok := known[name]; ok {
		return nil
	}
	names := make([]string, 0, len(known))
	for n := range known {
		names = append(names, n)
	}
	sort.Strings(names)
	if len(names) > 8 {
		names = append(names[:8], "...")
	}
	return api.Fail(api.NotFound, "%s has no curve %q; it has: %s", runAddress(in.Project, in.Number), name, strings.Join(names, ", "))
}

func toCurve(name string, readings []curve.Reading, halfLife float64) api.Curve {
	n := len(readings)
	c := api.Curve{Name: name, Step: make([]int64, n), Epoch: make(api.Floats, n), Time: make([]int64, n), Value: make(api.Floats, n)}
	x, epochs := make([]float64, n), true
	for i, r := range readings {
		c.Step[i], c.Epoch[i], c.Time[i], c.Value[i] = r.Step, r.Epoch, r.Time, r.Value
		epochs = epochs && !math.IsNaN(r.Epoch)
	}
	if halfLife > 0 {
		for i, r := range readings {
			x[i] = float64(r.Step)
			if epochs {
				x[i] = r.Epoch
			}
		}
		c.Smooth = curve.Smooth(x, c.Value, halfLife)
	}
	return c
}

// WriteCurvesCSV writes curves as RFC 4180 lines: curve,step,epoch,time,value. Times are milliseconds since 1970 UTC, unknown epochs
// empty, values in the shortest form that reads back equal, NaN, Infinity and -Infinity by these names.
func WriteCurvesCSV(to io.Writer, curves *api.Curves) error {
	w := csv.NewWriter(to)
	w.Write([]string{"curve", "step", "epoch", "time", "value"})
	for _, c := range curves.Curves {
		for i := range c.Step {
			epoch := ""
			if !math.IsNaN(c.Epoch[i]) {
				epoch = strconv.FormatFloat(c.Epoch[i], 'f', -1, 64)
			}
			value := strings.Trim(string(api.AppendFloat(nil, c.Value[i])), `"`)
			w.Write([]string{c.Name, strconv.FormatInt(c.Step[i], 10), epoch, strconv.FormatInt(c.Time[i], 10), value})
		}
	}
	w.Flush()
	return w.Error()
}
