package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/readback"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) reconcileCommand() *cobra.Command {
	var flags sheetFlags
	var within time.Duration
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "reconcile SHEET | BATCH",
		GroupID: "look",
		Short:   "Is the system even with a sheet, or with what a batch did?",
		Long: `With a sheet: compares each row with the system, whatever the brief's policies, and
tells what is in the sheet and not in the system, what differs, and, if the brief has
a “scope”, what is in the system and not in the sheet.

With a batch's number: reads back what the batch did, and tells what is otherwise by
now. Of a host it is seen as well whether home folders are the accounts' own, and
whether it answers with the numbers in its files. Systems that show changes late, as
through a cache of names, are given time with --within.

With -o all that is otherwise is written to a sheet as well, a line for each field and membership.

Nothing is changed. The exit code is 0 if all is even and 1 if not.`,
		Example: `  evenledger reconcile starters.csv -b starters
  evenledger reconcile starters.csv -b starters -o differences.xlsx
  evenledger reconcile starters.csv -b starters -o differences.html
  evenledger reconcile 17
  evenledger reconcile 17 --within 2m
  evenledger reconcile quays       the newest batches of a set`,
		Args: one("a sheet or a batch's number"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			if out != "" && sheet.TraitsOf(out).Named {
				return wrong(out+" would have no headings", "Let its name end in .xlsx, .csv, .tsv or .html.")
			}
			if out != "" {
				if err := app.MayWrite(out, overwrite, "and may be what somebody works through", ".html", ".htm"); err != nil {
					return err
				}
				if sheet.SameFile(args[0], out) {
					return wrong(out+" is the sheet itself", "Name another file.")
				}
			}
			if (areBatches(args[0]) || a.isSet(args[0])) && !exists(args[0]) {
				return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
					if len(batches) > 1 && out != "" {
						return wrong("-o writes what is otherwise in one system", "Name one batch.")
					}
					return a.severalBatches(batches, func(b *batch.Batch) error { return a.readBack(cmd.Context(), w, l, b, within, out) })
				})
			}
			flags.Compare = true
			return a.untilEven(cmd.Context(), within, func() error { return a.reconcile(cmd.Context(), args[0], flags, out) })
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "also write what is otherwise to this `FILE`, .xlsx, .csv, .tsv, or a page, .html")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	ofWriting.tell(cmd, "output", "overwrite")
	cmd.Flags().DurationVar(&within, "within", 0, "look again at what differs for this `TIME`, such as 2m")
	return cmd
}

// againEvery is how long it is waited before what is not even is looked at again.
const againEvery = 3 * time.Second

// untilEven compares, and again while what it finds is not even and there is time. Only the last
// time is told.
func (a *front) untilEven(ctx context.Context, within time.Duration, compare func() error) error {
	until := a.Clock.Now().Add(within)
	for {
		if within == 0 || !a.Clock.Now().Add(againEvery).Before(until) {
			return compare()
		}
		told, exit := a.out, a.exit
		var answer bytes.Buffer
		a.out = &answer
		err := compare()
		a.out = told
		if err != nil || a.exit == exit {
			_, writeErr := told.Write(answer.Bytes())
			return errors.Join(err, writeErr)
		}
		a.exit = exit
		a.remark("Not even yet; it is looked at again until %s.", until.Format(time.TimeOnly))
		if err := a.Clock.Wait(ctx, againEvery); err != nil {
			return err
		}
	}
}

// states are what a row can be when it is held against the system, in the order in
// which they are told.
var states = [...]struct {
	name         app.State
	label, about string
}{
	{app.Even, "Even", ""},
	{app.Missing, "Not in the system", "In the sheet, and not in the system"},
	{app.Differs, "Differ", "Otherwise in the system than in the sheet"},
	{app.Unlisted, "Not in the sheet", "In the system within “scope”, and not in the sheet"},
	{app.Untold, "Cannot be told", "Rows that cannot be compared before they are corrected"},
	{app.Aside, "Set aside", ""},
}

// foundAs says of one row what states say of several.
func foundAs(state app.State) string {
	for _, s := range states {
		if s.name == state && state != app.Differs {
			return strings.ToLower(s.label)
		}
	}
	return string(state)
}

// compared is a row as the document has it.
type compared struct {
	report.Entry
	State app.State `json:"state"`
}

func (a *front) reconcile(ctx context.Context, path string, flags sheetFlags, out string) error {
	flags.Elevated = true // nothing is given: it is only compared
	return a.onSheets(ctx, path, flags, func(members []app.Member, set string, l store.Store) (err error) {
		next := "evenledger draft " + quoted(path) + flags.flags()
		bar := a.progress()
		err = a.CompareSet(ctx, l, members, set, bar.stageDone, func(made []*drafting.Made) error {
			bar.end()
			var batches []*batch.Batch
			for _, m := range made {
				if m != nil {
					batches = append(batches, m.Batch)
				}
			}
			if len(batches) == 0 {
				return nil
			}
			return a.compared(ctx, l, batches, members, set, next, out)
		})
		bar.end()
		return errors.Join(err, a.tellSystems(ctx, ofMembers(members)))
	})
}

// compared tells how a sheet and one system, or each of those of a set, stand to each other.
func (a *front) compared(ctx context.Context, l store.Store, batches []*batch.Batch, members []app.Member, set, next, out string) error {
	s, err := report.ReadSet(ctx, l, batches)
	if err != nil {
		return err
	}
	s.Name = set
	b, several := batches[0], set != ""
	counts, even, by := make([]app.States, len(batches)), true, map[string]app.States{}
	all, systems := make([]*report.Causes, len(batches)), make([]string, len(batches))
	for i, b := range batches {
		var refusals []account.Finding
		if counts[i], refusals, err = app.Compare(l.Entries(ctx, b.ID, store.Filter{})); err != nil {
			return err
		}
		even, by[b.System] = even && counts[i].Even(), counts[i]
		all[i], systems[i] = &report.Causes{}, b.System
		all[i].AddAll(refusals)
	}
	unseen := slices.ContainsFunc(members, func(m app.Member) bool { return m.Err != nil })
	seen := even // as far as they could be looked at
	if even = even && !unseen; !even {
		a.exit = max(a.exit, exitRows)
	}
	sides := func(i int) (sides []report.Side) {
		for _, state := range states {
			sides = append(sides, report.Side{Label: state.label, N: counts[i][state.name]})
		}
		return sides
	}
	told := report.Comparison{Title: fmt.Sprintf("%s and %s", b.Sheet, b.System), Even: even, Systems: several}
	if several {
		told.Title = fmt.Sprintf("%s and the set %s", b.Sheet, set)
	} else {
		told.In, told.Sides = report.In(b), sides(0)
	}
	written, err := a.writeDifferences(out, told, differences(ctx, l, batches, several))
	if err != nil {
		return err
	}
	switch {
	case a.json && several:
		return report.WriteJSON(a.out, map[string]any{"set": set, "sheet": b.Sheet, "systems": by, "even": even}, "entries", s.Document(differsIn(ctx, l, s)), nil)
	case a.json:
		return report.WriteJSON(a.out, map[string]any{"sheet": b.Sheet, "system": b.System, "rows": b.Rows, "states": counts[0], "even": even}, "entries", differing(b, l.Entries(ctx, b.ID, store.Filter{Cells: true})), nil)
	}
	page := a.page()
	page.Speak(b)
	page.Line("%s", page.Bold(told.Title))
	verdict, says := page.Level(account.Error, "not even"), page.Level(account.Error, "The system is not even with the sheet.")
	switch {
	case even && several:
		verdict, says = page.Bold("even"), page.Bold("Every system is even with the sheet.")
	case even:
		verdict, says = page.Bold("even"), page.Bold("The system is even with the sheet.")
	case seen:
		verdict, says = page.Bold("even"), page.Level(account.Error, "Those that could be looked at are even with the sheet, and not all could.")
	case several:
		says = page.Level(account.Error, "Not every system is even with the sheet.")
	}
	if several {
		page.Line("")
		page.Sides(s, false, sides, verdict)
		err = showDiffers(page, s, differsIn(ctx, l, s))
	} else {
		page.AccountSaying(told.In, told.Sides, verdict)
		err = a.differing(ctx, page, l, b, counts[0])
	}
	if err != nil {
		return err
	}
	page.Findings(report.Together(systems, all))
	page.Line("")
	page.Line("%s", says)
	if slices.ContainsFunc(members, func(m app.Member) bool { return m.Job != nil && m.Brief.Scope == nil }) {
		page.Text(page.Dim, "The brief has no “scope”, so accounts that the sheet does not list were not looked for.")
	}
	if differencesIn(page, out, written); !seen {
		page.Next(next)
	}
	return page.Err()
}

// differences are the lines about what is otherwise, of each entry together; of several systems they begin with its name.
func differences(ctx context.Context, l store.Store, batches []*batch.Batch, several bool) iter.Seq2[[][]string, error] {
	return func(yield func([][]string, error) bool) {
		for _, b := range batches {
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Cells: true}) {
				state := app.StateOf(&e)
				if err == nil && !state.Differs() {
					continue
				}
				lines := report.Differences(b, &e, foundAs(state))
				for i := range lines {
					if several {
						lines[i] = append([]string{b.System}, lines[i]...)
					}
				}
				if !yield(lines, err) {
					return
				}
			}
		}
	}
}

// differsIn yields the rows of a sheet that are otherwise in one of the systems.
func differsIn(ctx context.Context, l store.Store, s report.Set) iter.Seq2[report.SetRow, error] {
	return func(yield func(report.SetRow, error) bool) {
		for r, err := range s.Rows(ctx, l, store.Filter{Cells: true}) {
			if is := slices.ContainsFunc(r.Entries, func(e *batch.Entry) bool { return e != nil && app.StateOf(e).Differs() }); err != nil || is {
				if !yield(r, err) {
					return
				}
			}
		}
	}
}

// writeDifferences writes the sheet or page of what is otherwise, if one is asked for, and returns how many
// lines it has.
func (a *front) writeDifferences(out string, c report.Comparison, lines iter.Seq2[[][]string, error]) (int, error) {
	if out == "" {
		return 0, nil
	}
	none := func(s report.Side) bool { return s.N == 0 && s.Label != "Rows in" }
	c.In, c.Sides = slices.DeleteFunc(slices.Clone(c.In), none), slices.DeleteFunc(slices.Clone(c.Sides), none)
	c.Told = fmt.Sprintf("held against each other on %s by %s", a.Clock.Now().Local().Format("2 Jan 2006 at 15:04"), a.By)
	for _, s := range states {
		if s.about != "" {
			c.Kinds = append(c.Kinds, foundAs(s.name))
		}
	}
	return app.WriteWhole(out, func(file *os.File) (n int, err error) {
		if isPage(out) {
			return c.WritePage(file, lines)
		}
		w, err := app.SheetWriter(file, out)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, w.Close()) }()
		if err := w.Write(c.Headings()); err != nil {
			return 0, err
		}
		for of, err := range lines {
			if err != nil {
				return n, err
			}
			for _, line := range of {
				if err := w.Write(line); err != nil {
					return n, err
				}
				n++
			}
		}
		return n, nil
	})
}

// differencesIn says what was written by writeDifferences.
func differencesIn(page *report.Page, out string, lines int) {
	if out != "" {
		page.Line("%s: %s, one for each field and membership that is otherwise.", out, counted(lines, "line", "lines"))
	}
}

// someShown is how many rows of each state are shown.
const someShown = 12

// differing writes the rows that are not even, those of one state together.
func (a *front) differing(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch, counts app.States) error {
	for _, s := range states {
		if s.about == "" || counts[s.name] == 0 || s.name == app.Untold {
			continue
		}
		page.Line("")
		page.Line("%s", page.Bold(s.about))
		written := 0
		for e, err := range l.Entries(ctx, b.ID, store.Filter{}) {
			if err != nil {
				return err
			}
			if app.StateOf(&e) != s.name {
				continue
			}
			if written++; written > someShown {
				page.Line("  %s", page.Dim(fmt.Sprintf("… and %s more", report.Number(counts[s.name]-someShown))))
				break
			}
			if s.name == app.Unlisted {
				e.Intent, e.Changes, e.Steps = account.Keep, nil, nil // nothing is done about it here
			}
			page.Entered(e, page.Plain(""))
		}
	}
	return nil
}

// differing yields the rows that are not even.
func differing(b *batch.Batch, entries iter.Seq2[batch.Entry, error]) iter.Seq2[compared, error] {
	return func(yield func(compared, error) bool) {
		for e, err := range entries {
			if state := app.StateOf(&e); err != nil || state.Differs() {
				if !yield(compared{report.NewEntry(b, e), state}, err) {
					return
				}
			}
		}
	}
}

// readBack tells whether the system is still as a batch left it.
func (a *front) readBack(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, within time.Duration, out string) error {
	bar := a.progress()
	read, err := a.ReadBack(ctx, w, l, b, within, bar.stageDone)
	bar.end()
	if err != nil {
		return err
	}
	rows := read.Rows
	if !read.Even() {
		a.exit = exitRows
	}
	was := report.Comparison{Title: fmt.Sprintf("Batch %d and %s", b.ID, b.System), In: []report.Side{{Label: "Carried out", N: read.Looked}}, Sides: []report.Side{{Label: "As the batch left it", N: read.Looked - len(rows)}, {Label: "Otherwise", N: len(rows)}}, Even: read.Even()}
	written, err := a.writeDifferences(out, was, func(yield func([][]string, error) bool) {
		for _, row := range rows {
			var lines [][]string
			for _, d := range row.Differences {
				lines = append(lines, []string{strconv.Itoa(row.Row), string(app.Differs), row.Key, row.Account, d.What, d.Left, d.Found, ""})
			}
			if !yield(lines, nil) {
				return
			}
		}
	})
	if err != nil {
		return err
	}
	if a.json {
		return report.WriteJSON(a.out, map[string]any{"batch": b.ID, "system": b.System, "read": read.Looked, "failed": read.Failed, "waiting": read.Waiting, "handedOver": read.Handed, "even": read.Even()}, "entries", func(yield func(readback.Row, error) bool) {
			for _, row := range rows {
				if !yield(row, nil) {
					return
				}
			}
		}, nil)
	}
	page := a.page()
	showReading(page, b, read)
	differencesIn(page, out, written)
	switch {
	case len(rows) > 0:
		page.Next(fmt.Sprintf("evenledger show %d --row %d", b.ID, rows[0].Row))
	case read.Waiting > 0:
		page.Next(fmt.Sprintf("evenledger post %d", b.ID))
	case read.Failed > 0:
		page.Next(fmt.Sprintf("evenledger show %d --outcome failed", b.ID))
	}
	return page.Err()
}

// showReading shows what was found where a batch was read back.
func showReading(page *report.Page, b *batch.Batch, read readback.Result) {
	rows := read.Rows
	page.Title(b)
	verdict := page.Bold("even")
	if !read.Even() {
		verdict = page.Level(account.Error, "not even")
	}
	page.AccountSaying([]report.Side{{Label: "Carried out", N: read.Looked}}, []report.Side{{Label: "As the batch left it", N: read.Looked - len(rows)}, {Label: "Otherwise", N: len(rows)}}, verdict)
	for _, row := range rows {
		page.Line("")
		name := batch.RowName(row.Row)
		page.Line("%s  %s  %s", page.Bold(strings.ToUpper(name[:1])+name[1:]), row.Key, page.Dim("account "+row.Account))
		for _, d := range row.Differences {
			found := d.Found
			if found == "" {
				found = "(blank)"
			}
			page.Line("    %s  %s %s %s", report.Pad(d.What, 18), d.Left, page.Dim("now"), page.Level(account.Warning, found))
		}
	}
	page.Line("")
	if read.Handed > 0 {
		page.Line("%s", page.Level(account.Warning, app.Remains{Handed: read.Handed}.String()+"."))
	}
	if len(rows) == 0 && read.Looked > 0 {
		page.Line("The system is as batch %d left it.", b.ID)
	}
	if read.Failed > 0 {
		page.Line("%s", page.Level(account.Error, fmt.Sprintf("%s failed, as a whole or in part: the system is not as they want it.", counted(read.Failed, "row", "rows"))))
	}
	if read.Waiting > 0 {
		page.Line("%s", page.Level(account.Error, fmt.Sprintf("%s not carried out to the end, or it is open whether they were.", counted(read.Waiting, "row is", "rows are"))))
	}
}
