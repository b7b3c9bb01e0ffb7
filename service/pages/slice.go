package pages

import (
	"kembrel/service/checkpoints"
	"kembrel/service/evaluations"
	"kembrel/service/finding"
	"kembrel/service/judging"
	"kembrel/service/runs"
	"kembrel/service/searches"
	"kembrel/service/sheets"
)

// Pages answers for what joins slices.
type Pages struct {
	*finding.Finder
	db          Storage
	runs        *runs.Runs
	judging     *judging.Judging
	checkpoints *checkpoints.Checkpoints
	searches    *searches.Searches
	sheets      *sheets.Sheets
	evaluations *evaluations.Evaluations
}

// New makes the slice.
func New(f *finding.Finder, db Storage, r *runs.Runs, j *judging.Judging, c *checkpoints.Checkpoints,
	s *searches.Searches, p *sheets.Sheets, e *evaluations.Evaluations) *Pages {
	return &Pages{Finder: f, db: db, runs: r, judging: j, checkpoints: c, searches: s, sheets: p,
		evaluations: e}
}
