// Package judging says how runs go: verdicts, what people say against them, and stop rules.
package judging
