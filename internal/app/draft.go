package app

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/feed"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
)

// Drafter readies the making of a batch of a job. What a feed brings is taken once.
func (a *App) Drafter(ctx context.Context, l store.Store, j *Job) (*drafting.Draft, error) {
	if d := j.local.Delivery; d != nil {
		if d.Again = j.Request.Again; !j.Request.Compare {
			if err := notTaken(ctx, l, &batch.Batch{Draft: batch.Draft{Source: batch.Source{Delivery: d}}}); err != nil {
				return nil, err
			}
		}
	}
	if err := j.fitFollowUps(); err != nil {
		return nil, err
	}
	before, err := rowsBefore(ctx, l, j)
	if err != nil {
		return nil, err
	}
	info := j.Sheet.Info()
	by, key := a.Who(j.Workspace)
	if p := &j.Brief.Password; key == "" && !j.Request.Compare && (p.Generates() || p.Given()) && seals(j.Workspace) {
		return nil, mistake("passwords are sealed for the team, and who drafts them vouches for them with a key that signs: yours does not stand in evenledger.yaml", "“evenledger identity” makes your keys, and says what to write there, under “people”.")
	}
	d := &drafting.Draft{
		Ledger: l, Worker: a.Worker(j.Workspace), Sign: a.SignDraft(j.Workspace, l), System: j.System, Sheet: j.Sheet, Rows: j.Rows(), Mapper: j.Mapper, Together: j.Target.Together,
		Scratch: func() (drafting.Scratch, error) { return feed.NewScratch(spoolsOf(j.Workspace)) },
		Part:    !j.Selection.All() || j.Request.Only != "" || len(j.Request.Fields) > 0, Elevated: j.Target.Elevated, Allow: j.Request.Elevated, Protect: j.Target.Protect, Renew: j.Target.Renew, Vaults: Vaults(j.Workspace, l), WhyNot: j.whyNot, Known: known(j.Target.Name, j.Target.URL()), Rules: j.Target.Passwords, Before: before, MailsTo: j.Request.MailsTo,
		Batch: batch.Batch{Draft: batch.Draft{By: by, ByKey: key, SignedFrom: j.Target.SignedFrom, Made: a.Clock.Now(), ReportTo: j.Brief.ReportTo, Trial: cmp.Or(j.Request.Trial, j.Brief.TrialRun), System: j.Target.Name, URL: j.Target.URL(), Source: batch.Source{Sheet: j.local.named(info), Delivery: j.local.Delivery, Separator: info.Separator, Headings: info.Headings, Above: info.Above, HeadingRow: info.HeadingRow, Workbook: info.Traits().Workbook, Words: j.Mapper.Words()}}},
	}
	if d.MailsTo != "" && d.Batch.Trial == "" {
		return nil, mistake("--mails-to says where the mails of a trial go, and this is none", "Give --trial-run with a name for it.")
	}
	if d.Pairs, err = j.pairs(); err != nil {
		return nil, err
	}
	if d.RestNew = j.Request.Rest == "new"; d.RestNew && d.Pairs == nil || j.Request.Rest != "" && !d.RestNew {
		return nil, mistake("--rest says what rows are that nobody answered for: new; it goes with --pairs", "For example: --pairs pairs.xlsx --rest new")
	}
	scope := j.Brief.NewScope(nil)
	if d.Batch.Begin, err = a.wholes(j.Brief.Begin, scope); err != nil {
		return nil, err
	}
	if d.Batch.End, err = a.wholes(j.Brief.End, scope); err != nil {
		return nil, err
	}
	if j.Named {
		d.Batch.Brief = j.Request.Brief
	}
	if d.Batch.Corrects, err = corrects(ctx, l, info.Headings, j.Target.Name); err != nil {
		return nil, err
	}
	for i, above := range d.Batch.Above {
		d.Batch.Above[i] = concealed(above)
	}
	if d.Batch.Delivery == nil && j.Path != sheet.StandardInput {
		if d.Batch.Path, err = filepath.Abs(j.Path); err != nil {
			return nil, err
		}
		d.Batch.Sum = fingerprint(j.Path, info)
	}
	if d.Batch.Sum != "" {
		d.Batch.Tab = info.Tab
	}
	if !j.Selection.All() {
		d.Batch.Taken = j.Selection.String()
	}
	if j.Request.Only != "" {
		d.Batch.Taken = strings.TrimPrefix(d.Batch.Taken+", where "+j.Request.Only, ", ")
	}
	switch p := &j.Brief.Password; {
	case p.Generates() && p.Given():
		d.Batch.Secrets = "both"
	case p.Generates():
		d.Batch.Secrets = "generate"
	case p.Given():
		d.Batch.Secrets = "given"
	}
	return d, nil
}

// rowsBefore returns how many rows the batch before had that was made of the same list: of the
// same feed, or by the same brief.
func rowsBefore(ctx context.Context, l store.Store, j *Job) (int, error) {
	if j.Brief.Fewer == nil {
		return 0, nil
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return 0, err
	}
	for _, b := range all {
		if !b.Took() || b.Taken != "" || b.Corrects+b.Reverses > 0 || b.System != j.Target.Name || b.Brief != j.Request.Brief {
			continue
		}
		if d := j.local.Delivery; d == nil && b.Delivery == nil || d != nil && b.Delivery != nil && d.Feed == b.Delivery.Feed {
			return b.Rows, nil
		}
	}
	return 0, nil
}

// corrects is the batch whose refused and failed rows a sheet has, and which is for a system: of a set's fix sheet, which
// names the first batch of the set, that of the system. 0: it is no fix sheet.
func corrects(ctx context.Context, l store.Store, headings []string, system string) (int, error) {
	of, _ := sheet.FixesOf(headings)
	if of == 0 {
		return 0, nil
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return 0, err
	}
	first := slices.IndexFunc(all, func(b batch.Batch) bool { return b.ID == of })
	if first < 0 || all[first].System == system || all[first].Beside == 0 {
		return of, nil
	}
	for i := range all {
		if all[i].Beside == all[first].Beside && all[i].System == system {
			return all[i].ID, nil
		}
	}
	return of, nil
}

// fingerprint returns the SHA-256 of a workbook that a report can be written into, so that it is known later whether it is the same
// still; empty: it is none, or cannot be read.
func fingerprint(path string, info sheet.Info) string {
	if !info.Traits().Beside {
		return ""
	}
	file, err := os.Open(path)
	if err != nil {
		return "" // the sheet itself was read; only the report is plainer for it
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return ""
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// concealed returns cells without what looks like passwords.
func concealed(cells []string) []string {
	out := make([]string, len(cells))
	for i, cell := range cells {
		out[i] = profile.Concealed(cell)
	}
	return out
}
