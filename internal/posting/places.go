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
	at, err := p.placeIsThere(ctx, m)
	if err != nil || ctx.Err() != nil {
		return err
	}
	if at != "" {
		return p.noteMade(ctx, m.Kind, m.Name, at)
	}
	if err := p.noteMaking(ctx, m.Kind, m.Name); err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		made, err := p.System.MakeThing(ctx, p.may, m.Kind, m.Name, nil)
		var refusal *system.Refusal
		switch {
		case err == nil:
			return p.noteMade(ctx, m.Kind, m.Name, made.ID)
		case isOpen(err), errors.As(err, &refusal) && tries > 1: // that it is taken may be by the request before
			at, looked := p.placeIsThere(ctx, m)
			switch {
			case looked != nil:
				return err
			case at != "":
				return p.noteMade(ctx, m.Kind, m.Name, at)
			case tries == maxAttempts || refusal != nil: // the rows that are to stand there are told, and no others
				p.closePlace(m.Name, err.Error())
				return nil
			}
		case refusal != nil:
			p.closePlace(m.Name, refusal.Message)
			return p.noteUnmade(ctx, m.Kind, m.Name)
		default:
			return err
		}
	}
}

// closePlace notes that a place could not be made, and why.
func (p *run) closePlace(name, why string) {
	if p.noPlace == nil {
		p.noPlace = map[string]string{}
	}
	p.noPlace[p.place.Key(name)] = why
}

// placeIsThere looks whether a place was made since the draft, or by an earlier post of ours, and returns
// its identifier; empty: it was not.
func (p *run) placeIsThere(ctx context.Context, m membership.Make) (id string, err error) {
	for t, err := range p.System.Things(ctx, m.Kind, false) {
		if err != nil {
			return "", err
		}
		if p.place.Key(t.Name) == p.place.Key(m.Name) {
			return t.ID, nil
		}
	}
	return "", nil
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
