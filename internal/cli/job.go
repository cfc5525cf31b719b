package cli

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/check"
	"evenledger/internal/ledger"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/report"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

// job is a sheet with all that is needed to work on it.
type job struct {
	workspace *workspace.Workspace // nil: there is none
	brief     *brief.Brief
	named     bool // the brief was named, not made from headings
	target    workspace.System
	system    system.System
	schema    *account.Schema
	sheet     *sheet.Sheet
	mapper    *mapping.Mapper
	path      string        // of the sheet
	options   sheet.Options // with which it was opened
	selection sheet.Selection
	findings  []account.Finding // about the sheet as a whole
	things    *membership.Catalogue
	whyNot    string // what can be done about rows that find no account, where they are refused
}

// checker returns a checker of the job's rows.
func (j *job) checker() *check.Checker {
	c := check.New(j.mapper, j.schema)
	c.Things, c.Judge, c.Known = j.things, secret.NewJudge(j.target.Passwords), known(j.target.URL())
	return c
}

// selected yields the rows, those that are not to be taken marked.
func (j *job) selected() iter.Seq2[sheet.Row, error] { return j.selection.Of(j.sheet.Rows()) }

// settleDates looks into the sheet beforehand where nothing says in which order
// its dates have day and month. What is piped in can be read only once.
func (j *job) settleDates(path string) error {
	if path == sheet.StandardInput || !j.mapper.LooksAhead(j.sheet.Info()) {
		return nil
	}
	ahead, err := sheet.Open(path, nil, j.options)
	if err != nil {
		return err
	}
	defer ahead.Close()
	return j.mapper.SettleDates(ahead.Rows())
}

// open readies a job. Offline, the system is not asked, and without a workspace
// a sheet with known headings can still be checked.
func (a *app) open(ctx context.Context, path string, flags sheetFlags, offline bool) (_ *job, err error) {
	j := &job{path: path}
	a.offline = offline
	if j.selection, err = flags.selection(); err != nil {
		return nil, err
	}
	if err := a.lookUp(j, flags, offline); err != nil {
		return nil, err
	}
	j.options = sheetOptions(j.brief, flags)
	j.options.Stop = ctx.Done()
	if j.sheet, err = sheet.Open(path, a.in, j.options); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, j.sheet.Close())
		}
	}()
	if j.brief == nil {
		if j.brief, err = a.suggest(ctx, j, flags.only, offline); err != nil {
			var none *brief.NoKey
			if !errors.As(err, &none) {
				return nil, err
			}
			return nil, wrong(fmt.Sprintf("%s: %s", path, err), "Rename a heading, or write a brief that says what the columns mean.")
		}
	}
	j.policyOfNew(flags)
	if flags.compare {
		j.brief.Compare()
	}
	if len(flags.fields) > 0 {
		if err := j.brief.Touch(flags.fields); err != nil {
			return nil, wrong(err.Error(), "Name fields of the brief, or of the sheet's headings.")
		}
	}
	j.mapper = mapping.New(j.brief, j.sheet.Info())
	if err := j.settleDates(path); err != nil {
		return nil, err
	}
	if err := a.fit(ctx, j, offline); err != nil {
		return nil, err
	}
	return j, nil
}

// lookUp finds the workspace, and the brief and the system that are named. Offline, a
// sheet may be looked at outside any workspace.
func (a *app) lookUp(j *job, flags sheetFlags, offline bool) (err error) {
	j.workspace, err = a.workspace()
	var none *workspace.NotFound
	if errors.As(err, &none) && offline && flags.brief == "" {
		err = nil
	}
	if err != nil {
		return err
	}
	systemName := flags.system
	if flags.brief != "" {
		if j.brief, err = a.loadBrief(j.workspace, flags.brief, flags.only); err != nil {
			return err
		}
		j.named = true
		if systemName == "" {
			systemName = j.brief.System
		}
	}
	if j.workspace != nil {
		if j.target, err = j.workspace.System(systemName); err != nil && !offline {
			return wrong(err.Error(), "")
		}
	}
	return nil
}

// sheetOptions says how the sheet is read: a flag counts for more than the brief, if
// there is one.
func sheetOptions(b *brief.Brief, flags sheetFlags) sheet.Options {
	options := sheet.Options{Tab: flags.tab, Encoding: flags.encoding}
	known := account.NewHeadings()
	options.Recognise = func(heading string) bool { _, ok := known.Field(heading); return ok }
	if b == nil {
		return options
	}
	options.HeadingRow = b.HeadingRow
	if options.Tab == "" {
		options.Tab = b.Tab
	}
	if options.Encoding == "" {
		options.Encoding = b.Encoding
	}
	named := briefHeadings(b)
	options.Named = func(heading string) bool { return named[words.Key(heading)] }
	return options
}

// fit connects the system, unless offline, and finds where the brief, the sheet's
// columns and the system do not fit together.
func (a *app) fit(ctx context.Context, j *job, offline bool) (err error) {
	j.findings = j.mapper.Findings()
	if !offline && j.system == nil {
		if j.system, err = a.connect(j.target); err != nil {
			return err
		}
		about, err := j.system.Describe(ctx)
		if err != nil {
			return err
		}
		j.schema = about.Schema
	}
	if j.schema != nil {
		j.brief.Fit(j.schema)
	}
	j.findings = append(j.findings, check.New(j.mapper, j.schema).Schema()...)
	if !offline && j.brief.Password.Change && j.target.Renew == "" {
		f := account.Find(account.Error, account.UnknownField, fmt.Sprintf("the brief has people choose another password at the first sign-in, and nothing says by which field of %s", j.target.Name))
		f.Remedy = "Name the field as “change_at_sign_in” in evenledger.yaml, or take it out of the brief."
		j.findings = append(j.findings, f)
	} else if !offline && j.brief.Password.Change {
		if renew, known := j.schema.Attribute(j.target.Renew); !known || renew.ReadOnly {
			f := account.Find(account.Error, account.UnknownField, fmt.Sprintf("the brief has people choose another password at the first sign-in, and %s has no field %s that could be set for it", j.target.Name, j.target.Renew))
			f.Remedy = "Correct “change_at_sign_in” in evenledger.yaml."
			j.findings = append(j.findings, f)
		}
	}
	if !account.HasError(j.findings) {
		return nil
	}
	var lines []string
	for _, f := range j.findings {
		if f.Level == account.Error {
			lines = append(lines, f.Message+"\n            → "+f.Remedy)
		}
	}
	return wrong(fmt.Sprintf("%s does not fit: %s", j.path, strings.Join(lines, "\n            ")), "")
}

// policyOfNew settles what is done with rows that find no account, where the command
// line says so, or the sheet is an export: a key in it that finds nobody was rather
// mistyped than made up.
func (j *job) policyOfNew(flags sheetFlags) {
	headings := j.sheet.Info().Headings
	ofBatch, _ := sheet.FixesOf(headings)
	switch exported := slices.Contains(headings, sheet.AccountHeading) && ofBatch == 0; {
	case flags.new != "":
		j.brief.New = brief.Policy(flags.new)
	case exported && !j.brief.NewSaid:
		j.brief.New, j.whyNot = brief.Refuse, "The sheet came from “export”: correct the key. If the row is a new person's, draft with --new create."
	}
}

// suggest makes a brief of the sheet's headings. What kind of values a system's
// own fields have, the system says.
func (a *app) suggest(ctx context.Context, j *job, only string, offline bool) (*brief.Brief, error) {
	options := brief.Options{Today: a.today()}
	if j.workspace != nil {
		options = a.briefOptions(j.workspace)
	}
	options.Only = only
	if !offline {
		client, err := a.connect(j.target)
		if err != nil {
			return nil, err
		}
		about, err := client.Describe(ctx)
		if err != nil {
			return nil, err
		}
		schema := about.Schema
		j.system, j.schema, options.Kinds = client, schema, map[string]account.Kind{}
		for _, attribute := range schema.Attributes {
			options.Kinds[attribute.Field] = attribute.Kind
		}
		for _, names := range []map[string]string{schema.Short, schema.Aliases} {
			for name, full := range names {
				options.Kinds[name] = options.Kinds[full]
			}
		}
	}
	return brief.Suggest(j.sheet.Info().Headings, j.target.Name, options)
}

func (a *app) loadBrief(w *workspace.Workspace, name, only string) (*brief.Brief, error) {
	path, err := w.BriefPath(name)
	if err != nil {
		return nil, wrong(err.Error(), "")
	}
	options := a.briefOptions(w)
	options.Only = only
	return brief.Load(path, options)
}

func (a *app) briefOptions(w *workspace.Workspace) brief.Options {
	options := brief.Options{Today: a.today(), Systems: []string{}, Root: w.Dir}
	for _, s := range w.Systems {
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
func (a *app) ownFields(w *workspace.Workspace) func(string) map[string]account.Kind {
	asked := map[string]map[string]account.Kind{}
	return func(name string) map[string]account.Kind {
		if kinds, known := asked[name]; known || a.offline {
			return kinds
		}
		asked[name] = nil
		target, err := w.System(name)
		if err != nil {
			return nil
		}
		client, err := a.connect(target)
		if err != nil {
			return nil
		}
		ctx, cancel := context.WithTimeout(context.Background(), longestAsk)
		defer cancel()
		schema, err := client.Describe(ctx)
		if err != nil {
			a.remark("%s could not be asked for the names of its fields.", target.Name)
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

// connect opens the secrets of a system and makes its client.
func (a *app) connect(target workspace.System) (system.System, error) {
	trace, err := a.traceTo()
	if err != nil {
		return nil, err
	}
	client, err := target.Connection.Open(system.Work{
		Together: target.Together, Timeout: target.Timeout, Aliases: target.Aliases, Mask: a.mask, Trace: trace,
		Waiting: func(until time.Time) {
			a.remark("%s asks to be left alone until %s; the work goes on then. Ctrl-C stops it.", target.Name, until.Format(time.TimeOnly))
		},
	})
	var none *system.NoSecret
	if errors.As(err, &none) {
		return nil, wrong(fmt.Sprintf("system %s: %s", target.Name, none), fmt.Sprintf("evenledger.yaml, line %d, says where it is looked for: %s.", target.Line, none.Reference))
	}
	if err != nil {
		return nil, wrong(fmt.Sprintf("system %s: %s", target.Name, err), "")
	}
	return client, nil
}

// readAs writes how each column is read, for a sheet without a brief.
func readAs(page *report.Page, j *job) {
	page.Line("")
	page.Line("%s", page.Bold("Without a brief, the headings are read as"))
	for _, c := range j.mapper.Columns() {
		switch {
		case c.Heading == "":
			continue
		case len(c.Fields) > 0 && slices.Contains(brief.Kinds(), c.Fields[0]):
			what := "these are joined"
			if strings.HasPrefix(words.Key(c.Heading), words.Key(brief.All)) {
				what = "just these; others are left"
			}
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(what))
		case len(c.Fields) > 0 && !j.touches(c.Fields[0]):
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim("not touched"))
		case len(c.Fields) > 0:
			field, _ := account.FieldNamed(c.Fields[0])
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(field.Label+", "+field.Kind.String()))
		default:
			page.Line("  %s   %s", report.Pad(report.Clip(c.Heading, 28), 28), page.Dim("not used"))
		}
	}
}

// touches reports whether the brief changes a field, or finds accounts by it.
func (j *job) touches(name string) bool {
	i := j.brief.Field(name)
	return i < 0 || j.brief.Fields[i].Send
}

// about says in a line what a sheet is.
func about(info sheet.Info) string {
	parts := []string{info.Format}
	if info.Compressed {
		parts[0] += " in gzip"
	}
	if info.Separator != "" {
		parts = append(parts, info.Separator+" between cells")
	}
	if info.Encoding != "" {
		parts = append(parts, info.Encoding)
	}
	if info.Tab != "" {
		tab := "tab “" + info.Tab + "”"
		if len(info.Tabs) > 1 {
			tab += fmt.Sprintf(" of %d", len(info.Tabs))
		}
		parts = append(parts, tab)
	}
	text := info.Name + " · " + strings.Join(parts, ", ")
	if info.HeadingRow > 0 {
		text += fmt.Sprintf(" · headings in row %d", info.HeadingRow)
	}
	return text
}

// openLedger opens the workspace's ledger; for reading alone, one that cannot be
// written to will do.
func (a *app) openLedger(ctx context.Context, toRead bool) (*workspace.Workspace, *ledger.Ledger, error) {
	w, err := a.workspace()
	if err != nil {
		return nil, nil, err
	}
	open := ledger.Open
	if toRead && exists(w.Ledger) {
		open = ledger.OpenToRead
	}
	l, err := open(ctx, w.Ledger)
	if errors.Is(err, ledger.ErrOld) {
		l, err = ledger.Open(ctx, w.Ledger)
	}
	if err != nil {
		return nil, nil, err
	}
	return w, l, nil
}

// lookAtBatch opens the ledger to read one batch of it; 0 is the newest.
func (a *app) lookAtBatch(ctx context.Context, id int, do func(*ledger.Ledger, *batch.Batch) error) error {
	return a.withBatch(ctx, id, true, func(_ *workspace.Workspace, l *ledger.Ledger, b *batch.Batch) error { return do(l, b) })
}

// onBatch opens the ledger for work on one batch of it.
func (a *app) onBatch(ctx context.Context, id int, do func(*workspace.Workspace, *ledger.Ledger, *batch.Batch) error) error {
	return a.withBatch(ctx, id, false, do)
}

func (a *app) withBatch(ctx context.Context, id int, toRead bool, do func(*workspace.Workspace, *ledger.Ledger, *batch.Batch) error) (err error) {
	w, l, err := a.openLedger(ctx, toRead)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	if id == 0 {
		if id, err = l.Newest(ctx); err != nil {
			return err
		}
	}
	b, err := l.Batch(ctx, id)
	if err != nil {
		return err
	}
	return do(w, l, b)
}

// exists reports whether there is a file at path.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
