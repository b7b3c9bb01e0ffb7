package record

import (
	"fmt"
	"slices"
	"strings"

	"kembrel/api"
)

// dataFlag reads --data USE=ADDRESS.
type dataFlag []api.DataUse

// String implements pflag.Value.
func (f *dataFlag) String() string { return "" }

// Type implements pflag.Value.
func (f *dataFlag) Type() string { return "USE=DATA" }

// Set implements pflag.Value.
func (f *dataFlag) Set(text string) error {
	use, address, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("write for what, and which data: val=hydrophone#3:val")
	}
	if _, err := api.ParseData(address); err != nil {
		return err
	}
	if err := api.CheckUse(use); err != nil {
		return err
	}
	if slices.ContainsFunc(*f, func(u api.DataUse) bool { return u.Use == use }) {
		return fmt.Errorf("what is used for %s is given twice", use)
	}
	*f = append(*f, api.DataUse{Use: use, Asked: address})
	return nil
}

// keepOf are the patterns of files to keep that were given, or those that a recipe had.
func keepOf(given []string, recipe api.Recipe) []string {
	if len(given) > 0 {
		return given
	}
	return recipe.Keep
}

// dataOf is what was given, or what a recipe had.
func dataOf(given []api.DataUse, recipe api.Recipe) []api.DataUse {
	if len(given) > 0 {
		return given
	}
	for use, address := range recipe.Data {
		given = append(given, api.DataUse{Use: use, Asked: address})
	}
	slices.SortFunc(given, func(a, b api.DataUse) int { return strings.Compare(a.Use, b.Use) })
	return given
}
