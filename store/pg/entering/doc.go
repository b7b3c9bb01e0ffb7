// Package entering keeps the rules by which runs enter models, and what became of the runs.
package entering
