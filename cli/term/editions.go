package term

import (
	"context"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/catalogue"
)

// Edition is the edition that an address names.
func Edition(ctx context.Context, c *client.Client, at catalogue.Address) (*api.Edition, error) {
	model := api.ModelInput{Model: at.Model}
	if at.Edition > 0 {
		return client.Call(ctx, c, api.GetEdition, &api.EditionInput{ModelInput: model, Edition: at.Edition})
	}
	return client.Call(ctx, c, api.GetStanding, &api.StandingInput{ModelInput: model, Standing: at.Standing})
}

// Checkpoint reads the address of a checkpoint, or of an edition, which is the checkpoint that was entered.
func (a *App) Checkpoint(ctx context.Context, text string) (api.Address, error) {
	if !catalogue.Names(text) {
		return Address(text, true, true)
	}
	at, err := catalogue.Parse(text)
	if err != nil {
		return api.Address{}, err
	}
	e, err := Edition(ctx, a.Client(), at)
	if err != nil {
		return api.Address{}, err
	}
	return Address(e.Origin, true, true)
}
