package posting

import (
	"context"
	"errors"
	"fmt"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// missing are the things of one kind that rows ask for and that did not exist when the
// batch was drafted, by the keys of their names.
type missing struct {
	*tieWork
	kind    string
	names   map[string]string
	joining map[string][]tied // what the rows ask of each
	made    map[string]string // identifiers
	refused map[string]error
}

// makeMissing makes the things that rows ask for and that do not exist.
func (w *tieWork) makeMissing(ctx context.Context, window []batch.Entry) error {
	kinds := map[string]*missing{}
	for i := range window {
		e := &window[i]
		for n := range e.Steps {
			s := &e.Steps[n]
			if s.Do != membership.Join || s.Thing != "" || !s.Waits() {
				continue
			}
			if kinds[s.Kind] == nil {
				kinds[s.Kind] = &missing{w, s.Kind, map[string]string{}, map[string][]tied{}, map[string]string{}, map[string]error{}}
			}
			m, key := kinds[s.Kind], words.NameKey(s.Name)
			m.names[key], m.joining[key] = s.Name, append(m.joining[key], tied{e, s, false})
		}
	}
	if err := w.divide(ctx, window); err != nil {
		return err
	}
	for _, m := range kinds {
		// Somebody may have made one since the draft, or an earlier post of ours.
		for {
			if err := m.look(ctx); err != nil {
				return err
			}
			if len(m.made) == len(m.names) || !w.again || !w.unseen(ctx) {
				break
			}
		}
		for key, id := range m.made { // one that we were making when a post was cut short
			if err := w.noteMade(ctx, m.kind, m.names[key], id); err != nil {
				return err
			}
		}
		for key, name := range m.names {
			if m.made[key] == "" && ctx.Err() == nil {
				if err := m.make(ctx, key, name); err != nil {
					return err
				}
			}
		}
		m.tell(window)
	}
	return nil
}

// divide adds the sections that rows ask for and that things do not have. Adding one twice does no harm, so that
// nothing is noted of it.
func (w *tieWork) divide(ctx context.Context, window []batch.Entry) error {
	came := map[[3]string]error{}
	for i := range window {
		e, failed := &window[i], false
		for n := range e.Steps {
			s := &e.Steps[n]
			if s.Do != membership.Join || !s.Divided || s.Thing == "" || !s.Waits() {
				continue
			}
			key := [3]string{s.Kind, s.Thing, s.Section}
			err, known := came[key]
			if !known {
				err = w.addSection(ctx, s)
				came[key] = err
			}
			var refusal *system.Refusal
			switch {
			case err == nil:
			case errors.As(err, &refusal), isOpen(err):
				s.Result, failed = membership.Failed, true
				e.Find(account.Error, account.SystemRefused, s.Kind, "", fmt.Sprintf("the section “%s” of “%s” could not be added: %s", s.Section, s.Name, err))
			default:
				return err
			}
		}
		if failed {
			w.after(e)
		}
	}
	return nil
}

// addSection adds a section; where no clear answer comes it is asked for once more.
func (w *tieWork) addSection(ctx context.Context, s *membership.Step) error {
	divider, can := w.System.(system.Divider)
	if !can {
		return &system.Refusal{Code: account.SystemRefused, Message: "sections cannot be added here"}
	}
	err := divider.AddSection(ctx, w.may, s.Kind, s.Thing, s.Section)
	if isOpen(err) {
		err = divider.AddSection(ctx, w.may, s.Kind, s.Thing, s.Section)
	}
	return err
}

// after has an entry one of whose steps failed be settled, now or with its other steps.
func (w *tieWork) after(e *batch.Entry) {
	if e.Settle(); e.Outcome.Waits() {
		w.waiting[e] = true // others of its steps are still to change
	} else {
		w.results <- resultOf(e)
	}
}

// look finds those that are there by now.
func (m *missing) look(ctx context.Context) error {
	for t, err := range m.System.Things(ctx, m.kind, false) {
		if err != nil {
			return err
		}
		if _, wanted := m.names[words.NameKey(t.Name)]; wanted {
			m.made[words.NameKey(t.Name)] = t.ID
		}
	}
	return nil
}

// make makes one. Where no clear answer comes, it is made again only if it does not appear.
func (m *missing) make(ctx context.Context, key, name string) error {
	var first []tied
	if about, _ := m.about.Kind(m.kind); about.Filled {
		first = m.joining[key][:min(len(m.joining[key]), m.about.Can.Ties)]
	}
	if err := errors.Join(m.noteMaking(ctx, m.kind, name), m.claim(ctx, first)); err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		t, err := m.System.MakeThing(ctx, m.may, m.kind, name, tiesOf(first))
		var refusal *system.Refusal
		switch {
		case err == nil:
			m.made[key] = t.ID
			m.seen = m.Clock.Now().Add(m.Settle)
			if err := m.noteMade(ctx, m.kind, name, t.ID); err != nil {
				return err
			}
			for _, joins := range first { // which thing it is is noted with what was done
				joins.step.Thing = t.ID
			}
			m.settle(first, membership.Done, "", "")
			return nil
		case isOpen(err), errors.As(err, &refusal) && tries > 1: // that it is taken may be by the request before
			if err := m.appears(ctx, key); err != nil {
				return err
			}
			switch {
			case m.made[key] != "":
				return m.noteMade(ctx, m.kind, name, m.made[key])
			case ctx.Err() != nil: // it was stopped while it waited for that
				return context.Cause(ctx)
			case tries == maxAttempts || refusal != nil:
				m.refused[key] = err // its own rows are told, and no others
				return nil
			}
		case refusal != nil:
			m.refused[key] = err
			m.undone(first)
			return m.noteUnmade(ctx, m.kind, name)
		default:
			return err
		}
	}
}

// appears looks for one until it is there, or should be if it was made.
func (m *missing) appears(ctx context.Context, key string) error {
	m.seen = m.Clock.Now().Add(m.Settle)
	for {
		if err := m.look(ctx); err != nil || m.made[key] != "" || !m.unseen(ctx) {
			return err
		}
	}
}

// tell tells the rows which thing it is, or why there is none.
func (m *missing) tell(window []batch.Entry) {
	for i := range window {
		e, failed := &window[i], false
		for n := range e.Steps {
			s := &e.Steps[n]
			if s.Kind != m.kind || s.Thing != "" || s.Do != membership.Join || !s.Waits() {
				continue
			}
			s.Thing = m.made[words.NameKey(s.Name)]
			if err := m.refused[words.NameKey(s.Name)]; err != nil {
				s.Result, failed = membership.Failed, true
				e.Find(account.Error, account.SystemRefused, m.kind, "", fmt.Sprintf("“%s” does not exist and could not be made: %s", s.Name, err))
			}
		}
		if !failed {
			continue
		}
		m.after(e)
	}
}
