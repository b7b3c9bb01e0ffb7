// Package judging keeps verdicts, stop rules, and what runs were at their best.
package judging
