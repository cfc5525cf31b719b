package membership

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// A Verb is what a step does.
type Verb string

// The verbs.
const (
	Refer Verb = "refer" // set a field to an account that the same sheet creates
	// Stay has what refers to the account by a name do so when that changed. Where nothing referred to it when it was drafted, there
	// is no Kind.
	Stay   Verb = "stay"
	Leave  Verb = "leave"
	Join   Verb = "join"
	Renew  Verb = "renew"  // give an account that is there another password
	Reown  Verb = "reown"  // give files to the new numbers of the account
	Follow Verb = "follow" // do something elsewhere
	Notify Verb = "notify" // send a mail
)

// A Result is what became of a step; the zero Result is that it waits.
type Result string

// The results.
const (
	Done   Result = "done"
	Failed Result = "failed"
	Unsent Result = "unsent" // the account's own step failed
	// Already is that of a step that found things as they were to be: nothing was done, and nothing
	// is to be undone.
	Already Result = "already"
	// Goes is that of a membership or reference that goes with its account, which is removed.
	Goes Result = "goes"

	// On its way, which is on disk before it is sent. Of mails and follow-ups: begun, and nobody can say
	// whether it came to its end; kept until a person sends it.
	Sending Result = "sending"
	Unclear Result = "unclear"
	Held    Result = "held"
	Queued  Result = "queued" // a person said so
)

// A Step is a request of an entry that follows once its account is there.
type Step struct {
	Do     Verb   `json:"do"`
	Kind   string `json:"kind"`          // of the thing; the field that refers
	Name   string `json:"name"`          // for people: the thing, the account referred to, the mail, the follow-up, the files
	Row    int    `json:"row,omitempty"` // whose account is referred to, or gets the mail
	Result Result `json:"result,omitempty"`

	// Of a membership, and with Stay of what refers to the account.
	Thing   string     `json:"thing,omitempty"` // identifier
	Role    string     `json:"role,omitempty"`
	Section string     `json:"section,omitempty"`
	Was     *[2]string `json:"was,omitempty"`     // role and section of the membership there is
	Made    bool       `json:"made,omitempty"`    // the thing does not exist yet and is made first
	Divided bool       `json:"divided,omitempty"` // the thing does not have the section yet, and gets it first

	// With Stay.
	Holder bool   `json:"holder,omitempty"` // Thing is an account, and Kind the field in which it refers to the entry's
	Before string `json:"before,omitempty"` // version of the account, while it was called otherwise
	Again  bool   `json:"again,omitempty"`  // the account is made again, and what referred to it refers to it again

	Choose  string             `json:"choose,omitempty"`   // with Renew: the field that has the person choose yet another password; or empty
	Numbers *system.Renumbered `json:"numbers,omitempty"`  // with Reown
	To      string             `json:"to,omitempty"`       // with Notify the address, with Follow the feed
	Tells   bool               `json:"password,omitempty"` // with Notify: the password stands in the mail
	Sent    string             `json:"-"`                  // with Notify and Follow: what goes out, as JSON; read only where it is asked for
}

// Target is what the step is directed at, as text: a thing or account, an address, a feed, numbers.
func (s Step) Target() string {
	switch s.Do {
	case Notify, Follow:
		return s.To
	case Reown:
		return s.Numbers.String()
	}
	return s.Thing
}

// HoldsPassword reports whether the step is a mail that is still to tell the password.
func (s Step) HoldsPassword() bool {
	return s.Do == Notify && s.Tells && (s.Result == "" || s.Result == Queued || s.Result == Sending || s.Result == Held)
}

// Key tells the step from the others of its entry.
func (s Step) Key() string {
	return strings.Join([]string{string(s.Do), s.Kind, cmp.Or(s.Name, s.Choose), s.Target()}, "|")
}

// Ties are the verbs that change a membership, and IsTie reports whether a step does.
func Ties() []Verb { return []Verb{Leave, Join} }

// IsTie reports whether the step changes a membership.
func (s Step) IsTie() bool { return s.Do == Join || s.Do == Leave }

// InThing reports whether the step says who is in a thing.
func (s Step) InThing() bool { return s.IsTie() || s.Do == Stay && s.Kind != "" && !s.Holder }

// Within reports whether the step is one in the system itself, which can be read back there; others
// go out.
func (s Step) Within() bool { return s.Do != Follow && s.Do != Notify }

// Waits reports whether the step is still to be done, or settled.
func (s Step) Waits() bool { return s.Result == "" || s.Result == Sending || s.Result == Queued }

// Text says what the step does.
func (s Step) Text() string {
	if s.Do == Stay {
		return s.stays()
	}
	if s.Result == Goes {
		return "in " + singular(s.Kind) + " " + account.MembershipText(s.Name, s.Was[0], s.Was[1]) + ", which goes with it"
	}
	if s.Result == Already {
		s.Result = ""
		return s.Text() + " (so already)"
	}
	switch {
	case s.Do == Refer:
		return s.Kind + ": " + s.Name
	case s.Do == Reown:
		return "files " + arrows(s.Numbers) + ": " + s.Name
	case s.Do == Renew && s.Choose != "":
		return "gets another password, until the first sign-in"
	case s.Do == Follow && s.Result == Unclear:
		return "follow-up " + s.Name + ": unclear whether it was done"
	case s.Do == Follow && s.Result == Failed:
		return "follow-up " + s.Name + " failed"
	case s.Do == Follow:
		return "follow-up " + s.Name + " in " + s.To
	case s.Do == Notify && s.Result == Held:
		return "mail " + s.Name + " to " + s.To + " is held"
	case s.Do == Notify && s.Result == Unclear:
		return "mail " + s.Name + " to " + s.To + ": unclear whether it was sent"
	case s.Do == Notify && s.Result == Failed:
		return "mail " + s.Name + " to " + s.To + " failed"
	case s.Do == Notify:
		return "mail " + s.Name + " to " + s.To
	case s.Do == Renew:
		return "gets another password"
	case s.Do == Leave && s.Was != nil:
		return "leaves " + singular(s.Kind) + " " + account.MembershipText(s.Name, s.Was[0], s.Was[1])
	case s.Do == Leave:
		return "leaves " + singular(s.Kind) + " " + s.Name
	case s.Was != nil:
		return "in " + singular(s.Kind) + " " + s.Name + ": " + as(s.Was[0], s.Was[1]) + " → " + as(s.Role, s.Section)
	}
	return "joins " + singular(s.Kind) + " " + account.MembershipText(s.Name, s.Role, s.Section)
}

// stays says what refers to the account by its name; empty: nothing did.
func (s Step) stays() string {
	switch {
	case s.Kind == "":
		return ""
	case s.Result == Goes:
		return s.Kind + " of " + s.Name + ", who has none then"
	case s.Holder && s.Again:
		return "becomes the " + s.Kind + " of " + s.Name + " again"
	case s.Holder:
		return "stays the " + s.Kind + " of " + s.Name
	}
	return "stays in " + singular(s.Kind) + " " + s.Name
}

// arrows says numbers before and after, those of the group where they are others.
func arrows(of *system.Renumbered) string {
	said := fmt.Sprintf("%d → %d", of.User[0], of.User[1])
	if of.Group[0] != of.Group[1] && of.User != of.Group {
		said += fmt.Sprintf(", group %d → %d", of.Group[0], of.Group[1])
	}
	return said
}

// as says a role and section alone.
func as(role, section string) string {
	if role+section == "" {
		return "(no role)"
	}
	return strings.TrimSpace(account.MembershipText("", role, section))
}

// Seats are those of one licence, as a batch uses them.
type Seats struct {
	Kind    string `json:"kind"`
	Thing   string `json:"thing"`
	Name    string `json:"name"`
	Has     int    `json:"has"`     // in all
	Taken   int    `json:"taken"`   // before the batch
	Needs   int    `json:"needs"`   // rows that get one
	Given   int    `json:"given"`   // back, by rows
	Refused int    `json:"refused"` // rows for which none was left
}

// Left is how many are left after the batch.
func (s Seats) Left() int { return s.Has - s.Taken - s.Needs + s.Given }

// A Make is a thing that does not exist and is made first.
type Make struct {
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	Section string `json:"section,omitempty"` // of it, which is all that does not exist
	Near    string `json:"near,omitempty"`    // a thing, or a section, there is that is called nearly so
	Rows    int    `json:"rows"`              // that are tied to it
}

// Title names what is made, for people.
func (m Make) Title() string {
	if m.Section != "" {
		return m.Name + ", section " + m.Section
	}
	return m.Name
}

// A Decider decides the memberships of one batch, row by row in the order of the
// sheet.
type Decider struct {
	Brief     *brief.Brief
	Catalogue *Catalogue
	Allow     bool // elevated rights may be given
	// Has returns what an account has of a kind, by thing.
	Has func(id, kind string) map[string]account.Membership

	seats map[string]*Seats
	makes []*Make
	order []string
	first map[[3]string]int // account, kind and thing → row, where rows are memberships
}

// Seats returns the licences that the batch gives or takes back, in the order in
// which they came up.
func (d *Decider) Seats() []Seats {
	all := make([]Seats, len(d.order))
	for i, key := range d.order {
		all[i] = *d.seats[key]
	}
	return all
}

// Makes returns the things that are made first, in the order in which they came up.
func (d *Decider) Makes() []Make {
	var all []Make
	for _, m := range d.makes {
		if m.Rows > 0 {
			all = append(all, *m)
		}
	}
	return all
}

// count counts a row more, or less, that is tied to a thing which is made first.
func (d *Decider) count(s Step, n int) {
	of := Make{Kind: s.Kind, Name: s.Name, Rows: n}
	switch {
	case s.Divided:
		of.Section, of.Near = s.Section, d.Catalogue.nearestSection(s.Kind, s.Thing, s.Section)
	case s.Made:
		of.Near = d.Catalogue.nearest(s.Kind, s.Name)
	default:
		return
	}
	for _, m := range d.makes {
		if m.Kind == of.Kind && m.Section == of.Section && words.NameKey(m.Name) == words.NameKey(of.Name) {
			m.Rows += n
			return
		}
	}
	d.makes = append(d.makes, &of)
}

// serves reports whether a membership that comes of a fallback is for an account.
func (d *Decider) serves(of *brief.Memberships, id string) bool {
	return id == "" || of.FallbackFor == brief.ForAll || of.FallbackFor == brief.ForEmpty && len(d.Has(id, of.Kind)) == 0
}

// wish is a membership that is wanted, or not wanted any more.
type wish struct {
	of            *brief.Memberships
	thing         *account.Thing // nil: it is to be made first
	name          string
	role, section string
	usual         string // the role of who is given none
	divided       bool   // the thing gets the section first
}

// isClosed reports whether the thing wished for cannot be joined any more.
func (x wish) isClosed() bool {
	return x.thing != nil && x.thing.Closed && x.of.Mode != brief.Drop
}

func (x wish) closed(column string) *account.Finding {
	f := account.Find(account.Error, account.Closed, fmt.Sprintf("the %s “%s” is closed", singular(x.of.Kind), x.thing.Name))
	f.Field, f.Column = x.of.Kind, column
	return &f
}

// Decide returns the steps that give an account the memberships a row wants: of a
// new account if id is empty. With an error among the findings there are none.
func (d *Decider) Decide(w *mapping.Wanted, id string) (steps []Step, findings []account.Finding) {
	row := &rowDecision{Decider: d, w: w, id: id}
	wishes, unserved := row.wishes()
	if !account.HasError(row.findings) {
		row.take(wishes, unserved)
		row.once()
		slices.SortStableFunc(row.steps, func(a, b Step) int { return rank(a) - rank(b) })
	}
	if !account.HasError(row.findings) {
		row.grant()
	}
	if account.HasError(row.findings) {
		return nil, row.findings
	}
	return row.steps, row.findings
}

// A rowDecision is what is being decided for one row.
type rowDecision struct {
	*Decider
	w        *mapping.Wanted
	id       string // of the account; empty: it is yet to be made
	steps    []Step
	findings []account.Finding
}

func (r *rowDecision) find(level account.Level, code account.Code, kind, column, remedy, format string, args ...any) {
	f := account.Find(level, code, fmt.Sprintf(format, args...))
	if f.Row, f.Field, f.Column = r.w.Row, kind, column; remedy != "" {
		f.Remedy = remedy
	}
	r.findings = append(r.findings, f)
}

// wishes finds the things that the row names, by the membership of the brief that
// names them. Of those that are unserved, nothing is said but a fallback for others.
func (r *rowDecision) wishes() (wishes [][]wish, unserved []bool) {
	wishes = make([][]wish, len(r.Brief.Memberships))
	unserved = make([]bool, len(r.Brief.Memberships))
	for _, tie := range r.w.Ties {
		of := &r.Brief.Memberships[tie.Of]
		if tie.ByFallback && !r.serves(of, r.id) {
			unserved[tie.Of] = true
			continue
		}
		x, problem := r.Catalogue.read(of, tie)
		if problem == nil && x.isClosed() && !has(r.Has(r.id, of.Kind), x.thing) {
			problem = x.closed(tie.Column)
		}
		if problem != nil {
			problem.Row = r.w.Row
			r.findings = append(r.findings, *problem)
			continue
		}
		anew := x.thing == nil
		if anew {
			r.Catalogue.make(of.Kind, x.name)
			x.thing, _ = r.Catalogue.find(of.Kind, x.name) // it is there now, and alone
		}
		if near := r.Catalogue.nearest(of.Kind, x.thing.Name); near != "" && (x.thing.ID == "" || anew && r.Catalogue.kinds[of.Kind].about.Any) {
			r.find(account.Warning, account.NearlyTheName, of.Kind, tie.Column, fmt.Sprintf("If “%s” is meant, correct the cell.", near), "there is no %s “%s”, so it would be made; there is “%s”", singular(of.Kind), x.thing.Name, near)
		}
		t := x.thing
		if of.Mode != brief.Drop && r.Catalogue.IsElevated(of.Kind, t) && !r.Allow && !has(r.Has(r.id, of.Kind), t) {
			r.find(account.Error, account.ElevatedRight, of.Kind, tie.Column, "", "the %s “%s” gives rights over others", singular(of.Kind), t.Name)
		}
		for _, others := range wishes {
			for _, x := range others {
				if x.thing == t && (x.of.Mode == brief.Drop) != (of.Mode == brief.Drop) {
					r.find(account.Error, account.BothWays, of.Kind, tie.Column, "", "the row both names the %s “%s” and wants it taken away", singular(of.Kind), t.Name)
				}
			}
		}
		wishes[tie.Of] = append(wishes[tie.Of], x)
	}
	return wishes, unserved
}

// take makes steps of the wishes where they differ from what the account has.
func (r *rowDecision) take(wishes [][]wish, unserved []bool) {
	for n := range wishes {
		of := &r.Brief.Memberships[n]
		now := r.Has(r.id, of.Kind)
		if of.Mode == brief.Exact && r.w.Spoken[n] && !unserved[n] {
			r.steps = append(r.steps, r.leaves(of.Kind, of.Within, now, wishes)...)
		}
		for _, x := range wishes[n] {
			have, member := now[x.thing.ID]
			if step, needed := x.step(of, have, member && x.thing.ID != ""); needed {
				r.put(step)
			}
		}
	}
}

// step is what brings about that the wish is so; it may not be needed.
func (x wish) step(of *brief.Memberships, have account.Membership, member bool) (step Step, needed bool) {
	step = Step{Do: Join, Kind: of.Kind, Thing: x.thing.ID, Name: x.thing.Name, Role: x.role, Section: x.section, Made: x.thing.ID == "", Divided: x.divided}
	if !member {
		step.Role = cmp.Or(x.role, x.usual)
		return step, of.Mode != brief.Drop
	}
	step.Was = &[2]string{have.Role, have.Section}
	if of.Mode == brief.Drop {
		step.Do, step.Role, step.Section = Leave, "", ""
		return step, true
	}
	if x.role == "" {
		step.Role = have.Role
	}
	if x.section == "" {
		step.Section = have.Section
	}
	return step, step.Role != have.Role || step.Section != have.Section
}

// put adds a step, once. Two that say different things of one thing are an error.
func (r *rowDecision) put(step Step) {
	at := slices.IndexFunc(r.steps, func(s Step) bool {
		return s.Kind == step.Kind && words.NameKey(s.Name) == words.NameKey(step.Name) && s.Thing == step.Thing
	})
	if at < 0 {
		r.steps = append(r.steps, step)
	} else if had := r.steps[at]; had.Do != step.Do || had.Role != step.Role || had.Section != step.Section {
		r.find(account.Error, account.BothWays, step.Kind, "", "", "the row asks for two different things with the %s “%s”: %s, and %s", singular(step.Kind), step.Name, had.Text(), step.Text())
	}
}

// once sees to it that, in a sheet that has nothing but memberships and so may name a
// person in many rows, no two rows speak of the same one.
func (r *rowDecision) once() {
	if r.id == "" || !r.Brief.OnlyMemberships() {
		return
	}
	for _, s := range r.steps {
		key := [3]string{r.id, s.Kind, s.Thing}
		if row, taken := r.first[key]; taken {
			r.find(account.Error, account.SameMembership, s.Kind, "", "", "row %d speaks of the same %s, “%s”", row, singular(s.Kind), s.Name)
			continue
		}
		if r.first == nil {
			r.first = map[[3]string]int{}
		}
		r.first[key] = r.w.Row
	}
}

// grant tells of rights over others that were allowed, and takes the seats.
func (r *rowDecision) grant() {
	for _, s := range r.steps {
		if s.Do == Join && s.Was == nil && r.Catalogue.IsElevated(s.Kind, ptr(r.Catalogue.Thing(s.Kind, s.Thing))) {
			r.find(account.Warning, account.ElevatedRight, s.Kind, "", "It was allowed for this batch.", "gets the %s “%s”, which gives rights over others", singular(s.Kind), s.Name)
		}
	}
	r.seat(r.steps, func(s Step, seats *Seats) {
		r.find(account.Error, account.NoSeatLeft, s.Kind, "", "", "no seat of the %s “%s” is left: it has %d", singular(s.Kind), s.Name, seats.Has)
	})
}

func ptr[T any](v T) *T { return &v }

func has(now map[string]account.Membership, t *account.Thing) bool {
	_, is := now[t.ID]
	return is && t.ID != ""
}

// rank puts what is left before what is joined.
func rank(s Step) int { return slices.Index([]Verb{Refer, Leave, Join}, s.Do) }

// leaves are the memberships within patterns that nothing wishes for.
func (d *Decider) leaves(kind string, within []string, now map[string]account.Membership, wishes [][]wish) []Step {
	var steps []Step
	for _, id := range sorted(now) {
		t := d.Catalogue.Thing(kind, id)
		wished := slices.ContainsFunc(wishes, func(of []wish) bool {
			return slices.ContainsFunc(of, func(x wish) bool { return x.of.Kind == kind && x.thing.ID == id && x.of.Mode != brief.Drop })
		})
		if !wished && (len(within) == 0 || account.Fits(t.Name, within)) {
			steps = append(steps, Step{Do: Leave, Kind: kind, Thing: id, Name: t.Name, Was: &[2]string{now[id].Role, now[id].Section}})
		}
	}
	return steps
}

func sorted(now map[string]account.Membership) []string {
	ids := make([]string, 0, len(now))
	for id := range now {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// Leaving returns the steps that take an account out of what goes when it is
// suspended, besides those that were decided already.
func (d *Decider) Leaving(id string, already []Step) []Step {
	var steps []Step
	for _, kind := range brief.Kinds() {
		if patterns := d.Brief.Suspending.Leave[kind]; len(patterns) > 0 {
			steps = append(steps, d.leaves(kind, patterns, d.Has(id, kind), nil)...)
		}
	}
	steps = slices.DeleteFunc(steps, func(s Step) bool {
		return slices.ContainsFunc(already, func(a Step) bool { return a.Kind == s.Kind && a.Thing == s.Thing })
	})
	d.seat(steps, nil)
	return steps
}

// seat books the seats that steps give back and take, all or none.
func (d *Decider) seat(steps []Step, none func(Step, *Seats)) {
	short := false
	for _, s := range steps {
		if seats := d.seatsOf(s); s.Do == Join && s.Was == nil && seats != nil && seats.Left() < 1 {
			seats.Refused++
			short = true
			none(s, seats)
		}
	}
	for _, s := range steps {
		if !short {
			d.count(s, 1)
		}
		seats := d.seatsOf(s)
		switch {
		case short || seats == nil:
		case s.Do == Leave:
			seats.Given++
		case s.Do == Join && s.Was == nil:
			seats.Needs++
		}
	}
}

// Return takes back what was booked for the steps of a row that is refused after
// all.
func (d *Decider) Return(steps []Step) {
	if d == nil {
		return
	}
	for _, s := range steps {
		d.count(s, -1)
		seats := d.seatsOf(s)
		switch {
		case seats == nil:
		case s.Do == Leave:
			seats.Given--
		case s.Do == Join && s.Was == nil:
			seats.Needs--
		}
	}
}

// seatsOf returns the seats of the thing of a step; nil if any number may have it,
// or nobody knows how many do.
func (d *Decider) seatsOf(s Step) *Seats {
	t := d.Catalogue.Thing(s.Kind, s.Thing)
	if s.Thing == "" || t.Seats < 0 || t.Members < 0 {
		return nil
	}
	key := s.Kind + "\x00" + s.Thing
	if d.seats == nil {
		d.seats = map[string]*Seats{}
	}
	if d.seats[key] == nil {
		d.seats[key] = &Seats{Kind: s.Kind, Thing: s.Thing, Name: t.Name, Has: t.Seats, Taken: t.Members}
		d.order = append(d.order, key)
	}
	return d.seats[key]
}
