package space

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

const harbour = `space: 1
hyperparameters:
  optimiser: {choice: [adam, momentum]}
  lr:        {real: [0.0003, 0.03], log: true, steps: 3}
  depth:     {integer: [1, 3]}
  momentum:  {real: [0.8, 0.99], steps: 2, when: {optimiser: momentum}}
  hidden:    {choice: [[64, 32], 64], when: {depth: [2, 3], optimiser: adam}}
  epochs:    12
`

func parse(t *testing.T, text string) *Space {
	s, err := Parse([]byte(text))
	require.NoError(t, err)
	return s
}

func TestGrid(t *testing.T) {
	s := parse(t, harbour)
	all, err := s.Pick(Grid, 0, 1000)
	require.NoError(t, err)
	// adam: 3 rates x (depth 1: 1; 2 and 3: 2 each) = 15; momentum: 3 rates x 3 depths x 2 = 18.
	require.Len(t, all, 33)
	require.Equal(t, "optimiser=adam lr=0.0003 depth=1 epochs=12", all[0].String())
	require.Equal(t, "optimiser=adam lr=0.0003 depth=2 hidden=[64,32] epochs=12", all[1].String())
	require.Equal(t, "optimiser=momentum lr=0.03 depth=3 momentum=0.99 epochs=12", all[32].String())
	require.Equal(t, "0.003", string(all[5].Get("lr")), "the middle of a logarithmic range")
	known := map[string]bool{}
	for _, one := range all {
		require.False(t, known[one.String()])
		known[one.String()] = true
	}
	few, err := s.Pick(Grid, 0, 4)
	require.NoError(t, err)
	require.Equal(t, all[:4], few)
	_, err = parse(t, "space: 1\nhyperparameters: {lr: {real: [0, 1]}}").Pick(Grid, 0, 9)
	require.ErrorContains(t, err, "lr is a range: a grid must be told its steps")
}

func TestRandomCoversTheSpaceEvenly(t *testing.T) {
	s := parse(t, harbour)
	all, err := s.Pick(Random, 5, 4000)
	require.NoError(t, err)
	require.Len(t, all, 4000)
	counts := map[string]int{}
	below := 0
	for _, one := range all {
		var lr float64
		require.NoError(t, json.Unmarshal(one.Get("lr"), &lr))
		require.True(t, lr >= 0.0003 && lr <= 0.03)
		if lr < 0.003 {
			below++
		}
		counts[string(one.Get("optimiser"))]++
		counts["depth "+string(one.Get("depth"))]++
		momentum := string(one.Get("optimiser")) == `"momentum"`
		require.Equal(t, momentum, one.Get("momentum") != nil)
		require.Equal(t, !momentum && string(one.Get("depth")) != "1", one.Get("hidden") != nil)
	}
	require.InDelta(t, 2000, below, 150, "half of a logarithmic range lies below its geometric middle")
	require.InDelta(t, 2000, counts[`"adam"`], 150)
	for depth := 1; depth <= 3; depth++ {
		require.InDelta(t, 4000/3, counts[fmt.Sprint("depth ", depth)], 150)
	}
	again, _ := s.Pick(Random, 5, 10)
	require.Equal(t, all[:10], again, "the same first ones, however many are picked")
	other, _ := s.Pick(Random, 6, 10)
	require.NotEqual(t, again, other)
	small, _ := parse(t, "space: 1\nhyperparameters: {depth: {integer: [1, 3]}, flip: {choice: [true, false]}}").Pick(Random, 1, 50)
	require.Len(t, small, 6, "no setting twice")
}

func TestIntegersOfALogarithmicRange(t *testing.T) {
	s := parse(t, "space: 1\nhyperparameters: {width: {integer: [1, 1024], log: true, steps: 11}}")
	all, err := s.Pick(Grid, 0, 100)
	require.NoError(t, err)
	for i, one := range all {
		require.Equal(t, fmt.Sprint(math.Pow(2, float64(i))), string(one.Get("width")))
	}
}

func TestCommand(t *testing.T) {
	s := parse(t, harbour)
	command := []string{"./harbour", "train", "--lr", "{lr}", "--momentum", "{momentum}", "--hidden={hidden}",
		"--name", "d{depth}-{lr}"}
	require.NoError(t, s.CheckCommand(command))
	require.ErrorContains(t, s.CheckCommand([]string{"{rate}"}),
		"{rate} in the command is no hyperparameter of the space")
	all, _ := s.Pick(Grid, 0, 40)
	require.Equal(t, []string{"./harbour", "train", "--lr", "0.0003", "--hidden=64,32", "--name", "d2-0.0003"},
		all[1].Fill(command))
	require.Equal(t, []string{"./harbour", "train", "--lr", "0.03", "--momentum", "0.99", "--name", "d3-0.03"},
		all[32].Fill(command))
}

func TestWhatIsWrongIsSaidWithItsLine(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "a space begins with space: 1",
		"space: 2":              "line 1: space 2 is not known here",
		"space: 1\nparameters:": `line 2: "parameters" means nothing here`,
		"space: 1\nhyperparameters:\n  lr: {real: [1, 0]}":               "line 3: lr: a range is two numbers, the lesser first",
		"space: 1\nhyperparameters:\n  lr: {real: [0, 1], log: true}":    "line 3: lr: a logarithmic range begins above 0",
		"space: 1\nhyperparameters:\n  lr: {real: [0, 1], choice: [1]}":  "line 3: lr: say one of choice, real and integer",
		"space: 1\nhyperparameters:\n  lr: {integer: [0.5, 1]}":          "line 3: lr: an integer range has whole ends",
		"space: 1\nhyperparameters:\n  lr: {real: [0, 1], when: {x: 1}}": "line 3: lr: its condition names x, which does not stand before it",
		"space: 1\nhyperparameters:\n  lr: {min: 1}":                     `line 3: lr: "min" means nothing here`,
		"space: 1\nhyperparameters:\n  lr: {choice: [{a: 1}]}":           "line 3: this is no hyperparameter",
		"space: 1\nhyperparameters:\n  lr: 1\n  lr: 2":                   "line 4: lr is there twice",
		"space: 1\nhyperparameters:\n  lr: {real: [0, 1], steps: 1}":     "line 3: steps: from 2 to 1000",
		"space: 1\nhyperparameters:\n  lr: {real: [0, 1], log: perhaps}": "line 3: lr: log cannot be perhaps",
		"{": "this is not YAML",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(harbour))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse(text)
		if err == nil {
			s.Pick(Random, 1, 3)
			s.Pick(Grid, 1, 3)
		}
	})
}
