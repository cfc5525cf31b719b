package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/check"
	"evenledger/internal/feed"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/pace"
	"evenledger/internal/posting"
	"evenledger/internal/profile"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

// A Request says in what light a sheet is meant, and which of its rows. The zero Request
// is for all rows, as their headings say.
type Request struct {
	Brief    string   // by name or path; empty: the headings say what the columns mean
	System   string   // by name; empty: the brief's, or the only one
	Tab      string   // of a workbook
	Encoding string   // of the sheet's text
	Rows     string   // such as 3-9,12
	Only     string   // a further condition
	First    int      // so many rows; 0: all
	Fields   []string // that may be touched; none: all
	New      string   // what is done with rows that find no account; empty: as the brief says
	Compare  bool     // the sheet is only to be compared with the system
	Again    bool     // what a feed brings is taken though it was taken before
	Trial    string   // what the batch is a trial of
	MailsTo  string   // with Trial: the address that its mails go to
	Elevated bool     // roles and groups that give rights over others are allowed

	Rest  string   // with Pairs: what rows are that nobody answered for: new; empty: refused
	Pairs []string // sheets with whom rows mean that no key finds

	among *among // the jobs of one set; nil: it stands alone
}

// Selects reads what takes a part of the rows.
func (r *Request) Selects() (sheet.Selection, error) {
	s := sheet.Selection{First: r.First}
	if r.Rows != "" {
		var err error
		if s.Ranges, err = sheet.ParseRows(r.Rows); err != nil {
			return s, mistake("--rows: "+err.Error(), "")
		}
	}
	if r.Encoding != "" && !sheet.KnowsEncoding(r.Encoding) {
		return s, mistake(fmt.Sprintf("there is no encoding “%s”", r.Encoding), "For example: --encoding windows-1250, iso-8859-2, macintosh or shift_jis")
	}
	if policies := []string{"", string(brief.Create), string(brief.Skip), string(brief.Refuse)}; !slices.Contains(policies, r.New) {
		return s, mistake("--new takes create, skip or refuse", "For example: --new create")
	}
	if r.First < 0 {
		return s, mistake("--first takes a number of rows", "For example: --first 3")
	}
	return s, nil
}

// A Job is a sheet with all that is needed to work on it.
type Job struct {
	Request   Request
	Workspace *workspace.Workspace // nil: there is none
	Brief     *brief.Brief
	Named     bool // the brief was named, not made from headings
	Target    workspace.System
	System    system.System
	Schema    *account.Schema
	Sheet     *sheet.Sheet
	Mapper    *mapping.Mapper
	Name      string // of the sheet, as it was named
	Path      string // of its file
	local     *Local
	Options   sheet.Options // with which it was opened
	Selection sheet.Selection
	Findings  []account.Finding     // about the sheet as a whole
	Things    *membership.Catalogue // that rows may name; nil: not looked at
	about     *system.Description   // nil: the system was not asked
	rules     secret.Rules          // that the system tells of passwords
	left      []string              // of a set: what the sheet gives and this system does not have
	whyNot    string                // what can be done about rows that find no account, where they are refused
}

// Abilities are what the job's system can do; of one that was not asked, none.
func (j *Job) Abilities() (can system.Abilities) {
	if j.about != nil {
		can = j.about.Can
	}
	return can
}

// Checker returns a checker of the job's rows.
func (j *Job) Checker() *check.Checker {
	c := check.New(j.Mapper, j.Schema)
	c.Things, c.Judge, c.Known = j.Things, secret.NewJudge(j.Target.Passwords.And(j.rules)), known(j.Target.Name, j.Target.URL())
	return c
}

// Close closes the sheet, and takes away what a feed brought.
func (j *Job) Close() (err error) {
	if j.Sheet != nil {
		err = j.Sheet.Close()
	}
	return errors.Join(err, j.local.Close())
}

// Rows yields the rows, those that are not to be taken marked.
func (j *Job) Rows() iter.Seq2[sheet.Row, error] { return j.Selection.Of(j.Sheet.Rows()) }

// settleDates looks into the sheet beforehand where nothing says in which order
// its dates have day and month. What is piped in can be read only once.
func (j *Job) settleDates(path string) error {
	if path == sheet.StandardInput || !j.Mapper.LooksAhead(j.Sheet.Info()) {
		return nil
	}
	ahead, err := sheet.Open(path, nil, j.Options)
	if err != nil {
		return err
	}
	defer ahead.Close()
	return j.Mapper.SettleDates(ahead.Rows())
}

// lookForSecrets looks into the sheet beforehand for columns that hold passwords, whatever they are
// called. What is piped in can be read only once: there each cell is judged by itself.
func (j *Job) lookForSecrets(path string) error {
	if path == sheet.StandardInput {
		return nil
	}
	ahead, err := sheet.Open(path, nil, j.Options)
	if err != nil {
		return err
	}
	defer ahead.Close()
	secret, err := profile.Secrets(ahead.Info().Headings, ahead.Rows())
	if err == nil {
		j.Mapper.Conceals(secret)
	}
	return nil // that it cannot be read is told where it is read for good
}

// Open readies a job: it finds the workspace, the brief and the system, opens the sheet and
// sees that all of them fit. Offline, the system is not asked, and without a workspace
// a sheet with known headings can still be checked.
func (a *App) Open(ctx context.Context, path string, request Request) (_ *Job, err error) {
	j, offline := &Job{Name: path, Request: request}, a.Offline
	if j.Selection, err = request.Selects(); err != nil {
		return nil, err
	}
	if err := a.lookUp(j, request, offline); err != nil {
		return nil, err
	}
	j.Options = sheetOptions(j.Brief, request)
	j.Options.Stop = ctx.Done()
	if j.Name == "" && j.Brief != nil && j.Brief.Feed != "" {
		j.Name = feed.Prefix + j.Brief.Feed
	}
	if j.Name == "" {
		return nil, mistake("no sheet is named, and no brief says which feed brings one", "Name a sheet, or write “sheet: {feed: NAME}” into the brief.")
	}
	if request.among != nil && request.among.local != nil {
		brought := *request.among.local
		brought.spool = nil // which is the first one's to close
		j.local = &brought
	} else if j.local, err = a.Local(ctx, j.Name, request.Again, !request.Compare && !offline); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, j.Close())
		}
	}()
	j.Path, j.Options.Most = j.local.Path, j.local.most
	if j.Sheet, err = sheet.Open(j.Path, a.In, j.Options); err != nil {
		return nil, err
	}
	if j.Brief == nil {
		if j.Brief, err = a.suggest(ctx, j, request.Only, offline); err != nil {
			var none *brief.NoKey
			if !errors.As(err, &none) {
				return nil, err
			}
			return nil, mistake(fmt.Sprintf("%s: %s", j.Name, err), "Rename a heading, or write a brief that says what the columns mean.")
		}
	}
	j.policyOfNew(request)
	if request.Compare {
		j.Brief.Compare()
	}
	if len(request.Fields) > 0 {
		if err := j.Brief.Touch(request.Fields); err != nil {
			return nil, mistake(err.Error(), "Name fields of the brief, or of the sheet's headings.")
		}
	}
	if err := a.reach(ctx, j, offline); err != nil {
		return nil, err
	}
	j.Mapper = mapping.New(j.Brief, j.Sheet.Info())
	if err := errors.Join(j.settleDates(j.Path), j.lookForSecrets(j.Path)); err != nil {
		return nil, err
	}
	if err := j.fit(offline); err != nil {
		return nil, err
	}
	return j, nil
}

// lookUp finds the workspace, and the brief and the system that are named. Offline, a
// sheet may be looked at outside any workspace.
func (a *App) lookUp(j *Job, request Request, offline bool) (err error) {
	j.Workspace, err = a.FindWorkspace()
	var none *workspace.NotFound
	if errors.As(err, &none) && offline && request.Brief == "" {
		err = nil
	}
	if err != nil {
		return err
	}
	systemName := request.System
	if request.Brief != "" {
		if j.Brief, err = a.LoadBrief(j.Workspace, request.Brief, request.Only, request.System); err != nil {
			return err
		}
		j.Named = true
		if systemName == "" {
			systemName = j.Brief.System
		}
	}
	if j.Workspace != nil {
		if j.Target, err = j.Workspace.System(systemName); err != nil && !offline {
			return mistake(err.Error(), "")
		}
	}
	return nil
}

// sheetOptions says how the sheet is read: a flag counts for more than the brief, if
// there is one.
func sheetOptions(b *brief.Brief, request Request) sheet.Options {
	options := sheet.Options{Tab: request.Tab, Encoding: request.Encoding}
	known := account.NewHeadings()
	options.Recognise = func(heading string) bool { _, ok := known.Field(heading); return ok }
	if b == nil {
		return options
	}
	options.HeadingRow, options.Columns, options.End = b.HeadingRow, b.Columns, b.ListEnd
	if options.Tab == "" {
		options.Tab, options.Tabs = b.Tab, b.Tabs
	}
	if options.Encoding == "" {
		options.Encoding = b.Encoding
	}
	named := briefHeadings(b)
	options.Named = func(heading string) bool { return named[words.Key(heading)] }
	return options
}

// reach connects the system, unless offline, and has the brief be as it takes it.
func (a *App) reach(ctx context.Context, j *Job, offline bool) (err error) {
	if !offline && j.System == nil {
		if j.System, err = a.Connect(j.Target); err != nil {
			return err
		}
		about, err := j.System.Describe(ctx)
		if err != nil {
			return err
		}
		j.Schema, j.rules, j.about = about.Schema, about.Rules, about
	}
	if j.Schema != nil {
		j.Brief.Fit(j.Schema)
		if j.Request.among != nil {
			if j.left, err = j.Brief.Leave(j.Schema, kindsOf(j.about)); err != nil {
				return mistake(fmt.Sprintf("%s: %s", j.Target.Name, err), "Let the brief's “match” have a field that all of the set have.")
			}
		}
		j.Target.Renew = cmp.Or(j.Target.Renew, j.Schema.Renewal)
	}
	return nil
}

// fit finds where the brief, the sheet's columns and the system do not fit together.
func (j *Job) fit(offline bool) error {
	j.Findings = j.Mapper.Findings()
	j.Findings = append(j.Findings, check.New(j.Mapper, j.Schema).Schema()...)
	if !offline && j.about.Can.Unkeyed && (j.Brief.Password.Generates() || j.Brief.Password.Given()) {
		f := account.Find(account.Error, account.CannotSetPassword, fmt.Sprintf("the brief gives people passwords, and the files that %s takes have no column for them", j.Target.Name))
		f.Remedy = "Take “password” out of the brief, or give the layout a column with “password: true”."
		j.Findings = append(j.Findings, f)
	}
	if !offline && j.Brief.Password.Change && j.Target.Renew == "" {
		f := account.Find(account.Error, account.UnknownField, fmt.Sprintf("the brief has people choose another password at the first sign-in, and nothing says by which field of %s", j.Target.Name))
		f.Remedy = "Name the field as “change_at_sign_in” in evenledger.yaml, or take it out of the brief."
		j.Findings = append(j.Findings, f)
	} else if !offline && j.Brief.Password.Change {
		if renew, known := j.Schema.Attribute(j.Target.Renew); !known || renew.ReadOnly {
			f := account.Find(account.Error, account.UnknownField, fmt.Sprintf("the brief has people choose another password at the first sign-in, and %s has no field %s that could be set for it", j.Target.Name, j.Target.Renew))
			f.Remedy = "Correct “change_at_sign_in” in evenledger.yaml."
			j.Findings = append(j.Findings, f)
		}
	}
	if !account.HasError(j.Findings) {
		return nil
	}
	var lines []string
	for _, f := range j.Findings {
		if f.Level == account.Error {
			lines = append(lines, f.Message+"\n            → "+f.Remedy)
		}
	}
	return mistake(fmt.Sprintf("%s does not fit: %s", j.Name, strings.Join(lines, "\n            ")), "")
}

// policyOfNew settles what is done with rows that find no account, where the command
// line says so, or the sheet is an export: a key in it that finds nobody was rather
// mistyped than made up.
func (j *Job) policyOfNew(request Request) {
	headings := j.Sheet.Info().Headings
	ofBatch, _ := sheet.FixesOf(headings)
	switch exported := slices.Contains(headings, sheet.AccountHeading) && ofBatch == 0; {
	case request.New != "":
		j.Brief.New = brief.Policy(request.New)
	case exported && !j.Brief.NewSaid:
		j.Brief.New, j.whyNot = brief.Refuse, "The sheet came from “export”: correct the key. If the row is a new person's, draft with --new create."
	}
}

// suggest makes a brief of the sheet's headings. What kind of values a system's
// own fields have, the system says.
func (a *App) suggest(ctx context.Context, j *Job, only string, offline bool) (*brief.Brief, error) {
	options := brief.Options{Today: a.Today()}
	if j.Workspace != nil {
		options = a.BriefOptions(j.Workspace)
	}
	options.Only, options.Attributes = only, j.Sheet.Info().Traits().Attributes
	if !offline {
		client, err := a.Connect(j.Target)
		if err != nil {
			return nil, err
		}
		about, err := client.Describe(ctx)
		if err != nil {
			return nil, err
		}
		schema := about.Schema
		j.System, j.Schema, j.about, options.Kinds = client, schema, about, map[string]account.Kind{}
		for _, attribute := range schema.Attributes {
			options.Kinds[attribute.Field] = attribute.Kind
		}
		for _, names := range []map[string]string{schema.Short, schema.Aliases} {
			for name, full := range names {
				options.Kinds[name] = options.Kinds[full]
			}
		}
	}
	return brief.Suggest(j.Sheet.Info().Headings, j.Target.Name, options)
}

// LoadBrief loads a brief, with a further condition; for a system, whatever it says itself, if
// one is named.
func (a *App) LoadBrief(w *workspace.Workspace, name, only, system string) (*brief.Brief, error) {
	path, err := w.BriefPath(name)
	if err != nil {
		return nil, mistake(err.Error(), "")
	}
	options := a.BriefOptions(w)
	options.Only, options.For = only, system
	return brief.Load(path, options)
}

func (a *App) BriefOptions(w *workspace.Workspace) brief.Options {
	options := brief.Options{Today: a.Today(), Systems: []string{}, Root: w.Dir}
	for _, s := range w.Systems {
		options.Systems = append(options.Systems, s.Name)
	}
	for _, s := range w.Sets {
		options.Systems = append(options.Systems, s.Name)
	}
	options.Aliases = func(name string) []string {
		var aliases []string
		if s, err := w.System(name); err == nil {
			for alias := range s.Aliases {
				aliases = append(aliases, alias)
			}
		}
		return aliases
	}
	options.IsOwn = func(name, field string) bool {
		s, err := w.System(name)
		return err == nil && s.Kind.IsOwn != nil && s.Kind.IsOwn(field)
	}
	options.Own = a.ownFields(w)
	return options
}

// longestAsk bounds how long a system is waited for when a brief names a field that
// only it can know.
const longestAsk = 10 * time.Second

// ownFields asks systems for the names of their fields, each once. One that cannot
// be asked has none.
func (a *App) ownFields(w *workspace.Workspace) func(string) map[string]account.Kind {
	asked := map[string]map[string]account.Kind{}
	return func(name string) map[string]account.Kind {
		if kinds, known := asked[name]; known || a.Offline {
			return kinds
		}
		asked[name] = nil
		target, err := w.System(name)
		if err != nil {
			return nil
		}
		client, err := a.Connect(target)
		if err != nil {
			return nil
		}
		ctx, cancel := context.WithTimeout(context.Background(), longestAsk)
		defer cancel()
		schema, err := client.Describe(ctx)
		if err != nil {
			a.Remark("%s could not be asked for the names of its fields: %s", target.Name, a.Mask.Told(err.Error()))
			return nil
		}
		kinds := map[string]account.Kind{}
		for _, attribute := range schema.Attributes {
			kinds[attribute.Field] = attribute.Kind
		}
		for short, full := range schema.Short {
			kinds[short] = kinds[full]
		}
		asked[name] = kinds
		return kinds
	}
}

// briefHeadings are the headings that a brief names, by their keys.
func briefHeadings(b *brief.Brief) map[string]bool {
	named := map[string]bool{}
	for _, f := range b.Fields {
		named[words.Key(f.From)] = f.From != ""
	}
	for _, m := range b.Memberships {
		named[words.Key(m.Column.From)] = m.Column.From != ""
	}
	for _, e := range b.Expressions() {
		for _, heading := range e.Columns {
			named[words.Key(heading)] = true
		}
	}
	return named
}

// Connect opens the secrets of a system and makes its client.
func (a *App) Connect(target workspace.System) (system.System, error) { return a.connect(target, nil) }

// connectTo connects a post to the system that its batch is for: with what it may have there
// shared among all who post to it.
func (a *App) connectTo(target workspace.System, p *posting.Post) (err error) {
	p.Crowd = &pace.Crowd{}
	p.System, err = a.connect(target, p.Crowd)
	return err
}

func (a *App) connect(target workspace.System, crowd *pace.Crowd) (system.System, error) {
	var trace *slog.Logger
	if a.Trace != nil {
		var err error
		if trace, err = a.Trace(); err != nil {
			return nil, err
		}
	}
	client, err := target.Connection.Open(system.Work{
		Together: target.Together, Shared: target.Shared, Timeout: target.Timeout, Crowd: crowd, Aliases: target.Aliases, Mask: a.Mask, Trace: trace, Clock: a.Clock, Bring: a.bring,
		Waiting: func(until time.Time) {
			a.Remark("%s asks to be left alone until %s; the work goes on then. Ctrl-C stops it.", target.Name, until.Format(time.TimeOnly))
		},
	})
	var none *reach.NoSecret
	if errors.As(err, &none) {
		return nil, mistake(fmt.Sprintf("system %s: %s", target.Name, none), fmt.Sprintf("evenledger.yaml, line %d, says where it is looked for: %s.", target.Line, none.Reference))
	}
	var wrong *account.Mistake
	if errors.As(err, &wrong) {
		return nil, mistake(fmt.Sprintf("system %s: %s", target.Name, wrong.Message), wrong.Remedy)
	}
	if err != nil {
		return nil, mistake(fmt.Sprintf("system %s: %s", target.Name, err), "")
	}
	if holds, is := client.(io.Closer); is {
		a.keep(holds)
	}
	return client, nil
}

// Touches reports whether the brief changes a field, or finds accounts by it.
func (j *Job) Touches(name string) bool {
	i := j.Brief.Field(name)
	return i < 0 || j.Brief.Fields[i].Send
}

// Found is one row of a sheet with what the rows around make of it.
type Found struct {
	check.Checked
	Later []account.Finding // that rows below brought to light
}

// Row goes through the sheet to one row; nil: there is none of that number. With later rows it can turn out that
// they share what must be unique.
func (j *Job) Row(ctx context.Context, number int) (*Found, error) {
	var at *Found
	for checked, err := range j.Checker().Rows(ctx, j.Sheet.Rows()) {
		if err != nil {
			return nil, err
		}
		if checked.Wanted.Row == number {
			// What is yielded is used again for later rows.
			at = &Found{Checked: checked}
			at.Row.Cells, at.Row.Kinds = slices.Clone(checked.Row.Cells), slices.Clone(checked.Row.Kinds)
			wanted := *checked.Wanted
			wanted.Values = slices.Clone(wanted.Values)
			at.Wanted = &wanted
		}
		for _, f := range checked.Earlier {
			if at != nil && f.Row == number {
				at.Later = append(at.Later, f)
			}
		}
	}
	return at, nil
}

// kindsOf are the names of the kinds of things that a system has.
func kindsOf(about *system.Description) (names []string) {
	for _, k := range about.Kinds {
		names = append(names, k.Name)
	}
	return names
}

// Account is the account that a row wants, as far as the row says it by itself: whom it refers to is looked up later.
func (j *Job) Account(at *Found) account.Account {
	a := account.Account{Fields: map[string]account.Value{}}
	for i, f := range j.Brief.Fields {
		if v := at.Wanted.Values[i]; f.Send && f.Refers == "" && v.Filled() {
			name := f.Name
			if j.Schema != nil {
				name = j.Schema.Full(name)
			}
			a.Fields[name] = v
		}
	}
	return a
}
