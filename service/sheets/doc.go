// Package sheets takes prediction sheets of runs, computes what they come to, raises alarms and answers for them.
package sheets
