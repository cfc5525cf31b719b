package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

// Mentioned holds the things that a brief itself names (groups, courses, roles) against its system, or against each of its
// set. Problems stand where the brief names them; doubts are told, and are none. Asked are the systems that could be.
func (a *App) Mentioned(ctx context.Context, w *workspace.Workspace, b *brief.Brief) (problems yamldoc.Problems, doubts []string, asked int) {
	if len(b.Mentions) == 0 || b.System == "" {
		return nil, nil, 0
	}
	names := []string{b.System}
	if set, is := w.Set(b.System); is {
		names = set.Systems
	}
	in := map[yamldoc.Problem][]string{} // → systems
	doubted := map[string][]string{}
	for _, name := range names {
		found, err := a.mentionedIn(ctx, w, b, name)
		if err != nil {
			doubts = append(doubts, fmt.Sprintf("%s could not be asked whether it has what the brief names: %s", name, strings.Split(err.Error(), "\n")[0]))
			continue
		}
		asked++
		for _, f := range found {
			p := f.at
			p.Message, p.Remedy = f.Message, f.Remedy
			if f.Level == account.Error {
				in[p] = append(in[p], name)
			} else {
				text := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
				doubted[text] = append(doubted[text], name)
			}
		}
	}
	for p, systems := range in {
		if len(systems) < len(names) {
			p.Message = strings.Join(systems, ", ") + ": " + p.Message
		}
		problems = append(problems, p)
	}
	problems.Sort()
	for text := range doubted {
		doubts = append(doubts, text)
	}
	slices.Sort(doubts)
	return problems, doubts, asked
}

// found is what is wrong with a mention.
type found struct {
	account.Finding
	at yamldoc.Problem
}

func (a *App) mentionedIn(ctx context.Context, w *workspace.Workspace, b *brief.Brief, name string) (all []found, err error) {
	target, err := w.System(name)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, longestAsk)
	defer cancel()
	s, err := a.Connect(target)
	if err != nil {
		return nil, err
	}
	catalogue, err := drafting.Catalogue(ctx, s, b, func(string, int) {})
	if err != nil {
		return nil, err
	}
	for _, m := range b.Mentions {
		if f := catalogue.Mentioned(b, m); f != nil {
			all = append(all, found{*f, m.At})
		}
	}
	return all, nil
}
