package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// signed is the text that a person signs as one of three: this draft, or all that became of it, of this
// batch, in this ledger. What was signed as one stands for nothing as another.
func signed(ledger string, b *batch.Batch, s store.Signature) string {
	return fmt.Sprintf("Even Ledger\nas %s\nledger %s\nbatch %d\nof %s\ndrafted by %s\nsigned by %s\n", s.As, ledger, b.ID, s.Of, b.By, s.Person)
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
		return none, mistake(fmt.Sprintf("batch %d has no seal to sign", b.ID), "Draft its sheet again.")
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
	return a.sign(ctx, l, b, by, store.Second, b.Seal)
}

// sign signs a hash of a batch.
func (a *App) sign(ctx context.Context, l store.Store, b *batch.Batch, by Signer, as store.Role, of string) (s store.Signature, err error) {
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return s, err
	}
	s = store.Signature{As: as, Person: by.Person, Key: by.who.Signs(), Of: of, At: a.Clock.Now()}
	s.Signature = by.who.Sign(signed(id, b, s))
	return s, l.History(b.ID).Sign(ctx, s)
}

// signer is who is at work, if evenledger.yaml has the key that they sign with.
func signer(w *workspace.Workspace) (by Signer, found bool) {
	if len(w.People) == 0 {
		return by, false
	}
	who, err := Identity(w)
	if err != nil {
		return by, false
	}
	by.who = who
	by.Person, found = signs(w, who.Signs())
	return by, found
}

// SignDraft signs a draft as who made it, if they have a key that evenledger.yaml knows.
func (a *App) SignDraft(w *workspace.Workspace, l store.Store) func(context.Context, *batch.Batch) error {
	return func(ctx context.Context, b *batch.Batch) error {
		by, found := signer(w)
		if !found || by.who.Signs() != b.ByKey {
			return nil
		}
		_, err := a.sign(ctx, l, b, by, store.Drafter, b.Seal)
		return err
	}
}

// Endorse signs all that became of a batch by now, as who saw to it, if they have a key that
// evenledger.yaml knows and nobody has signed just that.
func (a *App) Endorse(ctx context.Context, w *workspace.Workspace, l store.Store, id int) error {
	by, found := signer(w)
	if !found {
		return nil
	}
	for {
		b, err := l.Batch(ctx, id)
		if err != nil || b.Seal == "" {
			return err
		}
		if last, err := l.History(id).Ends(ctx); err != nil || last != nil {
			return err
		}
		head, err := l.History(id).NoteHeads(ctx)
		if err != nil {
			return err
		}
		if _, err = a.sign(ctx, l, b, by, store.Poster, head); !errors.Is(err, store.ErrChanged) {
			return err
		}
	}
}

// proven sees that a draft is as it was when it was sealed, and so is what became of it since.
func proven(ctx context.Context, l store.Store, b *batch.Batch) error {
	problems, err := l.History(b.ID).Problems(ctx)
	if err == nil && len(problems) > 0 {
		err = held(fmt.Sprintf("batch %d is not as it was drafted: %s", b.ID, problems[0]), "Ask who keeps the ledger. Withdraw the batch and draft its sheet again.")
	}
	return err
}

// approved returns why a batch may not be posted as far as people are concerned, or nil: in a team, who
// drafted it has signed it, and it is as it was then; and from so many changes on a second person has
// signed it. Who counts is whom evenledger.yaml names, with the key that stands there now.
func approved(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	asked := *b
	if target, err := w.System(b.System); err == nil {
		asked.SignFrom(target.SignedFrom) // it may have been written there since
	}
	team := isTeam(w)
	if !team && asked.SignedFrom == 0 {
		return nil
	}
	if err := proven(ctx, l, b); err != nil { // what is asked for stands in it
		return err
	}
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return err
	}
	signatures, err := l.History(b.ID).Signatures(ctx)
	if err != nil {
		return err
	}
	var why []string
	keys := map[string]bool{} // of those who signed it: a person may stand there by two names
	vouched := false
	for _, s := range signatures {
		said := refuses(w, id, b, s)
		switch {
		case s.As == store.Drafter:
			vouched = vouched || said == ""
		case s.As != store.Second:
		case said != "":
			why = append(why, said)
		default:
			keys[s.Key] = true
		}
	}
	if team && b.ByKey != "" && !vouched {
		return held(fmt.Sprintf("batch %d says that %s drafted it, and it is not signed with a key of theirs that stands in evenledger.yaml", b.ID, b.By), "Ask who keeps the ledger. If their key was changed since, withdraw the batch and draft its sheet again.")
	}
	if team && b.Key != "" && b.ByKey == "" {
		return held(fmt.Sprintf("the passwords of batch %d are sealed for the team, and %s, who drafted it, has no key in evenledger.yaml to vouch for them: whoever keeps the ledger may have put others there", b.ID, b.By), "Withdraw it. Who has a key drafts its sheet again; “evenledger identity” makes one's keys.")
	}
	if asked.ToDo, err = changes(ctx, l, b); err != nil {
		return err
	}
	if !asked.IsToBeSigned() || len(keys) >= b.Signers() {
		return nil
	}
	message := fmt.Sprintf("batch %d changes %d accounts, and a second person has to sign it first", b.ID, b.ToDo)
	if asked.ToDo > b.ToDo {
		message = fmt.Sprintf("batch %d changes %d accounts, and %d with the others that were posted of %s within a day, so that a second person has to sign it first", b.ID, b.ToDo, asked.ToDo, cmp.Or(b.Sheet, "its list"))
	}
	if b.Signers() > 1 {
		message = fmt.Sprintf("batch %d changes %d accounts, and as no key in evenledger.yaml is that of %s, who drafted it, two people have to sign it first", b.ID, asked.ToDo, b.By)
	}
	if len(why) > 0 {
		message += ": " + strings.Join(why, "; ")
	}
	return held(message, fmt.Sprintf("A colleague looks at it (evenledger show %d) and runs: evenledger countersign %d", b.ID, b.ID))
}

// isTeam reports whether there are people who sign.
func isTeam(w *workspace.Workspace) bool {
	return slices.ContainsFunc(w.People, func(p workspace.Person) bool { return p.Signs != "" })
}

// seals reports whether passwords are sealed for a team that signs.
func seals(w *workspace.Workspace) bool {
	return isTeam(w) && slices.ContainsFunc(w.People, func(p workspace.Person) bool { return p.Opens != "" })
}

// changes counts the accounts that a batch changes, together with those that were changed of the same
// sheet or delivery within a day before: a list in pieces asks for as many people as in one.
func changes(ctx context.Context, l store.Store, b *batch.Batch) (n int, err error) {
	if n, err = l.History(b.ID).ToDo(ctx); err != nil {
		return 0, err
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return 0, err
	}
	for i := range all {
		if o := &all[i]; o.ID != b.ID && o.Took() && b.Made.Sub(o.Posted).Abs() < 24*time.Hour && o.System == b.System && sameList(b, o) {
			more, err := l.History(o.ID).ToDo(ctx)
			if err != nil {
				return 0, err
			}
			n += more
		}
	}
	return n, nil
}

// sameList reports whether two batches were drafted of one list, or one corrects the other.
func sameList(b, o *batch.Batch) bool {
	switch {
	case b.Corrects == o.ID, o.Corrects == b.ID:
		return true
	case b.Delivery != nil || o.Delivery != nil:
		return b.Delivery != nil && o.Delivery != nil && b.Delivery.Feed == o.Delivery.Feed && b.Delivery.Sum == o.Delivery.Sum
	}
	return b.Sheet == o.Sheet || b.Sum != "" && b.Sum == o.Sum
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
	case s.As == store.Second && drafted(b, s.Person, s.Key):
		return s.Person + " drafted it, and cannot sign it"
	case s.As == store.Drafter && s.Key != b.ByKey:
		return s.Person + " signed it with another key than it was drafted with"
	case key == "":
		return s.Person + " signed it, and does not stand in evenledger.yaml with a key that signs"
	case key != s.Key:
		return s.Person + " signed it with another key than stands in evenledger.yaml"
	case s.As != store.Poster && s.Of != b.Seal:
		return s.Person + " signed another draft of it"
	case !secret.Signed(key, signed(ledger, b, s), s.Signature):
		return "the signature of " + s.Person + " is not one of this batch"
	}
	return ""
}

// MayTrust returns why what a ledger says of a posted batch may not be believed, or nil: in a team it is as
// its history says, and signed by who drafted and posted it.
func MayTrust(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	if len(w.People) == 0 {
		return nil
	}
	problems, err := l.History(b.ID).Problems(ctx)
	if err == nil && len(problems) == 0 {
		_, problems, err = checkSignatures(ctx, w, l, b)
	}
	if err == nil && len(problems) > 0 {
		err = held("what the ledger says is not to be trusted: "+problems[0], fmt.Sprintf("Ask who keeps it: “evenledger ledger check” tells all. “evenledger reconcile %d” reads in the system what is there, and signs it if all is.", b.ID))
	}
	return err
}

// checkSignatures returns what is wrong with the signatures of a batch, and who signed all that became of it
// last; empty: nobody did.
func checkSignatures(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (by string, problems []string, err error) {
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return "", nil, err
	}
	signatures, err := l.History(b.ID).Signatures(ctx)
	if err != nil {
		return "", nil, err
	}
	vouched := b.ByKey == ""
	for _, s := range signatures {
		said := refuses(w, id, b, s)
		if vouched = vouched || s.As == store.Drafter && said == ""; said != "" {
			problems = append(problems, fmt.Sprintf("batch %d: %s", b.ID, said))
		}
	}
	if !vouched && len(w.People) > 0 && b.State != batch.Unmade {
		problems = append(problems, fmt.Sprintf("batch %d: it says that %s drafted it, and they did not sign it", b.ID, b.By))
	}
	last, err := l.History(b.ID).Ends(ctx)
	switch {
	case err != nil:
	case last != nil && refuses(w, id, b, *last) == "":
		by = last.Person
	case len(w.People) > 0 && b.ByKey != "" && !b.Posted.IsZero() && b.State != batch.Posting:
		problems = append(problems, fmt.Sprintf("batch %d: what became of it is not signed to its end: it may have been written anew", b.ID))
	}
	return by, problems, err
}

// Signed tells who countersigned a batch so that it counts.
func Signed(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (people []string, err error) {
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return nil, err
	}
	signatures, err := l.History(b.ID).Signatures(ctx)
	for _, s := range signatures {
		if s.As == store.Second && refuses(w, id, b, s) == "" {
			people = append(people, s.Person)
		}
	}
	return people, err
}

// seenWhole is how many rows a batch may have that is held against its history when it is shown; of larger
// ones “ledger check” does that.
const seenWhole = 20000

// Vouched returns who signed what became of a batch, and what is wrong with its signatures or with what the
// ledger says of it.
func Vouched(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (by string, doubts []string, err error) {
	if len(w.People) == 0 || b.Posted.IsZero() {
		return "", nil, nil
	}
	if b.Rows <= seenWhole {
		if doubts, err = l.History(b.ID).Problems(ctx); err != nil {
			return "", nil, err
		}
	}
	by, more, err := checkSignatures(ctx, w, l, b)
	if doubts = append(doubts, more...); len(doubts) > 0 {
		by = ""
	}
	return by, doubts, err
}
