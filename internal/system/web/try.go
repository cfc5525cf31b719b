package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/told"
)

const (
	mostShown = 1200 // characters of an answer
	someShown = 3    // things and members
)

// hidden stands where a secret would.
const hidden = "(hidden)"

// Preview implements system.Trier.
func (c *Client) Preview(a account.Account) (string, error) {
	if c.app.Create == nil {
		return "", errors.New("the description has no “create”")
	}
	if a.Password != "" {
		a.Password = hidden
	}
	how := c.app.Create
	r := request{Call: &how.Call, scope: c.app.Scope(description.Values(&a)).New()}
	if how.Body.Whole {
		object, err := c.body(a)
		if err != nil {
			return "", err
		}
		if r.body, err = description.Encode(object); err != nil {
			return "", err
		}
	}
	sent, err := c.filled(r)
	if err != nil {
		return "", err
	}
	lines := []string{sent.Method + " " + c.config.URL + withQuery(sent)}
	for _, name := range slices.Sorted(maps.Keys(sent.Header)) {
		lines = append(lines, name+": "+c.config.Mask.Hide(sent.Header.Get(name)))
	}
	if how.Key != "" {
		lines = append(lines, how.Key+": (a new one each time)")
	}
	return strings.Join(lines, "\n") + "\n\n" + indented(sent.Body), nil
}

func withQuery(sent httpdial.Request) string {
	if len(sent.Query) == 0 {
		return sent.Path
	}
	return sent.Path + "?" + sent.Query.Encode()
}

func indented(body []byte) string {
	var value any
	if json.Unmarshal(body, &value) != nil {
		return string(body)
	}
	out, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return string(body)
	}
	return string(out)
}

// A trial tries a description out, one step after the other.
type trial struct {
	*Client
	told func(system.Tried)
	mu   sync.Mutex        // pages are asked for ahead
	came []system.Exchange // since the last step
}

// Try implements system.Trier.
func (c *Client) Try(ctx context.Context, as *account.Account, write bool, told func(system.Tried)) error {
	if write && !c.config.Practice {
		return &account.Mistake{Message: "this system is not marked as one to try things out on, so that nothing is written to it", Remedy: "If it is one, write practice: true into its part of evenledger.yaml."}
	}
	t := &trial{Client: c, told: told}
	c.watch = func(sent httpdial.Request, got *answer) {
		x := system.Exchange{Request: sent.Method + " " + withQuery(sent), Sent: c.config.Mask.Hide(indented(sent.Body)), Status: got.Status, Answer: cut(c.config.Mask.Hide(indented(got.Body)))}
		if sent.URL != nil {
			x.Request = sent.Method + " " + sent.URL.RequestURI()
		}
		t.mu.Lock()
		t.came = append(t.came, x)
		t.mu.Unlock()
	}
	defer func() { c.watch = nil }()
	about, err := c.Describe(ctx)
	if err != nil {
		return err
	}
	first, ok := t.listed(ctx, about)
	if !ok {
		return nil
	}
	if first != nil {
		t.read(ctx, first, about)
		t.finds(ctx, about)
	}
	for i := range c.app.Things {
		t.kind(ctx, &c.app.Things[i])
	}
	if as == nil {
		made := t.sample(about)
		as = &made
	}
	t.creates(*as)
	switch {
	case write && c.app.Create == nil:
		t.step("Make an account", &system.Unavailable{Message: "the description has no “create”, so that there is nobody to try changes out on", Remedy: "Describe “create”, or leave --write out."})
	case write:
		t.writes(ctx, *as, about)
	}
	return nil
}

func cut(text string) string {
	if r := []rune(text); len(r) > mostShown {
		return string(r[:mostShown]) + " …"
	}
	return text
}

// step tells of a step, with what was sent and answered last.
func (t *trial) step(what string, err error, understood ...string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := system.Tried{What: what, Requests: append([]system.Exchange{}, t.came...), Understood: append([]string{}, understood...)}
	t.came = nil
	if err != nil {
		s.Amiss = t.config.Mask.Hide(err.Error())
		var of told.Error
		if errors.As(err, &of) {
			s.Remedy = of.Tell().Remedy
		}
	}
	t.told(s)
	return err == nil
}

// fieldsOf says what was understood of an account.
func (t *trial) fieldsOf(a account.Account, about *system.Description) (all []string) {
	all = append(all, "id = "+a.ID)
	if a.Version != "" {
		all = append(all, "version = "+a.Version)
	}
	if !a.Made.IsZero() {
		all = append(all, "made = "+a.Made.Format("2006-01-02 15:04:05"))
	}
	for _, at := range about.Attributes {
		if v := a.Field(at.Field); v.Filled() {
			all = append(all, at.Field+" = "+strings.ReplaceAll(v.Text(), "\n", " · "))
		}
	}
	return all
}

func namesOf(about *system.Description) (names []string) {
	for _, at := range about.Attributes {
		names = append(names, at.Field)
	}
	return names
}

// listed tries the first page and the next, and returns the first account.
func (t *trial) listed(ctx context.Context, about *system.Description) (one *account.Account, ok bool) {
	names := namesOf(about)
	seen := map[string]bool{}
	ids := map[string]bool{}
	p, l := &page{}, &t.app.Listing
	r := request{Call: &l.Call, scope: t.app.Scope(nil), safe: true}
	take := func(item any) error {
		a, is := t.account(item, names, nil)
		if !is {
			return &system.Unavailable{Message: fmt.Sprintf("there is something in the list that has no %s: no account", t.app.Account.ID), Remedy: "Look at account: id in the description."}
		}
		for name := range a.Fields {
			seen[name] = true
		}
		if ids[a.ID] = true; one == nil {
			one = &a
		}
		return nil
	}
	err := t.page(ctx, l, r, first(l), p, take)
	var understood []string
	if err == nil {
		understood = append(understood, fmt.Sprintf("%d accounts on the first page", p.n))
	}
	if p.total >= 0 && err == nil {
		understood = append(understood, fmt.Sprintf("%d in all", p.total))
	}
	if one != nil {
		understood = append(understood, t.fieldsOf(*one, about)...)
		var nowhere []string
		for _, name := range names {
			if !seen[name] {
				nowhere = append(nowhere, name)
			}
		}
		if nowhere != nil {
			understood = append(understood, "on this page nobody has: "+strings.Join(nowhere, ", "))
		}
		if err == nil && !seen[about.Naming] {
			err = t.nameless(about.Naming, p.n)
		}
	}
	if !t.step("List all accounts", err, understood...) {
		return nil, false
	}
	next := spot{next: p.next, at: p.at, start: first(l).start + 1}
	if l.By == description.ByOffset {
		next.start = first(l).start + p.n
	}
	more := l.By == description.ByCursor && p.next != "" || l.By == description.ByLink && p.at != nil || p.n > 0 && (l.By == description.ByPage || l.By == description.ByOffset)
	if more {
		again, was := 0, maps.Clone(ids)
		err := t.page(ctx, l, r, next, p, func(item any) error {
			if was[description.Text(t.app.Account.ID.Of(item))] {
				again++
			}
			return nil
		})
		if err == nil && p.n > 0 && again == p.n {
			err = &system.Unavailable{Message: "the second page is the first one again", Remedy: "Look at “next” in the description."}
		}
		t.step("List the second page", err, fmt.Sprintf("%d accounts", p.n))
	} else if l.By == description.OnePage {
		t.step("All accounts are one page", nil, "If there is a second one, the description has to say how it is asked for (next).")
	}
	return one, true
}

func (t *trial) read(ctx context.Context, first *account.Account, about *system.Description) {
	now, err := t.Get(ctx, first.ID, namesOf(about))
	if err == nil {
		for _, name := range first.FieldNames() {
			if now.Field(name) != first.Field(name) {
				err = &system.Unavailable{Message: fmt.Sprintf("%s is “%s” in the list, and “%s” here", name, first.Field(name).Text(), now.Field(name).Text()), Remedy: "Look at “item” of read, and at the field's path."}
			}
		}
	}
	t.step("Read one account", err, t.fieldsOf(now, about)...)
}

func (t *trial) finds(ctx context.Context, about *system.Description) {
	if t.app.Finding == nil {
		t.step("Accounts are not found by a value", nil, "The description has no “find”: all are listed, which takes long where there are many.")
		return
	}
	for _, name := range slices.Sorted(maps.Keys(t.app.Finding.Params)) {
		f, _ := t.app.Account.Field(name)
		s, err := t.believes(ctx, f)
		understood := []string{"finds “" + s.value + "”, and nobody by a value that nobody has"}
		if errors.Is(err, system.ErrCannotFind) {
			understood = nil
			err = &system.Unavailable{Message: "it does not find who is there, or finds somebody by a value that nobody has: it is not believed, and all accounts are listed instead", Remedy: "Look at “by” and the parameter's name."}
			if s.value == "" {
				err = &system.Unavailable{Message: "nobody on the first page has a value there, so that nobody can tell whether it finds", Remedy: "Nothing, if that is so."}
			}
		}
		t.step("Find accounts by "+name, err, understood...)
	}
}

func (t *trial) kind(ctx context.Context, k *description.Things) {
	var some []account.Thing
	n := 0
	err := t.things(ctx, k.Kind, false, func(thing account.Thing) error {
		if n++; len(some) < someShown {
			some = append(some, thing)
		}
		return nil
	})
	understood := []string{fmt.Sprintf("%d %s", n, k.Kind)}
	for _, thing := range some {
		line := thing.ID + " = " + thing.Name
		if thing.Seats >= 0 {
			line += fmt.Sprintf(", %d seats", thing.Seats)
		}
		if len(thing.Roles) > 0 {
			line += ", roles " + strings.Join(thing.Roles, ", ")
		}
		understood = append(understood, line)
	}
	if !t.step("List the "+k.Kind, err, understood...) || len(some) == 0 {
		return
	}
	understood = nil
	for m, err := range t.Members(ctx, k.Kind, []string{some[0].ID}) {
		if err != nil {
			t.step("List the members of "+some[0].Name, err)
			return
		}
		if len(understood) < someShown {
			understood = append(understood, account.MembershipText("account "+m.Account, m.Role, m.Section))
		}
	}
	t.step("List the members of "+some[0].Name, nil, understood...)
}

// sample is an account of nobody: with what one must have.
func (t *trial) sample(about *system.Description) account.Account {
	a := account.Account{Fields: map[string]account.Value{}}
	for _, at := range about.Attributes {
		if at.ReadOnly || !at.Required && !slices.Contains([]string{"userName", "givenName", "familyName", "displayName", "email"}, at.Field) {
			continue
		}
		value := map[string]string{"userName": "tryout.person", "givenName": "Tryout", "familyName": "Person", "displayName": "Tryout Person", "email": "tryout.person@nobody.example"}[at.Field]
		switch {
		case len(at.Allowed) > 0:
			value = at.Allowed[0]
		case value == "":
			if value = at.Kind.Example(); value == "" {
				value = "tryout"
			}
		}
		a.Fields[at.Field] = account.Of(value)
	}
	return a
}

func (t *trial) creates(a account.Account) {
	if t.app.Create == nil {
		t.step("Accounts are not made", nil, "The description has no “create”.")
		return
	}
	text, err := t.Preview(a)
	head, body, _ := strings.Cut(text, "\n\n")
	t.mu.Lock()
	t.came = []system.Exchange{{Request: strings.ReplaceAll(head, "\n", " · "), Sent: body}}
	t.mu.Unlock()
	t.step("What making an account would send (nothing was sent)", err)
}

// writes makes an account, changes, ties, suspends and removes it, and looks each time.
func (t *trial) writes(ctx context.Context, a account.Account, about *system.Description) {
	names := namesOf(about)
	before, err := t.there(ctx, a, about)
	if err != nil {
		t.step("Make an account", err)
		return
	}
	made, err := t.create(ctx, nil, a, names)
	if before[made.ID] {
		t.step("Make an account", &system.Unavailable{Message: fmt.Sprintf("the answer is an account that was there before, %s: nothing more is done with it", made.ID), Remedy: "Look at create and answers: taken in the description."})
		return
	}
	if err == nil {
		for _, name := range a.FieldNames() {
			if kept := made.Field(name).Text(); kept != a.Field(name).Text() && !about.Field(name).Same(kept, a.Field(name).Text()) {
				err = &system.Unavailable{Message: fmt.Sprintf("“%s” was sent for %s, and the account has “%s”", a.Field(name).Text(), name, kept), Remedy: "Look at the field's path, words and kind."}
			}
		}
	}
	if made.ID == "" {
		t.step("Make an account", err)
		return
	}
	t.step("Make an account", err, t.fieldsOf(made, about)...)
	defer t.removes(ctx, made)
	for _, name := range []string{"displayName", "familyName", "givenName", "title"} {
		at, has := about.Attribute(name)
		if !has || at.Immutable || at.ReadOnly {
			continue
		}
		known, err := t.Get(ctx, made.ID, names)
		var now account.Account
		if err == nil {
			if now, err = t.change(ctx, nil, known, []account.Change{{Field: name, Before: known.Field(name), After: account.Of("Changed")}}, names); err == nil {
				now, err = t.Get(ctx, made.ID, names)
			}
		}
		if err == nil && now.Field(name).Text() != "Changed" {
			err = &system.Unavailable{Message: fmt.Sprintf("%s was to be “Changed” and is “%s”", name, now.Field(name).Text()), Remedy: "Look at “change” in the description."}
		}
		t.step("Change "+name, err, name+" = "+now.Field(name).Text())
		break
	}
	for i := range t.app.Things {
		t.ties(ctx, &t.app.Things[i], made.ID)
	}
	if about.MaySuspend() {
		for _, off := range []bool{true, false} {
			known, err := t.Get(ctx, made.ID, names)
			if err == nil {
				if _, err = t.change(ctx, nil, known, []account.Change{about.Mark(&known, off)}, names); err == nil {
					known, err = t.Get(ctx, made.ID, names)
				}
			}
			if err == nil && about.IsSuspended(&known) != off {
				err = &system.Unavailable{Message: fmt.Sprintf("afterwards it is “%s”", known.Field(active).Text()), Remedy: "Look at suspend, resume and the field “active”."}
			}
			t.step(map[bool]string{true: "Suspend it", false: "Let it in again"}[off], err, "active = "+known.Field(active).Text())
		}
	}
	if t.app.Password != nil {
		known, err := t.Get(ctx, made.ID, names)
		password, broken := "", ""
		if err == nil {
			password, broken, err = secret.Recipe{Words: 3}.MakeFor(about.Rules, nil) // nobody knows it, should the account stay
		}
		if err == nil && broken != "" {
			err = &system.Unavailable{Message: "no password was made that keeps password_rules: " + broken, Remedy: "Look at password_rules in the description."}
		}
		if err == nil {
			err = t.setPassword(ctx, nil, known, password, nil)
		}
		t.step("Give it another password", err)
	}
}

// there are the identifiers of all accounts; one that is called as the one to be made is nobody to try things out on.
func (t *trial) there(ctx context.Context, a account.Account, about *system.Description) (map[string]bool, error) {
	ids, name := map[string]bool{}, a.Field(about.Naming).Text()
	for known, err := range t.List(ctx, []string{about.Naming}) {
		if err != nil {
			return nil, err
		}
		if ids[known.ID] = true; name != "" && about.Field(about.Naming).Same(known.Field(about.Naming).Text(), name) {
			return nil, &system.Unavailable{Message: fmt.Sprintf("the account %s (%s) is there already, and it is nobody's to try things out on", name, known.ID), Remedy: "Take a row of somebody who has no account there yet, or remove that account first if a try left it behind."}
		}
	}
	return ids, nil
}

// ties puts the account into the first thing of a kind, and takes it out again.
func (t *trial) ties(ctx context.Context, k *description.Things, id string) {
	var thing account.Thing
	err := t.things(ctx, k.Kind, false, func(one account.Thing) error {
		if thing = one; one.Seats == 0 {
			return nil
		}
		return errEnough
	})
	if err != nil && !errors.Is(err, errEnough) || thing.ID == "" {
		return
	}
	role := ""
	if len(thing.Roles) > 0 {
		role = thing.Roles[0]
	}
	for _, leave := range []bool{false, true} {
		err := t.Tie(ctx, nil, k.Kind, thing.ID, []system.Tie{{Account: id, Role: role, Leave: leave}})
		is := false
		if err == nil {
			_, is, err = t.member(ctx, k.Kind, thing.ID, id)
		}
		if err == nil && is == leave {
			err = &system.Unavailable{Message: map[bool]string{true: "afterwards it is a member still", false: "afterwards it is no member"}[leave], Remedy: "Look at join, leave and members of " + k.Kind + "."}
		}
		t.step(map[bool]string{true: "Take it out of ", false: "Make it a member of "}[leave]+thing.Name, err)
	}
}

func (t *trial) removes(ctx context.Context, made account.Account) {
	if t.app.Remove == nil {
		t.step("The account stays", nil, "The description has no “remove”: remove "+made.Label()+" by hand.")
		return
	}
	err := t.remove(ctx, nil, made)
	if err == nil {
		if _, gone := t.Get(ctx, made.ID, nil); !errors.Is(gone, system.ErrGone) {
			err = &system.Unavailable{Message: "afterwards it is there still", Remedy: "Look at remove, and at answers: gone."}
			if gone != nil {
				err = gone
			}
		}
	}
	understood := []string{"it is gone"}
	if err != nil {
		understood = nil
	}
	t.step("Remove it", err, understood...)
}
