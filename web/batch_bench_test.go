package web_test

import (
	"fmt"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
)

// What a batch of one point costs beyond its readings: 50 curves of 64 runs, sent as the recorder sends them.
func BenchmarkBatchOfOnePoint(b *testing.B) {
	s := serve(b)
	s.project(b)
	const legs, curves = 64, 50
	names := make([]string, curves)
	for i := range names {
		names[i] = fmt.Sprintf("figure%02d.train", i)
	}
	type sending struct {
		leg    api.LegInput
		number int64
	}
	waiting := make(chan *sending, legs)
	for range legs {
		one := &sending{leg: s.leg(b)}
		in := &api.CurveNames{LegInput: one.leg}
		in.Body.Names = names
		call(b, s, api.NameCurves, in)
		waiting <- one
	}
	var failed atomic.Pointer[error]
	b.SetParallelism(16)
	b.ReportAllocs()
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			one := <-waiting
			one.number++
			in := &api.BatchInput{LegInput: one.leg, Body: api.Batch{Number: one.number, Upto: one.number}}
			packed := curve.Batch{Axis: []curve.Point{{Step: one.number, Epoch: float64(one.number / 10),
				Time: 1_790_000_000_000 + one.number}}}
			for i := range curves {
				packed.Columns = append(packed.Columns, curve.Column{Curve: i + 1,
					Values: []float64{float64(one.number) / 3}})
			}
			in.Body.Packed = curve.AppendJournal(nil, packed)
			if _, err := client.Call(ctx, s.Client, api.SendBatch, in); err != nil {
				failed.Store(&err)
			}
			waiting <- one
		}
	})
	require.Nil(b, failed.Load())
}
