package posting

import (
	"context"
	"errors"
	"fmt"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// setPlaces finds out which field says where accounts stand.
func (p *run) setPlaces() {
	for _, kind := range p.about.Kinds {
		if kind.Place != "" {
			p.place = p.about.Field(kind.Place)
		}
	}
}

// makePlaces makes the places that accounts are to stand in and that do not exist, those
// above first, before any account is sent there.
func (p *run) makePlaces(ctx context.Context) error {
	for _, kind := range p.about.Kinds {
		if kind.Place == "" {
			continue
		}
		p.place = p.about.Field(kind.Place)
		for _, m := range p.Batch.Makes {
			if m.Kind != kind.Name {
				continue
			}
			if err := p.makePlace(ctx, m); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p *run) makePlace(ctx context.Context, m membership.Make) error {
	there, err := p.placeIsThere(ctx, m)
	if err != nil || there || ctx.Err() != nil {
		return err
	}
	made, err := p.System.MakeThing(ctx, m.Kind, m.Name, nil)
	var refusal *system.Refusal
	switch {
	case err == nil:
		p.Batch.MadeThings = append(p.Batch.MadeThings, membership.Step{Kind: m.Kind, Thing: made.ID, Name: m.Name})
		return p.Ledger.Save(ctx, p.Batch)
	case errors.As(err, &refusal):
		p.closePlace(m.Name, refusal.Message)
		return nil
	case isOpen(err):
		if there, looked := p.placeIsThere(ctx, m); looked == nil && there {
			return nil // ours or not, it is there; who made it cannot be told, so that it stays when this is undone
		} else if looked == nil { // the rows that are to stand there are told, and no others
			p.closePlace(m.Name, err.Error())
			return nil
		}
	}
	return err
}

// closePlace notes that a place could not be made, and why.
func (p *run) closePlace(name, why string) {
	if p.noPlace == nil {
		p.noPlace = map[string]string{}
	}
	p.noPlace[p.place.Key(name)] = why
}

// placeIsThere looks whether a place was made since the draft, or by an earlier post of ours.
func (p *run) placeIsThere(ctx context.Context, m membership.Make) (bool, error) {
	for t, err := range p.System.Things(system.Stopping(ctx), m.Kind, false) {
		if err != nil {
			return false, err
		}
		if p.place.Key(t.Name) == p.place.Key(m.Name) {
			return true, nil
		}
	}
	return false, nil
}

// hasNoPlace settles an entry whose account is to stand where no place could be made.
func (p *run) hasNoPlace(e *batch.Entry) bool {
	if len(p.noPlace) == 0 {
		return false
	}
	for _, c := range e.Changes {
		if why, refused := p.noPlace[p.place.Key(c.After.Text())]; refused && c.Field == p.place.Name {
			p.fail(e, account.UnknownThing, c.Field, fmt.Sprintf("“%s” does not exist and could not be made: %s", c.After.Text(), why))
			return true
		}
	}
	return false
}
