package host

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// closedDay is the day of 1970 that marks an account as suspended. It is the one that
// shadow-utils' own pages name for it, and no date that anybody means.
const (
	closedDay  = 1
	closedDate = "1970-01-02"
)

// A result is what became of the commands of one account.
type result struct {
	came bool // else the answer was cut before it
	step string
	code int
	said string
}

// An answer is what a block printed.
type answer struct {
	facts    *facts
	now      time.Time
	results  []result
	found    []account.Account
	accounts map[string]int // name → in found
	other    func(kind, text string)
	busy     bool // another of these shells is at work
	err      error
}

// line takes in a line.
func (a *answer) line(kind, text string) {
	switch kind {
	case "R":
		parts := strings.SplitN(text, " ", 4)
		if len(parts) < 4 {
			a.err = fmt.Errorf("the host answered what cannot be understood: %q", text)
			return
		}
		number, err := strconv.Atoi(parts[0])
		code, codeErr := strconv.Atoi(parts[2])
		if err != nil || codeErr != nil || number < 0 || number >= len(a.results) {
			a.err = fmt.Errorf("the host answered what cannot be understood: %q", text)
			return
		}
		a.results[number] = result{true, parts[1], code, strings.ToValidUTF8(strings.TrimSpace(parts[3]), "�")}
	case "P":
		a.passwd(text)
	case "S":
		a.shadow(text)
	case "B":
		a.busy = true
	default:
		if a.other != nil {
			a.other(kind, text)
		}
	}
}

// passwd takes in a line of /etc/passwd without its second part. Accounts that are not
// people's are not taken.
func (a *answer) passwd(text string) {
	parts := strings.Split(text, ":")
	if len(parts) != 6 {
		return
	}
	uid, err := strconv.Atoi(parts[1])
	if _, twice := a.accounts[parts[0]]; err != nil || !a.facts.person(uid) || twice {
		return // of two lines of a name the first counts, as for the host itself
	}
	value := func(text string) account.Value { return account.Of(strings.ToValidUTF8(text, "�")) }
	a.accounts[parts[0]] = len(a.found)
	a.found = append(a.found, account.Account{ID: parts[0], Version: text, Fields: map[string]account.Value{
		"userName": value(parts[0]), "uidNumber": value(parts[1]), "gidNumber": value(parts[2]), "gecos": value(parts[3]),
		"homeDirectory": value(parts[4]), "loginShell": value(parts[5]), "active": account.Of("true"), renew: account.Of("false"), "expires": account.Blank(), local: account.Of("true"),
	}})
}

// shadow takes in a line of /etc/shadow: the name, how the password is locked, how it
// begins, when it was changed and when the account expires.
func (a *answer) shadow(text string) {
	parts := strings.Split(text, ":")
	at, known := a.accounts[parts[0]]
	if len(parts) != 5 || !known {
		return
	}
	it := &a.found[at]
	it.Version += "\n" + text
	if day, err := strconv.Atoi(parts[4]); err == nil && day >= 0 {
		on := time.Unix(0, 0).UTC().AddDate(0, 0, day)
		if !on.After(a.now) {
			it.Fields["active"] = account.Of("false")
		}
		if day != closedDay {
			it.Fields["expires"] = account.Of(on.Format(time.DateOnly))
			it.Whole = map[string]string{"active": on.Format(time.DateOnly)}
		}
	}
	it.Fields[renew] = account.Of(strconv.FormatBool(parts[3] == "0"))
}

// account returns an account as the block left it.
func (a *answer) account(name string) (account.Account, error) {
	at, known := a.accounts[name]
	if !known {
		return account.Account{}, system.ErrGone
	}
	return a.found[at], nil
}

// everyone is the pattern of any name.
const everyone = `[^:]*`

// List implements system.System.
func (c *client) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		b := &block{}
		b.text.WriteString("look " + quoted(everyone) + "\n")
		a, err := c.do(ctx, "list accounts", b)
		if err == nil && slices.Contains(fields, local) {
			var names []string
			for _, found := range a.found {
				names = append(names, found.ID)
			}
			err = c.askDirectory(ctx, a, system.ByID, names, true)
		}
		if err == nil && slices.Contains(fields, "uidNumber") {
			err = c.verify(ctx, a)
		}
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		for _, found := range a.found {
			if !yield(found, nil) {
				return
			}
		}
	}
}

// mostFound is how many values one request looks for.
const mostFound = 500

// Find implements system.System. Accounts that only a directory serves which the host asks are
// found by name and number, and not listed: most directories cannot be.
func (c *client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		b := &block{}
		switch field {
		case system.ByID, "userName":
			b.names = values
		case "uidNumber":
			values = slices.DeleteFunc(slices.Clone(values), func(v string) bool { _, err := strconv.Atoi(v); return err != nil })
			if len(values) == 0 {
				return
			}
			b.text.WriteString("look \"$(numbered " + quoted(strings.Join(values, "|")) + ")\"\n")
		default:
			yield(account.Account{}, system.ErrCannotFind)
			return
		}
		a, err := c.do(ctx, "find accounts", b)
		if err == nil {
			err = c.askDirectory(ctx, a, field, values, slices.Contains(fields, local))
		}
		if err == nil && slices.Contains(fields, "uidNumber") {
			err = c.verify(ctx, a)
		}
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		for _, found := range a.found {
			if !yield(found, nil) {
				return
			}
		}
	}
}

// Get implements system.System.
func (c *client) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	for a, err := range c.Find(ctx, system.ByID, []string{id}, fields) {
		if err != nil || a.ID == id {
			return a, err
		}
	}
	return account.Account{}, system.ErrGone
}

// leftBehind adds to a trouble that an account stays, as it could not be taken away again.
func leftBehind(err error, r result, there bool) error {
	if !there || r.step != "password" && r.step != "renewal" && r.step != "home-short" && r.code != 12 {
		return err
	}
	const left = "; the account could not be taken away again and stays half made: remove it on the host"
	var refusal *system.Refusal
	var unavailable *system.Unavailable
	switch {
	case errors.As(err, &refusal):
		refusal.Message += left
	case errors.As(err, &unavailable):
		unavailable.Message += left
	}
	return err
}

// creation is the commands that make an account, all of it or nothing; last says that it is the
// last of its block.
func (c *client) creation(f *facts, w account.Account, last bool) (string, error) {
	name, uid, gid := w.Field("userName").Text(), w.Field("uidNumber").Text(), w.Field("gidNumber").Text()
	home := w.Field("homeDirectory").Text()
	if home == "" {
		home = f.homes + "/" + name
	}
	useradd := []string{"useradd"}
	add := func(flag, value string) {
		if value != "" {
			useradd = append(useradd, flag, value)
		}
	}
	add("-u", uid)
	add("-g", gid)
	add("-c", w.Field("gecos").Text())
	add("-d", home)
	add("-s", w.Field("loginShell").Text())
	off := w.Field("active").Text() == "false"
	if add("-e", w.Field("expires").Text()); off {
		useradd = append(useradd, "-e", closedDate)
	}
	steps := []string{}
	undo := "userdel -- " + quoted(name)
	if c.homes.make {
		useradd = append(useradd, "-m")
		// What lies there may be somebody else's.
		owner := "false"
		if uid != "" {
			owner = `[ "$(stat -c %u ` + quoted(home) + ` 2>/dev/null)" = ` + quoted(uid) + " ]"
		}
		there := fmt.Sprintf(`{ r=-r; [ ! -e %[2]s ] || { r=; getent passwd %[1]s >/dev/null 2>&1 || %[3]s || no home-there "of user number $(stat -c %%u %[2]s)"; }; }`, quoted(name), quoted(home), owner)
		steps = append(steps, there)
		undo = "userdel $r -- " + quoted(name)
	} else {
		useradd = append(useradd, "-M")
	}
	private := gid != "" && gid == uid
	if private { // the group that is the account's own
		group := fmt.Sprintf(`{ g=; [ -n "$(sed -nE %s /etc/group)" ] || { try group groupadd -g %s -- %s && g=1; }; }`, quoted("/^[^:]*:[^:]*:"+gid+":/p"), quoted(gid), quoted(name))
		steps = append(steps, group)
		undo += "; [ -z \"$g\" ] || groupdel -- " + quoted(name)
	}
	useradd = append(useradd, "--", name)
	more, err := c.secrets(f, name, w)
	if err != nil {
		return "", err
	}
	made := "try account " + words(useradd...)
	if c.homes.make { // useradd does not tell that it could not fill one
		closely := ""
		if last {
			closely = "closely"
		}
		made = "{ " + made + " && filled " + words(home, closely) + "; }"
	}
	// useradd leaves an account behind whose home could not be made.
	undo = "{ z=$?; { " + undo + "; } >/dev/null 2>&1 </dev/null; false; }"
	made = fmt.Sprintf("{ %s || { case $c in 12|254) %s;; esac; false; }; }", made, undo)
	if len(more) > 0 {
		made += fmt.Sprintf(" && { { %s; } || %s; }", strings.Join(more, " && "), undo)
	}
	if private { // groups are there by now
		made = fmt.Sprintf(`{ %s || { [ -z "$g" ] || groupdel -- %s >/dev/null 2>&1; false; }; }`, made, quoted(name))
	}
	return strings.Join(append(steps, made), " && "), nil
}

// completion is the commands that give an account what it may lack: the host may have gone down between the
// tools that make one, or between what one of them writes.
func (c *client) completion(f *facts, known, wanted account.Account) (string, error) {
	home := ""
	if c.homes.make {
		home = known.Field("homeDirectory").Text()
	}
	name := pattern([]string{known.ID})
	commands := []string{aPerson(known.ID, f), "complete " + words(known.ID, name, home)}
	off := wanted.Field("active").Text() == "false"
	if day := wanted.Field("expires").Text(); day != "" && !off {
		commands = append(commands, "try "+words("account", "usermod", "-e", day, "--", known.ID))
	}
	more, err := c.secrets(f, known.ID, wanted)
	if err != nil {
		return "", err
	}
	commands = append(commands, more...)
	if off {
		commands = append(commands, "try "+words("account", "usermod", "-L", "-e", closedDate, "--", known.ID))
	}
	return strings.Join(commands, " && "), nil
}

// secrets are the commands that set the password of an account that is made, and have the person
// choose another.
func (c *client) secrets(f *facts, name string, w account.Account) (commands []string, err error) {
	if w.Password != "" {
		hash, err := hashed(f.method, w.Password)
		if err != nil {
			return nil, err
		}
		if w.Field("active").Text() == "false" {
			hash = "!" + hash
		}
		c.work.Mask.Add(hash)
		commands = append(commands, "pw "+quoted(name+":"+hash))
	}
	if w.Field(renew).Text() == "true" {
		commands = append(commands, "try "+words("renewal", "chage", "-d", "0", "--", name))
	}
	return commands, nil
}

// aPerson has commands carried out only if the account is a person's.
func aPerson(name string, f *facts) string {
	return fmt.Sprintf(`{ [ "$(line %s | sed -n 1p | cut -d: -f2)" -ge %d ] 2>/dev/null || no not-as-it-was; }`, quoted(pattern([]string{name})), f.least)
}

// partly is the error of a change that was refused: the tools write some of it before they come to
// what they cannot do.
func (c *client) partly(ctx context.Context, a *answer, names []string, changes []account.Change, refused error) error {
	about, err := c.Describe(ctx)
	if err != nil {
		return refused
	}
	for _, name := range names {
		now, err := a.account(name)
		if err != nil {
			continue
		}
		if done := system.Carried(about.Schema, changes, now); len(done) > 0 {
			return &system.Partial{Now: now, Done: done, Err: refused}
		}
		return refused
	}
	return refused
}

// as has commands carried out only if the account is as it was when it was looked at; if
// that is not known, only if it is a person's.
func as(known account.Account) string {
	if known.Version == "" {
		return `{ [ -n "$(line ` + quoted(pattern([]string{known.ID})) + `)" ] || no not-as-it-was; } && `
	}
	return `{ [ "$(line ` + quoted(pattern([]string{known.ID})) + `)" = ` + quoted(known.Version) + ` ] || no not-as-it-was; } && `
}

// An edit is what changes of an account come to on a host.
type edit struct {
	known   account.Account
	fields  map[string]account.Value // that the changes give
	after   string                   // what the account is called then
	usermod []string                 // what is done by one call of that tool
	before  []string                 // commands that come before it
	chosen  string                   // the day of the password by which the person has to choose another, or need not; empty: it stays
	moves   bool                     // the home is moved
	was     string                   // from here
}

// change is the commands that change an account, and what it is called then.
func (c *client) change(f *facts, known account.Account, changes []account.Change) (commands, after string, err error) {
	e := &edit{known: known, fields: fieldsOf(changes), after: known.ID, usermod: []string{"usermod"}}
	if err := refuseValues(f, e.fields); err != nil {
		return "", "", err
	}
	if e.fields[local].Text() == "true" {
		// Of the files alone, with what the directory says of it: with a prefix, useradd
		// looks nowhere else.
		return "restore " + quoted(known.ID), known.ID, nil
	}
	for _, change := range changes {
		if err := c.edit(e, change); err != nil {
			return "", "", err
		}
	}
	return strings.Join(c.steps(f, e), " && "), e.after, nil
}

// edit adds a change.
func (c *client) edit(e *edit, change account.Change) error {
	to := change.After.Text()
	use := func(flags ...string) { e.usermod = append(e.usermod, flags...) }
	switch change.Field {
	case "userName":
		e.after = to
		use("-l", to)
	case "uidNumber":
		use("-u", to)
	case "gidNumber":
		e.before = append(e.before, "regid "+words(e.known.ID, change.Before.Text(), to))
	case "gecos":
		use("-c", to)
	case "homeDirectory":
		if !c.homes.move {
			use("-d", to)
			return nil
		}
		// It is looked at before anything is done, and moved when all else is: usermod writes where it is to be before it moves it.
		e.moves, e.was = true, change.Before.Text()
		e.before = append(e.before, "rehome "+words(e.was, to))
	case "loginShell":
		use("-s", to)
	case "expires":
		if _, both := e.fields["active"]; both {
			return nil // with that
		}
		if closed(e.known) {
			return &system.Refusal{Code: account.SystemRefused, Field: "expires", Message: "the account is closed, and another day would let the person in again: resume it first"}
		}
		use("-e", to)
	case "active":
		day, both := e.fields["expires"]
		switch {
		case to == "false":
			use("-L", "-e", closedDate)
		case both:
			use("-e", day.Text())
		default: // the day that it had before it was suspended, where that is known
			use("-e", change.Whole)
		}
	case renew:
		e.chosen = "0"
		if to != "true" {
			e.chosen = c.clock.Now().UTC().Format(time.DateOnly)
		}
	}
	return nil
}

// steps are the commands of an edit, in their order.
func (c *client) steps(f *facts, e *edit) []string {
	name := pattern([]string{e.after})
	steps := e.before
	if len(e.usermod) > 1 {
		tells := "try"
		if e.fields["uidNumber"].Filled() { // usermod gives all files of the home to the number
			tells = "slow"
		}
		steps = append(steps, tells+" account "+words(append(e.usermod, "--", e.known.ID)...))
	}
	if from := e.known.Field("gidNumber").Text(); e.after != e.known.ID && from != "" {
		if to := e.fields["gidNumber"].Text(); to != "" {
			from = to
		}
		steps = append(steps, "rename "+words(e.known.ID, e.after, from)) // the group of the account's own
	}
	if e.fields["active"].Text() == "true" {
		// Where there is no password that could be let in again, usermod would say no.
		steps = append(steps, fmt.Sprintf(`{ [ -z "$(sed -nE %s /etc/shadow)" ] || try password usermod -U -- %s; }`, quoted("/^("+name+"):![^:!*]/p"), quoted(e.after)))
	}
	if e.chosen != "" {
		steps = append(steps, "try "+words("renewal", "chage", "-d", e.chosen, "--", e.after))
	}
	if e.fields["active"].Text() == "false" && c.ends {
		steps = append(steps, "sessions "+words(name, strconv.Itoa(f.least)))
	}
	if e.moves {
		steps = append(steps, "movehome "+words(e.was, e.fields["homeDirectory"].Text(), e.after, name))
	}
	if _, served := e.fields[local]; served {
		steps = append(steps, "retire "+words(e.known.ID, pattern([]string{e.known.ID})))
	}
	return steps
}

// closed reports whether an account is marked as suspended.
func closed(a account.Account) bool {
	return strings.HasSuffix(a.Version, ":"+strconv.Itoa(closedDay)) && strings.Contains(a.Version, "\n")
}

// fieldsOf are the values that changes give.
func fieldsOf(changes []account.Change) map[string]account.Value {
	fields := map[string]account.Value{}
	for _, change := range changes {
		fields[change.Field] = change.After
	}
	return fields
}

// removal is the commands that remove an account.
func (c *client) removal(known account.Account) string {
	userdel := []string{"account", "userdel"}
	if c.homes.remove {
		userdel = append(userdel, "-r")
	}
	return as(known) + "slow " + words(append(userdel, "--", known.ID)...)
}

// renewal is the commands that give an account another password. That of a suspended account is set and
// stays locked.
func (c *client) renewal(f *facts, known account.Account, password string, also []account.Change) (string, error) {
	hash, err := hashed(f.method, password)
	if err != nil {
		return "", err
	}
	c.work.Mask.Add(hash)
	name := pattern([]string{known.ID})
	locked := fmt.Sprintf(`l=; [ -z "$(sed -nE %s /etc/shadow)" ] || l=!`, quoted("/^("+name+"):([^:]*:){6}"+strconv.Itoa(closedDay)+":/p"))
	// The password itself is no part of what an account was looked at for.
	commands := aPerson(known.ID, f) + " && { " + locked + "; pw " + quoted(known.ID+":") + `"$l"` + quoted(hash) + "; }"
	if len(also) > 0 {
		more, _, err := c.change(f, known, also)
		if err != nil {
			return "", err
		}
		commands += " && " + more
	}
	return commands, nil
}
