// Package drafting makes a batch: it reads a sheet, finds the accounts its rows
// mean, and writes what would be done with each into the ledger. It changes
// nothing in the system.
//
// A batch is there whole or not at all. Memory holds the values that find
// accounts and the accounts found, not the sheet: between being read and being
// decided its rows wait in a scratch file, and those of a small one in memory.
package drafting

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/candidates"
	"evenledger/internal/check"
	"evenledger/internal/keyset"
	"evenledger/internal/mapping"
	"evenledger/internal/presence"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// chunk is how many rows are decided and written together.
const chunk = 1000

// A Draft is a batch to be made.
type Draft struct {
	Ledger   store.Drafts
	Worker   store.Worker                              // this process; of several drafts one
	Sign     func(context.Context, *batch.Batch) error // signs what was sealed, as who drafted it; may be nil
	System   system.System
	Sheet    *sheet.Sheet
	Rows     iter.Seq2[sheet.Row, error] // of the sheet, those to be left out marked
	Mapper   *mapping.Mapper
	Together int
	Scratch  func() (Scratch, error)      // makes what the rows of a large sheet wait in; nil: all wait in memory
	Batch    batch.Batch                  // what the caller knows of it
	Part     bool                         // only a part of the sheet was taken
	Compare  bool                         // only to compare: the batch gets no number, and is thrown away when it was looked at
	Progress func(stage string, rows int) // may be nil

	Elevated map[string][]string // kind → patterns of names that give rights over others
	Allow    bool                // and may be given
	Protect  []string            // patterns of accounts that are not changed, besides the brief's
	Vaults   *secret.Vaults      // seal passwords
	Rules    secret.Rules        // that the system has for them
	Known    []string            // words that anyone knows of the organisation
	WhyNot   string              // what can be done about rows that find no account, where they are refused
	Before   int                 // rows of the batch before this one of the same list; 0: there is none
	RestNew  bool                // with Pairs: rows that nobody answered for are new people's
	Pairs    *candidates.List    // whom a person said that rows mean; nil: nobody did
	MailsTo  string              // with a trial: the address that its mails go to, instead of people's; empty: none go
	Renew    string              // field that makes a person choose another password; empty: none
}

// Made is a batch that was made.
type Made struct {
	Batch *batch.Batch
	Way   system.Way // how accounts were looked up
	// Unprotecting are the patterns of protected accounts that no account fits. Where not
	// all accounts were looked at, nobody can say so of a pattern with a star.
	Unprotecting []string
	// Keyless are the fields by which accounts are found and that nobody has, though there are accounts. Where not all
	// were looked at, nobody can say so.
	Keyless []string
}

// Findings are those about the batch as a whole.
func (m *Made) Findings() (findings []account.Finding) {
	for _, pattern := range m.Unprotecting {
		findings = append(findings, account.Find(account.Warning, account.ProtectsNobody, fmt.Sprintf("“%s” stands under “protect”, and no account is called so", pattern)))
	}
	for _, field := range m.Keyless {
		f := account.Find(account.Warning, account.KeyNobodyHas, fmt.Sprintf("of all accounts in %s, nobody has a value in %s, by which the brief finds them", m.Batch.System, field))
		f.Field = field
		findings = append(findings, f)
	}
	return findings
}

// Make makes the batch.
func (d *Draft) Make(ctx context.Context) (*Made, error) {
	made, errs := MakeAll(ctx, []*Draft{d}, nil)
	return made[0], errs[0]
}

// MakeAll makes several batches of one sheet, one for each of its systems, in which a person
// gets one number. What became of each is told in their order; one that cannot be made leaves
// the others alone, unless numbers are to be given: nobody can tell then which are free. Before
// batches are thrown away that are made only to compare, look may look at all of them; it may be nil.
func MakeAll(ctx context.Context, drafts []*Draft, look func(made []*Made, errs []error)) ([]*Made, []error) {
	made, errs := make([]*Made, len(drafts)), make([]error, len(drafts))
	pool := &pool{several: len(drafts) > 1}
	makings := make([]*making, len(drafts))
	for i, d := range drafts {
		makings[i] = &making{Draft: d, pool: pool, spool: &spool{open: d.Scratch}, wanted: wanted{keys: map[string]*keyset.Set{}, counts: map[string]int{}}, earlier: map[int][]account.Finding{}, bases: map[string]*base{}, beside: map[string]*base{}}
	}
	each := func(together bool, do func(*making) error) {
		if !together || len(makings) == 1 {
			for i, m := range makings {
				if errs[i] == nil {
					errs[i] = do(m)
				}
			}
			return
		}
		var all sync.WaitGroup
		for i, m := range makings {
			if errs[i] == nil {
				all.Go(func() { errs[i] = do(m) })
			}
		}
		all.Wait()
	}
	each(true, func(m *making) error { return m.ready(ctx) })
	leases := begin(ctx, makings, errs)
	if len(leases) == 0 {
		return made, errs
	}
	lost := presence.At(ctx, leases, drafts[0].Worker.Term, func(ctx context.Context) error {
		makeAll(ctx, pool, makings, errs, each)
		for i, m := range makings {
			if errs[i] == nil {
				made[i] = &Made{&m.Batch, m.way, m.unprotecting(), m.keyless()}
			}
		}
		if look != nil {
			look(made, errs)
		}
		return context.Cause(ctx)
	})
	for i, m := range makings {
		if errs[i] == nil {
			errs[i] = lost
		}
		if err := m.spool.Close(); err != nil {
			errs[i] = errors.Join(errs[i], err)
		}
		if m.Batch.ID != 0 && (errs[i] != nil || m.Compare) {
			// The context may be over, and the rows must go all the same.
			errs[i] = errors.Join(errs[i], m.Ledger.Drafting(m.Batch.ID).Discard(context.WithoutCancel(ctx)), m.Vaults.Destroy(m.Batch.ID))
		}
		if errs[i] != nil {
			made[i] = nil
		}
	}
	return made, errs
}

// makeAll makes the batches that were begun.
func makeAll(ctx context.Context, pool *pool, makings []*making, errs []error, each func(together bool, do func(*making) error)) {
	for i := range makings { // a number is given of a range that all of them share
		if errs[i] == nil {
			makings[i].lookForNumbers()
		}
	}
	each(true, func(m *making) error { return m.gather(ctx) })
	if i := slices.IndexFunc(errs, func(err error) bool { return err != nil }); i >= 0 && len(pool.ranges) > 0 {
		for at := range errs {
			if errs[at] == nil {
				errs[at] = fmt.Errorf("numbers cannot be given while another system of the set cannot be looked at: %w", errs[i])
			}
		}
	}
	each(false, func(m *making) error { return m.holders(ctx) })
	each(false, func(m *making) error { return m.finish(ctx) })
}

// A making is a batch on its way.
type making struct {
	*Draft

	registry
	pool      *pool
	spool     *spool
	index     *batch.Index
	about     *system.Description
	vault     *secret.Vault // of the batch
	checker   *check.Checker
	brief     *brief.Brief
	wanted    wanted
	looked    []int // fields of the brief by which accounts are looked up
	referring []int // that refer to accounts
	way       system.Way
	found     int                       // accounts
	held      map[string]int            // by field of “match”: how many accounts have it
	earlier   map[int][]account.Finding // findings about rows taken in before
	bases     map[string]*base          // of the numbered field, by key
	beside    map[string]*base          // of the field that is told apart in its unit, by key
	seen      []account.Account         // a few of the system's, whoever they are
	numbers   []numbered                // that new accounts get
	keeper    *keeper
	digits    map[string][]int                 // that keys of the system have, by field; nil: nobody looked yet
	places    *places                          // nil: none are made
	guards    map[string]bool                  // patterns of protected accounts → one was seen
	left      *leftAway                        // nil: the batch is no trial, or has nothing that could be left away
	made      map[string]map[string]madeBefore // field → value → what an earlier batch made, or may have
}

// ready sees what the system is like.
func (d *making) ready(ctx context.Context) (err error) {
	if d.about, err = d.System.Describe(ctx); err != nil {
		return err
	}
	d.brief = d.Mapper.Brief()
	d.brief.Fit(d.about.Schema)
	d.checker = check.New(d.Mapper, d.about.Schema)
	d.looked = d.lookUp()
	for i, f := range d.brief.Fields {
		if f.Refers != "" {
			d.referring = append(d.referring, i)
		}
	}
	d.checker.Judge, d.checker.Known = secret.NewJudge(d.rules()), d.Known
	d.keeper = &keeper{ledger: d.Ledger, system: d.System, about: d.about, together: d.Together}
	b := &d.Batch
	b.Policies, b.AsOf, b.Match = batch.Policies(d.brief), d.about.AsOf, d.brief.Match
	b.Protect, b.Mark = slices.Concat(d.brief.Protect, d.Protect), d.about.Suspension
	for _, f := range d.brief.Fields {
		if f.Send {
			b.Fields = append(b.Fields, f.Name)
		}
	}
	if err := d.prepare(ctx); err != nil {
		return err
	}
	return d.remember(ctx)
}

// begin gives the batches that are ready their numbers, one after the other.
func begin(ctx context.Context, makings []*making, errs []error) (leases []store.Lease) {
	var batches []*batch.Batch
	for i, m := range makings {
		if errs[i] != nil {
			continue
		}
		if m.Compare {
			m.Batch.ID = store.Unnumbered
		}
		batches = append(batches, &m.Batch)
	}
	if len(batches) == 0 {
		return nil
	}
	err := makings[0].Ledger.Begin(ctx, makings[0].Worker, batches...)
	for i, m := range makings {
		if errs[i] != nil {
			continue
		}
		if errs[i] = err; err != nil {
			continue
		}
		if leases = append(leases, m.Ledger.Lease(m.Batch.ID, makings[0].Worker)); m.Batch.Set != "" {
			m.Batch.Beside = batches[0].ID
		}
		// A draft that was killed may have left a key under this number.
		errs[i] = m.Vaults.Destroy(m.Batch.ID)
		m.vault = m.Vaults.Of(m.Batch.ID, "")
	}
	return leases
}

// gather takes the rows in and looks at the accounts that they may mean.
func (d *making) gather(ctx context.Context) (err error) {
	if err := d.takeIn(ctx); err != nil {
		return err
	}
	if d.index, err = d.find(ctx); err != nil {
		return err
	}
	if err := d.register(ctx, d.index); err != nil {
		return err
	}
	if err := d.lookForPlaces(ctx); err != nil {
		return err
	}
	return d.readNumbers(ctx)
}

// finish decides what is to be done.
func (d *making) finish(ctx context.Context) (err error) {
	if err := d.decide(ctx, d.index); err != nil {
		return err
	}
	if !d.Compare {
		if err := foresee(ctx, d.Ledger, d.System, d.Batch.ID, func(e *batch.Entry) { d.ties.Return(e.Steps) }); err != nil {
			return err
		}
	}
	if d.Batch.Delivery != nil && d.Sheet.Info().Read.Cut {
		d.Batch.Held = append(d.Batch.Held, "the list breaks off inside its last row: the line has no end, and fewer cells than the others")
	}
	counts, waiting, err := d.Ledger.Counts(ctx, d.Batch.ID)
	if err != nil {
		return err
	}
	if err := d.hold(ctx, counts, waiting); err != nil {
		return err
	}
	d.settleWitnesses(d.index)
	info := d.Sheet.Info()
	d.Batch.Encoding, d.Batch.Read = info.Encoding, info.Read
	if d.Compare {
		return nil
	}
	if b := &d.Batch; b.Trial != "" {
		d.sayTrial()
	}
	if err := d.keeper.keep(ctx, &d.Batch, waiting); err != nil {
		return err
	}
	if d.vault != nil {
		if d.Batch.Key, err = d.vault.KeyName(); err != nil {
			return err
		}
	}
	return drafted(ctx, d.Ledger, &d.Batch, waiting, d.brief.SignedFrom, d.Sign)
}

// sayTrial says what a trial leaves away.
func (d *making) sayTrial() {
	b := &d.Batch
	left := leftAway{followUps: len(b.Begin) + len(b.End)}
	if b.Begin, b.End = nil, nil; d.left != nil {
		left.mails, left.followUps = d.left.mails, left.followUps+d.left.followUps
	}
	b.Policies += fmt.Sprintf(" This is a trial, “%s”: of what goes out, %d mails and %d follow-ups are left away", b.Trial, left.mails, left.followUps)
	if d.MailsTo != "" {
		b.Policies += ", and mails go to " + d.MailsTo + " instead of people"
	}
	b.Policies += "."
}

// drafted notes that a batch is made, and seals it: nothing of it is altered unseen from then on.
// Waiting is what waits in it. Signed is from how many changes on a second person has to sign it, besides what the batch says
// already; 0: none has to. Sign signs it as who drafted it; it may be nil.
func drafted(ctx context.Context, ledger store.Drafts, b *batch.Batch, waiting map[account.Intent]int, signed int, sign func(context.Context, *batch.Batch) error) error {
	for _, n := range waiting {
		b.ToDo += n
	}
	b.SignFrom(signed)
	if err := ledger.Drafting(b.ID).Seal(ctx, b); err != nil {
		return err
	}
	if sign != nil {
		if err := sign(ctx, b); err != nil {
			return err
		}
	}
	b.State = batch.Drafted
	return ledger.Save(ctx, b)
}

// takeIn reads and checks the rows and has them wait.
func (d *making) takeIn(ctx context.Context) error {
	for checked, err := range d.checker.Rows(ctx, d.Rows) {
		if err != nil {
			return err
		}
		d.note(checked.Wanted)
		cells, err := d.seal(checked.Row.Cells, checked.Wanted)
		if err != nil {
			return err
		}
		if err := d.spool.add(cells, checked.Wanted); err != nil {
			return err
		}
		for _, f := range checked.Earlier {
			d.earlier[f.Row] = append(d.earlier[f.Row], f)
		}
		d.Batch.Rows++
		d.tell("read", d.Batch.Rows)
		if checked.Wanted.Aside || checked.Wanted.Refused() {
			continue
		}
		d.given(checked.Wanted)
		d.countBases(checked.Wanted)
		d.means(ctx, checked.Wanted, func(f account.Field, value string) { d.wanted.add(f, value, checked.Wanted.Row) })
	}
	return d.spool.end()
}

// means hands over the values by which accounts are found that a row may mean, or come to.
func (d *making) means(ctx context.Context, w *mapping.Wanted, want func(f account.Field, value string)) {
	id, name, _, said := d.paired(w)
	if said && id != "" {
		want(d.about.Field(account.ID), id)
	}
	if said && name != "" {
		want(d.about.Field(d.about.Naming), name)
	}
	for _, i := range d.looked {
		f := &d.brief.Fields[i]
		value := w.Values[i]
		if f.Unique == brief.UniqueNumber {
			value = account.Of(w.Base) // the numbers behind it are looked up later
			for _, other := range w.Others {
				want(f.Field, other)
			}
		}
		if value.Filled() {
			want(f.Field, value.Text())
		}
		if slices.Contains(d.brief.Match, f.Name) {
			for _, other := range d.alikeButZeros(ctx, f.Name, value.Text()) {
				want(f.Field, other)
			}
		}
	}
	for _, i := range d.referring {
		if value := w.Values[i]; value.Filled() {
			want(d.about.Field(d.brief.Fields[i].Refers), value.Text())
		}
	}
}

// A base is a value that gets a number behind it where it is taken.
type base struct {
	text string
	rows int // that want it
}

// countBases notes which values a row may need a number behind.
func (d *making) countBases(w *mapping.Wanted) {
	count := func(in map[string]*base, f account.Field, text string) {
		key := f.Key(text)
		if in[key] == nil {
			in[strings.Clone(key)] = &base{text: strings.Clone(text)}
		}
		in[key].rows++
	}
	for _, i := range d.looked {
		f := &d.brief.Fields[i]
		switch {
		case f.Unique == brief.UniqueNumber && f.Number:
			last := w.Base
			if n := len(w.Others); n > 0 {
				last = w.Others[n-1]
			}
			count(d.bases, f.Field, last)
		case f.Unique == brief.UniqueInUnit && w.Values[i].Filled():
			count(d.beside, f.Field, w.Values[i].Text())
		}
	}
}

// paired is whom a person said that a row means, if it is still the row it was.
func (d *making) paired(w *mapping.Wanted) (id, name string, isNew, said bool) {
	if d.Pairs == nil || len(d.brief.Like) == 0 {
		return "", "", false, false
	}
	a, has := d.Pairs.Answers[w.Row]
	if !has && d.RestNew {
		return "", "", true, true
	}
	if !has || a.Proof != candidates.Proof(Alike(d.brief, w)) {
		return "", "", false, false
	}
	return a.ID, a.Name, a.New, true
}

// Alike is what a row gives of whom it means, where no key finds an account.
func Alike(b *brief.Brief, w *mapping.Wanted) (values []string) {
	for _, name := range b.Like {
		text := ""
		if i := b.Field(name); i >= 0 {
			text = w.Says(i).Text()
		}
		values = append(values, text)
	}
	return values
}

// lookUp lists the fields by which accounts are looked up: the keys, and what
// must be unique.
func (d *making) lookUp() []int {
	fields := d.checker.Unique()
	for _, name := range d.brief.Match {
		if i := d.brief.Field(name); !slices.Contains(fields, i) {
			fields = append(fields, i)
		}
	}
	if naming, _ := batch.Calling(d.about.Schema, d.about.Can.Names); naming != "" {
		if i := d.brief.Field(naming); i >= 0 && !slices.Contains(fields, i) {
			fields = append(fields, i)
		}
	}
	return slices.DeleteFunc(fields, func(i int) bool { return !d.brief.Fields[i].Send })
}

// keyless lists the fields of “match” that nobody has of all accounts.
func (d *making) keyless() (fields []string) {
	if !d.way.Listed || d.found == 0 {
		return nil
	}
	for _, key := range d.brief.Match {
		if d.held[key] == 0 && key != account.ID {
			fields = append(fields, key)
		}
	}
	return fields
}

// find fetches the accounts that the rows may mean.
func (d *making) find(ctx context.Context) (*batch.Index, error) {
	var fields []account.Field
	for _, i := range d.looked {
		fields = append(fields, d.brief.Fields[i].Field)
	}
	for _, f := range d.brief.Fields {
		if f.Refers != "" && !slices.ContainsFunc(fields, func(has account.Field) bool { return has.Name == f.Refers }) {
			fields = append(fields, d.about.Field(f.Refers))
		}
	}
	for _, name := range []string{account.ID, d.about.Naming} {
		if len(d.brief.Like) > 0 && !slices.ContainsFunc(fields, func(has account.Field) bool { return has.Name == name }) {
			fields = append(fields, d.about.Field(name))
		}
	}
	index := batch.IndexOf(fields, d.wanted.of(fields))
	d.held = map[string]int{}
	n := d.brief.Numbered()
	if n >= 0 {
		index.Numbered = d.brief.Fields[n].Name
	}
	ask := d.ask()
	found := 0
	d.lookForProtected()
	take := func(a account.Account) {
		index.Add(a)
		d.witness(&a)
		d.noteProtected(&a)
		for _, key := range d.brief.Match {
			if a.Field(key).Filled() {
				d.held[key]++
			}
		}
		found++
		d.found = found
		d.tell("looked at accounts", found)
	}
	if d.looksForGone() {
		d.way = system.Way{Listed: true}
		return index, d.listAll(ctx, ask, take)
	}
	var err error
	d.way, err = system.FetchBy(ctx, d.System, &wantedAgain{d, ctx}, ask, d.Together, take)
	if err != nil || d.way.Listed {
		return index, err
	}
	if n >= 0 {
		err = d.findNumbers(ctx, index, d.brief.Fields[n].Field, d.bases, account.Numbered, ask, take)
	}
	if i := slices.IndexFunc(d.brief.Fields, func(f brief.Field) bool { return f.Unique == brief.UniqueInUnit }); i >= 0 && err == nil {
		err = d.findNumbers(ctx, index, d.brief.Fields[i].Field, d.beside, func(value string, n int) string { return value + " " + strconv.Itoa(n) }, ask, take)
	}
	return index, err
}

// numbersAhead is how many numbers behind a taken value are looked up at once,
// besides those that the rows who want it will need.
const numbersAhead = 8

// findNumbers looks up which numbers behind the taken values of the numbered
// field are taken as well, until there are enough free ones.
func (d *making) findNumbers(ctx context.Context, index *batch.Index, field account.Field, bases map[string]*base, with func(value string, n int) string, ask []string, take func(account.Account)) error {
	type numbered struct {
		*base
		next int // number to look at
		free int // found so far
	}
	var open []*numbered
	for _, of := range bases {
		if len(index.Find(field.Name, of.text)) > 0 {
			open = append(open, &numbered{base: of, next: 2})
		}
	}
	for len(open) > 0 {
		more := map[string][]string{}
		upTo := func(n *numbered) int { return n.next + n.rows + numbersAhead }
		for _, n := range open {
			for number := n.next; number < upTo(n); number++ {
				more[field.Name] = append(more[field.Name], with(n.text, number))
			}
		}
		way, err := system.Fetch(ctx, d.System, more, ask, d.Together, take)
		if err != nil || way.Listed {
			return err
		}
		open = slices.DeleteFunc(open, func(n *numbered) bool {
			last := upTo(n)
			for ; n.next < last; n.next++ {
				if len(index.Find(field.Name, with(n.text, n.next))) == 0 {
					n.free++
				}
			}
			return n.free >= n.rows
		})
	}
	return nil
}

// decider is what decides each row by itself.
func (d *making) decider(ctx context.Context, index *batch.Index, numbers *check.Numbering) *batch.Decider {
	decider := &batch.Decider{
		Brief: d.brief, Schema: d.about.Schema, Can: d.about.Can, Index: index, Unique: d.checker.Unique(),
		Missing:  d.checker.Missing,
		Column:   d.Mapper.Heading,
		MapAgain: d.checker.MapAgain,
		Free:     numbers.Free,
		Release:  numbers.Release,
		Ties:     d.ties,
		Row:      d.rowOf,
		Fields:   d.Batch.Fields,
		Extra:    d.extra(),
		Renewal:  d.renewal(),
		Several:  d.brief.OnlyMemberships(),
		Protect:  d.Batch.Protect,
		Paired:   d.paired,
		Zeros:    func(field, text string) []string { return d.alikeButZeros(ctx, field, text) },

		WhyRefuse: d.WhyNot,
	}
	if d.Compare { // an account that is not there is told as just that
		decider.Missing, decider.Zeros = func(*mapping.Wanted) []account.Finding { return nil }, nil
	}
	return decider
}

// decide turns the rows taken in into entries, in their order.
func (d *making) decide(ctx context.Context, index *batch.Index) (err error) {
	numbers := &check.Numbering{}
	mails := d.notices(index)
	decider := d.decider(ctx, index, numbers)
	// While some rows are decided the next are read, and those before are written.
	waiting := d.spool.read()
	reading := readAhead(waiting)
	writing := newBehind(func(entries []batch.Entry) error { return d.Ledger.Drafting(d.Batch.ID).Add(ctx, entries) })
	defer func() {
		err = errors.Join(err, writing.wait())
		if reading != nil {
			<-reading
		}
	}()
	for done := 0; ; {
		read := <-reading
		if reading = nil; read.err != nil {
			return read.err
		}
		if len(read.rows) == 0 {
			if err := writing.wait(); err != nil {
				return err
			}
			return d.decideRest(ctx, decider, mails)
		}
		reading = readAhead(waiting)
		entries := make([]batch.Entry, 0, len(read.rows))
		for _, wanted := range read.rows {
			wanted.Findings = append(wanted.Findings, d.earlier[wanted.Row]...)
			e := batch.Entry{Row: wanted.Row, Cells: wanted.Cells}
			also := decider.Decide(&e, wanted)
			d.leaveMade(&e)
			if also > 0 {
				if err := d.refuseToo(ctx, entries, writing, also, e); err != nil {
					return err
				}
			}
			d.number(&e, wanted)
			decider.Settle(&e)
			if err := d.password(&e, wanted); err != nil {
				return err
			}
			d.refers(&e)
			d.places.count(&e)
			mails.mails(&e, wanted)
			d.keeper.note(&e)
			entries = append(entries, e)
		}
		if err := writing.begin(entries); err != nil {
			return err
		}
		done += len(read.rows)
		d.tell("decided", done)
	}
}

// decideRest decides, once all rows are, what hangs on all of them.
func (d *making) decideRest(ctx context.Context, decider *batch.Decider, mails *notices) error {
	if err := d.decideGone(ctx, decider, mails); err != nil {
		return err
	}
	if err := d.decideDue(ctx, decider); err != nil {
		return err
	}
	if err := d.settleReferences(ctx); err != nil {
		return err
	}
	if err := d.reown(ctx); err != nil {
		return err
	}
	return d.settleMails(ctx)
}

// refuseToo refuses an entry decided before, as e comes to the same account; entries are not written yet.
func (d *making) refuseToo(ctx context.Context, entries []batch.Entry, writing *behind, first int, e batch.Entry) error {
	refuse := func(other *batch.Entry) {
		d.ties.Return(other.Steps)
		other.Find(account.Error, account.SameAccount, "", "", fmt.Sprintf("row %d comes to the same account", e.Row))
		other.Refuse()
	}
	if i := slices.IndexFunc(entries, func(other batch.Entry) bool { return other.Row == first }); i >= 0 {
		refuse(&entries[i])
		return nil
	}
	if err := writing.wait(); err != nil {
		return err
	}
	return d.amend(ctx, first, refuse)
}

func (d *making) tell(stage string, rows int) {
	if d.Progress != nil {
		d.Progress(stage, rows)
	}
}
