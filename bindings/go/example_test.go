package kembrel_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"kembrel.internal/kembrel"
)

// A whole training: what is recorded, when it is saved, and where it goes on. Without a service or a recorder, as here,
// it trains all the same.
func Example() {
	os.Setenv("KEMBREL_BINARY", "/nowhere/kembrel")
	run, _ := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels", Forgiving: true,
		Hyper: map[string]any{"lr": 0.03}})
	run.SaveWhen(kembrel.Policy{Epochs: 5, Best: "loss.val lower", Signal: true})
	weight := 0.0
	if from, ok := run.Resumed(); ok {
		text, err := os.ReadFile(from.File("weights"))
		if err != nil || json.Unmarshal(text, &weight) != nil {
			panic("the checkpoint cannot be read")
		}
	}
	for epoch := range run.Epochs(3) {
		weight += (3 - weight) / 2
		step, loss := int64(10*epoch), (3-weight)*(3-weight)
		run.Readings(step, float64(epoch), kembrel.V("loss.val", loss))
		run.Save(step, float64(epoch), func(folder string) (map[string][]string, error) {
			text, err := json.Marshal(weight)
			if err != nil {
				return nil, err
			}
			return map[string][]string{"weights": {"weight.json"}},
				os.WriteFile(filepath.Join(folder, "weight.json"), text, 0o600)
		})
	}
	run.End(kembrel.Finished, "")
	fmt.Println(weight)
	// Output: 2.625
}

// A learning rate that somebody may ask for instead, as by kembrel rerun --hyper lr=0.01.
func ExampleRun_Take() {
	run, _ := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels", Forgiving: true})
	rate := 0.03
	run.Take("lr", &rate)
	run.Hyper(map[string]any{"lr": rate})
	fmt.Println(rate)
	// Output: 0.03
}

// What resuming this program needs, and where its weights come from.
func ExampleRun_InitialWeights() {
	run, _ := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels", Forgiving: true})
	seed := int64(17)
	run.InitialWeights("fresh", &seed, []string{"weights", "optimiser", "random"}, nil)
	fmt.Println(run.Address() == "")
	// Output: true
}
