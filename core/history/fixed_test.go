package history

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a file says once and for all of a run, or by its columns' names, becomes hyperparameters; what was measured
// stays a curve, also where it never moved.
func TestFixedColumns(t *testing.T) {
	const wide = "run,epoch,val_loss,loss,lr,batch_size,augment,boat,acc\n"
	rows := wide + "a,1,0.9,0.8,0.01,32,True,tug,0\na,2,0.8,0.7,0.01,32,True,tug,0\na,3,0.7,0.6,0.01,32,True,tug,0\n" +
		"b,1,0.9,0.8,0.02,64,False,ferry,0\n"
	for name, c := range map[string]struct {
		text, maps string
		want       map[string]string // of each column, what it is taken for
		hyper      string            // of the first run
		fails      string
	}{
		"what never changes": {text: rows, want: map[string]string{"val_loss": "values loss.val", "loss": "values loss.train",
			"lr": "hyperparameter lr", "batch_size": "hyperparameter batch_size", "augment": "hyperparameter augment",
			"boat": "hyperparameter boat", "acc": "values acc.train"},
			hyper: `augment true, batch_size 32, boat "tug", lr 0.01`},
		"what changes": {text: "epoch,loss,lr,note\n1,0.9,0.1,a\n2,0.8,0.05,b\n3,0.7,0.025,c\n",
			want: map[string]string{"lr": "values lr", "note": "left out "}},
		"one row a run, by name alone": {text: "run,loss,lr,gain\na,0.5,0.1,3\nb,0.4,0.2,4\n",
			want: map[string]string{"lr": "hyperparameter lr", "gain": "values gain"}, hyper: "lr 0.1"},
		"by its prefix": {text: "epoch,loss.val,config/depth,lr\n1,0.5,4,0.1\n2,0.5,4,0.1\n3,0.5,4,0.1\n",
			want: map[string]string{"config/depth": "hyperparameter depth", "lr": "values lr"}, hyper: "depth 4"},
		"as one says": {text: rows, maps: "lr=lr boat= acc=hyper.level", want: map[string]string{"lr": "values lr",
			"boat": "left out ", "acc": "hyperparameter level"}, hyper: "augment true, batch_size 32, level 0"},
		"one says what is not so": {text: "epoch,loss,lr\n1,0.9,0.1\n2,0.8,0.05\n", maps: "lr=hyper.lr",
			fails: `it changes within the run; --map "lr=lr" makes it a curve`},
		"something was measured": {text: "epoch,gain\n1,3\n2,3\n3,3\n", want: map[string]string{"gain": "values gain"}},
		"all digits":             {text: "epoch,loss,seed\n1,1,18446744073709551615\n2,2,18446744073709551615\n", hyper: "seed 18446744073709551615"},
		"a long table": {text: "run,curve,step,value,lr\na,loss,1,1,0.1\na,loss,2,1,0.1\na,loss,3,1,0.1\n",
			want: map[string]string{"lr": "hyperparameter lr"}, hyper: "lr 0.1"},
		"a name twice": {text: "epoch,gain,gain\n1,3,4\n2,4,5\n", fails: `columns "gain" and "gain (2)" are both taken for the curve gain`},
		"told apart": {text: "epoch,gain,gain\n1,3,4\n2,4,5\n", maps: "gain_(2)=other",
			want: map[string]string{"gain": "values gain", "gain (2)": "values other"}},
		"two of a name": {text: "epoch,loss,lr,params.lr\n1,3,1,2\n2,4,1,2\n", hyper: "lr 1, params.lr 2"},
	} {
		t.Run(name, func(t *testing.T) {
			f, err := Open("csv", strings.NewReader(c.text))
			require.NoError(t, err)
			for _, m := range strings.Fields(c.maps) {
				column, as, _ := strings.Cut(m, "=")
				require.NoError(t, f.Set(strings.ReplaceAll(column, "_(", " ("), as))
			}
			runs, err := f.Read()
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			for _, column := range f.Columns {
				if want, asked := c.want[column.Name]; asked {
					require.Equal(t, want, string(column.Role)+" "+column.As, column.Name)
				}
			}
			var got []string
			for _, name := range slices.Sorted(maps.Keys(runs[0].Hyper)) {
				got = append(got, name+" "+string(runs[0].Hyper[name]))
			}
			require.Equal(t, c.hyper, strings.Join(got, ", "))
		})
	}
}
