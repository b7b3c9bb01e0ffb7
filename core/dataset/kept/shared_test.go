package kept

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// What is shared is what comparing every item with every other finds.
func TestShared(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 3))
		make := func(n int) (out []dataset.Item) {
			for i := range n {
				it := dataset.Item{Key: fmt.Sprintf("clip-%03d-%d", r.IntN(60), i%2), Size: 1,
					Split: []string{"train", "val"}[r.IntN(2)]}
				if r.IntN(2) == 0 {
					it.Digest = chunk.Sum([]byte{byte(r.IntN(80))})
				}
				if r.IntN(3) == 0 {
					it.Group = fmt.Sprint("voyage", r.IntN(40))
				}
				out = append(out, it)
			}
			seen := map[string]bool{}
			var once []dataset.Item
			for _, it := range out {
				if !seen[it.Key] {
					seen[it.Key] = true
					once = append(once, it)
				}
			}
			return once
		}
		a, b := make(30), make(30)
		of, _ := made(t, nil, a)
		in, _ := made(t, nil, b)
		for _, trained := range []string{"train", ""} {
			want := int64(0)
			for _, x := range a {
				same := false
				for _, y := range b {
					same = same || (trained == "" || y.Split == trained) && (x.Key == y.Key ||
						x.Digest == y.Digest && x.Digest != chunk.Digest{} || x.Group == y.Group && x.Group != "")
				}
				if x.Split == "val" && same {
					want++
				}
			}
			got, err := Shared(of, "val", in, trained)
			require.NoError(t, err)
			require.Equal(t, want, got, seed)
		}
	}
}
