package spool

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"time"

	"kembrel/host"
)

// Info is a spool as it lies on disk.
type Info struct {
	ID          string    `json:"id"`
	Folder      string    `json:"folder"`
	Service     string    `json:"service"`
	Project     string    `json:"project"`
	Title       string    `json:"title,omitempty"`
	Run         string    `json:"run,omitempty"`
	Started     time.Time `json:"started"`
	Held        bool      `json:"held"`
	Records     int64     `json:"records"` // not yet counted by the service
	Checkpoints int       `json:"checkpoints"`
	Bytes       int64     `json:"bytes"`
	Damaged     string    `json:"damaged,omitempty"`
	Why         string    `json:"why,omitempty"`
}

// List lists the spools below the roots, oldest first, without taking hold of them.
func List(roots ...string) ([]Info, error) {
	out := []Info{}
	for _, root := range roots {
		if err := ownAlone(root); err != nil { // another's, or not there
			continue
		}
		more, err := list(root)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Started.Before(out[j].Started) })
	return out, nil
}

func list(root string) (out []Info, err error) {
	entries, err := os.ReadDir(root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("list spools: %w", err)
	}
	for _, e := range entries {
		folder := filepath.Join(root, e.Name())
		leg, err := readLeg(folder)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		st := readState(folder)
		info := Info{ID: e.Name(), Folder: folder, Service: leg.Service, Project: leg.Project, Title: leg.Title,
			Run: st.Run, Started: leg.Started, Why: st.Why}
		if err != nil {
			info.Damaged = err.Error()
		}
		info.look(st)
		out = append(out, info)
	}
	return out, nil
}

func (i *Info) look(st State) {
	if lock, err := os.Open(filepath.Join(i.Folder, "lock")); err == nil {
		i.Held = host.Held(lock)
		lock.Close()
	}
	if file, err := os.Open(filepath.Join(i.Folder, "records")); err == nil {
		defer file.Close()
		if info, err := file.Stat(); err == nil {
			r := NewReader(file)
			for err == nil {
				var record Record
				if record, err = r.Next(info.Size()); err == nil && record.Kind.Batched() && record.Number > st.Upto {
					i.Records++
				}
			}
			if errors.Is(err, ErrDamaged) && !i.Held {
				i.Damaged = err.Error()
			}
		}
	}
	kept, _ := os.ReadDir(filepath.Join(i.Folder, "kept"))
	i.Checkpoints = len(kept)
	filepath.WalkDir(i.Folder, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, err := d.Info(); err == nil {
				i.Bytes += info.Size()
			}
		}
		return nil
	})
}
