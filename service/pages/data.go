package pages

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/service/act"
	"kembrel/store"
)

// data is what a run used, and what is to be known of it.
func (s *Pages) data(ctx context.Context, run int64) ([]api.UsedData, error) {
	rows, err := s.db.RunData(ctx, []int64{run})
	if err != nil {
		return nil, err
	}
	var out []api.UsedData
	for _, r := range rows {
		u := api.UsedData{Use: r.Use, Data: r.Address, Asked: r.Asked, Items: r.Items}
		if r.Snapshot != nil {
			snapshot, err := s.db.SnapshotByID(ctx, *r.Snapshot)
			if err != nil {
				return nil, err
			}
			var found *dataset.Findings
			if json.Unmarshal(snapshot.Answers, &found) == nil && found != nil {
				for _, c := range found.Splits {
					if c.Name == r.Split {
						u.Leaking = c.Leaking
					}
				}
			}
		}
		u.Says = sayUsed(u)
		if r.Snapshot != nil && (r.Use == "test" || r.Split == "test") {
			looks, err := s.db.TestLooks(ctx, store.Seen{}, *r.Snapshot)
			if err != nil {
				return nil, err
			}
			u.Says += sayLooks(looks)
		}
		out = append(out, u)
	}
	return out, nil
}

// sayLooks says how often a test split was looked at, by whomever: the best of many looks better than it is.
func sayLooks(looks []store.TestLook) string {
	models, n := map[int64]bool{}, int64(0)
	for _, l := range looks {
		models[l.Run] = true
		n += l.Looks
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", looked at %s by %s so far", act.Many(int(n), "time", "times"),
		act.Many(len(models), "model", "models"))
}

func sayUsed(u api.UsedData) string {
	items := act.Many(int(u.Items), "item", "items")
	switch {
	case u.Data == "" && u.Items > 0:
		return fmt.Sprintf("%s: %s that are no snapshot that is known", u.Use, items)
	case u.Data == "":
		return fmt.Sprintf("%s: %s, which is not known", u.Use, u.Asked)
	case u.Leaking > 0 && u.Use != "train":
		return fmt.Sprintf("%s: %s, %s, of which another split has %d too", u.Use, u.Data, items, u.Leaking)
	}
	return fmt.Sprintf("%s: %s, %s", u.Use, u.Data, items)
}

// warnOfData says where a figure cannot be trusted because of the data that it was taken on.
func warnOfData(data []api.UsedData) []string {
	var out []string
	for _, u := range data {
		if u.Leaking > 0 && u.Use != "train" {
			snapshot, _, _ := strings.Cut(u.Data, ":")
			out = append(out, fmt.Sprintf("Its figures on %s cannot be trusted: %d of the %d items of %s are in another split too (kembrel data show %s).",
				u.Use, u.Leaking, u.Items, u.Data, snapshot))
		}
	}
	return out
}
