// Package history writes the curves of runs in open formats and reads them from what anyone's script has written.
//
// A wide CSV has a row per point and a column per curve; empty means no reading there:
//
//	epoch,step,time,loss.train,loss.val
//	1,40,1790000000000,0.71,
//	1,40,1790000000900,,0.69
//
// A long CSV, JSON Lines and Parquet have a row per reading: run, curve, step, epoch, time, value. Times are
// milliseconds since 1970 UTC; an unknown epoch is empty (null); values are in the shortest form that reads back equal,
// and NaN, Infinity, -Infinity.
package history
