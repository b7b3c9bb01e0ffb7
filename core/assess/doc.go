// Package assess says what a prediction sheet comes to: its figures with their intervals, what is taken for what, how
// far scores can be believed, and alarms, which are what is wrong though a loss falls. It says so in numbers and kinds;
// sentences are made elsewhere.
//
//	Of(sheet).Figures    accuracy 0.861, 95 % 0.838 to 0.882
//	Of(sheet).Cells      tug taken for trawler: 31
//	Alarms(...)          swapped: tug, ferry
package assess
