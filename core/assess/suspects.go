package assess

import (
	"cmp"
	"slices"

	"kembrel/core/sheet"
)

// Suspects are the examples whose label the model surely contradicts, the surest first: those with a class that is not
// their label whose score is at least the mean score which the examples of that class give it (confident learning:
// Northcutt, Jiang and Chuang 2021), by how far that score is above the label's. Either the label is wrong or the model
// is wrong with conviction; which, a person says.
func Suspects(s *sheet.Sheet) []int {
	if s.Scores == nil || s.Task != sheet.Classes {
		return nil
	}
	k := len(s.Classes)
	sure, counts := make([]float64, k), make([]float64, k)
	for i := range s.Len() {
		if t := s.True[i]; t != sheet.None && s.Row(i)[t] == s.Row(i)[t] {
			sure[t] += s.Row(i)[t]
			counts[t]++
		}
	}
	for c := range sure {
		if counts[c] > 0 {
			sure[c] /= counts[c]
		}
	}
	type suspect struct {
		row int
		by  float64
	}
	var out []suspect
	for i := range s.Len() {
		t := s.True[i]
		if t == sheet.None {
			continue
		}
		row, by := s.Row(i), 0.0
		for c, v := range row {
			if int32(c) != t && counts[c] > 0 && v >= sure[c] {
				by = max(by, v-row[t])
			}
		}
		if by > 0 {
			out = append(out, suspect{i, by})
		}
	}
	slices.SortStableFunc(out, func(a, b suspect) int { return cmp.Compare(b.by, a.by) })
	rows := make([]int, len(out))
	for i, x := range out {
		rows[i] = x.row
	}
	return rows
}
