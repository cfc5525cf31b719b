package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// Kinds are the kinds of things that a system has, and how many there are of each.
func Kinds(ctx context.Context, client system.System) (kinds []account.ThingKind, counts map[string]int, err error) {
	about, err := client.Describe(ctx)
	if err != nil {
		return nil, nil, err
	}
	counts = map[string]int{}
	for _, kind := range about.Kinds {
		for _, err := range client.Things(ctx, kind.Name, false) {
			if err != nil {
				return nil, nil, err
			}
			counts[kind.Name]++
		}
	}
	return about.Kinds, counts, nil
}

// Things are those of one kind that were looked for in a system.
type Things struct {
	System, Kind string
	Total        int            // that there are
	Called       map[string]int // how many have a name, by words.Key
	Things       []account.Thing
}

// LookUp finds the things of a kind that have all the words in their name, or one of them as their id; without words, all.
func LookUp(ctx context.Context, name string, client system.System, kind string, wanted []string) (found Things, err error) {
	about, err := client.Describe(ctx)
	if err != nil {
		return found, err
	}
	var names []string
	for _, about := range about.Kinds {
		names = append(names, about.Name)
	}
	if !slices.Contains(names, kind) {
		remedy := "It has: " + strings.Join(names, ", ") + "."
		if near := words.Nearest(kind, names); near != "" {
			remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		return found, mistake(fmt.Sprintf("%s has no %s", name, kind), remedy)
	}
	found = Things{System: name, Kind: kind, Called: map[string]int{}, Things: []account.Thing{}}
	for t, err := range client.Things(ctx, kind, true) {
		if err != nil {
			return found, err
		}
		found.Total++
		found.Called[words.Key(t.Name)]++
		if isWanted(t, wanted) {
			found.Things = append(found.Things, t)
		}
	}
	slices.SortFunc(found.Things, func(x, y account.Thing) int { return strings.Compare(words.Key(x.Name), words.Key(y.Name)) })
	return found, nil
}

func isWanted(t account.Thing, wanted []string) bool {
	if slices.Contains(wanted, t.ID) {
		return true
	}
	name := words.Key(t.Name)
	return !slices.ContainsFunc(wanted, func(w string) bool { return !strings.Contains(name, words.Key(w)) })
}
