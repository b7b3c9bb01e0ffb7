package protocol

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/sheet"
)

// What a program hands over: data, prediction sheets, files, checkpoints.

// data reads what is used for what.
func (m *Message) data(r raw) error {
	m.Use, m.Data, m.Do, m.Keys, m.Digests, m.Count = r.Use, r.Data, r.Do, r.Keys, r.Digests, r.Count
	if err := api.CheckUse(m.Use); err != nil {
		return err
	}
	if m.Data != "" || m.Do == "" {
		if _, err := api.ParseData(m.Data); err != nil {
			return err
		}
	}
	switch m.Do {
	case "", "end":
	case "items":
		if m.ID != 0 {
			return fmt.Errorf("items of data have no id: what is kept is the end, which counts them")
		}
		if n := max(len(m.Keys), len(m.Digests)); n == 0 || len(m.Keys) != n && len(m.Keys) != 0 ||
			len(m.Digests) != n && len(m.Digests) != 0 {
			return fmt.Errorf("%d keys and %d digests of data do not fit together", len(m.Keys), len(m.Digests))
		}
	default:
		return fmt.Errorf("do %.40q of data is none of items, end", m.Do)
	}
	return nil
}

// ItemsFile is the file in which items are handed over.
const ItemsFile = "items.jsonl"

// items reads the beginning or the end of items that are handed over in a file.
func (m *Message) items(r raw) error {
	switch m.Do, m.Key = r.Do, r.Items; m.Do {
	case "begin":
		if m.Use, m.Data = r.Use, r.Data; m.Data != "" {
			if err := api.CheckDatasetName(m.Data); err != nil {
				return err
			}
		}
		return api.CheckUse(m.Use)
	case "commit", "abandon":
		m.Why = m.Why[:min(len(m.Why), 2000)]
		return nil
	}
	return fmt.Errorf("do %.40q of items is none of begin, commit, abandon", m.Do)
}

// sheet reads the beginning or the end of a prediction sheet.
func (m *Message) sheet(r raw) error {
	m.Do, m.Key = r.Do, r.Sheet
	switch m.Do {
	case "begin":
		if err := m.moment(r); err != nil {
			return err
		}
		m.Split = r.Split
		m.Answers = sheet.Says{Task: sheet.Task(cmp.Or(r.Task, string(sheet.Classes))), Classes: r.Classes,
			Probabilities: r.Probabilities}
		if err := api.CheckUse(m.Split); err != nil {
			return err
		}
		return m.Answers.Check()
	case "commit":
		if !slices.Contains(r.Files, sheet.ExamplesFile) || len(r.Files) > len(sheet.Names) {
			return fmt.Errorf("the files of a sheet are %s and, as there are, %s", sheet.ExamplesFile,
				strings.Join(sheet.Names[1:], ", "))
		}
		for i, path := range r.Files {
			if !slices.Contains(sheet.Names, path) || slices.Contains(r.Files[:i], path) {
				return fmt.Errorf("a sheet has no file %.60q, or has it twice", path)
			}
			m.Files = append(m.Files, File{Part: "sheet", Path: path})
		}
		return nil
	case "abandon":
		m.Why = m.Why[:min(len(m.Why), 2000)]
		return nil
	}
	return fmt.Errorf("do %.40q of sheet is none of begin, commit, abandon", m.Do)
}

// file reads the beginning or the end of a file that is no checkpoint.
func (m *Message) file(r raw) error {
	switch m.Do, m.Key, m.Path = r.Do, r.File, r.Path; m.Do {
	case "begin":
		if len(m.Path) > MaxPath {
			return fmt.Errorf("a path has at most %d bytes", MaxPath)
		}
		return checkpoint.CheckPath(m.Path)
	case "commit", "abandon":
		m.Why = m.Why[:min(len(m.Why), 2000)]
		return nil
	}
	return fmt.Errorf("do %.40q of file is none of begin, commit, abandon", m.Do)
}

func (m *Message) checkpoint(r raw) error {
	m.Do = r.Do
	switch r.Do {
	case "begin", "join":
		if m.Ranks = r.Ranks; m.Ranks < 0 || m.Ranks > mostRanks {
			return fmt.Errorf("%d ranks are none of 0 to %d", m.Ranks, mostRanks)
		}
		if err := m.moment(r); err != nil {
			return err
		}
		if len(m.Why) > 200 {
			return fmt.Errorf("why has more than 200 bytes")
		}
		return nil
	case "commit":
		m.Key = r.Checkpoint
		return m.parts(r.Parts)
	case "abandon":
		if m.Key = r.Checkpoint; len(m.Why) > 2000 {
			m.Why = m.Why[:2000]
		}
		return nil
	}
	return fmt.Errorf("do %.40q of checkpoint is none of begin, join, commit, abandon", r.Do)
}

// moment reads the step and the epoch of a checkpoint or sheet.
func (m *Message) moment(r raw) error {
	m.Epoch = math.NaN()
	if len(r.Epoch) > 0 {
		v, err := api.ParseFloat(r.Epoch)
		if err != nil || v < 0 || math.IsInf(v, 0) {
			return fmt.Errorf("epoch %.40s is not a number from 0 up", r.Epoch)
		}
		m.Epoch = v
	}
	if len(r.Step) > 0 {
		if err := json.Unmarshal(r.Step, &m.Step); err != nil || m.Step < 0 {
			return fmt.Errorf("step %.40s is not a whole number from 0 up", r.Step)
		}
	} else if m.Step = int64(m.Epoch); float64(m.Step) != m.Epoch {
		return fmt.Errorf("a %s needs a step, or a whole epoch that stands for it", r.Kind)
	}
	return nil
}

func (m *Message) parts(parts map[string][]string) error {
	if len(parts) == 0 {
		return fmt.Errorf("a checkpoint has at least one part, such as {\"weights\": [\"weights.safetensors\"]}")
	}
	seen := map[string]bool{}
	for part, paths := range parts {
		if err := checkpoint.CheckPart(part); err != nil {
			return err
		}
		if len(paths) == 0 {
			return fmt.Errorf("part %q has no file", part)
		}
		for _, p := range paths {
			if err := checkpoint.CheckPath(p); err != nil {
				return err
			}
			if seen[p] {
				return fmt.Errorf("file %q is there twice", p)
			}
			seen[p] = true
			m.Files = append(m.Files, File{Part: part, Path: p})
		}
	}
	if len(m.Files) > 10000 {
		return fmt.Errorf("%d files are too many for a checkpoint (at most 10000)", len(m.Files))
	}
	sort.Slice(m.Files, func(i, j int) bool { return m.Files[i].Path < m.Files[j].Path })
	return nil
}
