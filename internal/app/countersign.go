package app

import (
	"context"
	"fmt"
	"strings"

	"evenledger/internal/batch"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// signed is the text that a person signs: this draft, of this batch, in this ledger.
func signed(ledger string, b *batch.Batch, person string) string {
	return fmt.Sprintf("Even Ledger: countersigned\nledger %s\nbatch %d\nseal %s\ndrafted by %s\nsigned by %s\n", ledger, b.ID, b.Seal, b.By, person)
}

// Who is at work: by name, and by the public key that signs if it stands in evenledger.yaml.
func (a *App) Who(w *workspace.Workspace) (name, key string) {
	if len(w.People) == 0 {
		return a.By, ""
	}
	who, err := Identity(w)
	if err != nil {
		return a.By, ""
	}
	if name, found := signs(w, who.Signs()); found {
		return name, who.Signs()
	}
	return a.By, ""
}

// signs finds who signs with a key.
func signs(w *workspace.Workspace, key string) (name string, found bool) {
	for _, p := range w.People {
		if p.Signs == key {
			return p.Name, true
		}
	}
	return "", false
}

// drafted reports whether a person drafted a batch. Who has no key is known by name alone.
func drafted(b *batch.Batch, person, key string) bool {
	return key == b.ByKey || b.ByKey == "" && person == b.By
}

// A Signer may countersign a batch.
type Signer struct {
	Person string
	who    *secret.Identity
}

// MayCountersign returns who is at work, if they may countersign a batch.
func MayCountersign(w *workspace.Workspace, b *batch.Batch) (Signer, error) {
	none := Signer{}
	switch {
	case b.State != batch.Drafted && b.State != batch.Stopped:
		return none, mistake(fmt.Sprintf("batch %d is %s: there is nothing to sign", b.ID, b.State), "")
	case b.Seal == "":
		return none, mistake(fmt.Sprintf("batch %d was drafted by an older evenledger, and has no seal to sign", b.ID), "Withdraw it and draft its sheet again.")
	}
	who, err := Identity(w)
	if err != nil {
		return none, err
	}
	person, found := signs(w, who.Signs())
	if !found {
		return none, mistake("your public key does not stand in evenledger.yaml", "“evenledger identity” says what to write there, under “people”.")
	}
	if drafted(b, person, who.Signs()) {
		return none, held(fmt.Sprintf("batch %d was drafted by %s, and nobody countersigns what they drafted", b.ID, b.By), "Ask a colleague.")
	}
	return Signer{person, who}, nil
}

// Countersign signs a draft as the second person.
func (a *App) Countersign(ctx context.Context, l store.Store, b *batch.Batch, by Signer) (s store.Signature, err error) {
	if err := proven(ctx, l, b); err != nil {
		return s, err
	}
	id, err := l.ID(ctx)
	if err != nil {
		return s, err
	}
	s = store.Signature{Person: by.Person, Key: by.who.Signs(), Seal: b.Seal, At: a.Clock.Now(), Signature: by.who.Sign(signed(id, b, by.Person))}
	return s, l.Sign(ctx, b.ID, s)
}

// proven sees that a draft is as it was when it was sealed.
func proven(ctx context.Context, l store.Store, b *batch.Batch) error {
	problems, err := l.Proven(ctx, b)
	if err == nil && len(problems) > 0 {
		err = held(fmt.Sprintf("batch %d is not as it was drafted: %s", b.ID, problems[0]), "Ask who keeps the ledger. Withdraw the batch and draft its sheet again.")
	}
	return err
}

// approved returns why a second person has not approved of a batch who has to, or nil. Who counts
// is whom evenledger.yaml names, with the key that stands there now.
func approved(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	asked := *b
	if target, err := w.System(b.System); err == nil {
		asked.SignFrom(target.SignedFrom) // it may have been written there since
	}
	if !asked.IsToBeSigned() {
		return nil
	}
	id, err := l.ID(ctx)
	if err != nil {
		return err
	}
	signatures, err := l.Signatures(ctx, b.ID)
	if err != nil {
		return err
	}
	var why []string
	keys := map[string]bool{} // of those who signed it: a person may stand there by two names
	for _, s := range signatures {
		if said := refuses(w, id, b, s); said != "" {
			why = append(why, said)
		} else if keys[s.Key] = true; len(keys) == b.Signers() {
			return proven(ctx, l, b)
		}
	}
	message := fmt.Sprintf("batch %d changes %d accounts, and a second person has to sign it first", b.ID, b.ToDo)
	if b.Signers() > 1 {
		message = fmt.Sprintf("batch %d changes %d accounts, and as no key in evenledger.yaml is that of %s, who drafted it, two people have to sign it first", b.ID, b.ToDo, b.By)
	}
	if len(why) > 0 {
		message += ": " + strings.Join(why, "; ")
	}
	return held(message, fmt.Sprintf("A colleague looks at it (evenledger show %d) and runs: evenledger countersign %d", b.ID, b.ID))
}

// refuses says why a signature does not count; empty: it does.
func refuses(w *workspace.Workspace, ledger string, b *batch.Batch, s store.Signature) string {
	key := ""
	for _, p := range w.People {
		if p.Name == s.Person {
			key = p.Signs
		}
	}
	switch {
	case drafted(b, s.Person, s.Key):
		return s.Person + " drafted it, and cannot sign it"
	case key == "":
		return s.Person + " signed it, and does not stand in evenledger.yaml with a key that signs"
	case key != s.Key:
		return s.Person + " signed it with another key than stands in evenledger.yaml"
	case s.Seal != b.Seal:
		return s.Person + " signed another draft of it"
	case !secret.Signed(key, signed(ledger, b, s.Person), s.Signature):
		return "the signature of " + s.Person + " is not one of this batch"
	}
	return ""
}

// Signed tells who countersigned a batch so that it counts.
func Signed(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (people []string, err error) {
	id, err := l.ID(ctx)
	if err != nil {
		return nil, err
	}
	signatures, err := l.Signatures(ctx, b.ID)
	for _, s := range signatures {
		if refuses(w, id, b, s) == "" {
			people = append(people, s.Person)
		}
	}
	return people, err
}
