package brief

import (
	"encoding/json"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// key is a key of the brief's file.
type key = yamldoc.Key

// Forms that only briefs have.
const (
	expression  yamldoc.Form = "expression"
	unique      yamldoc.Form = "unique"
	matching    yamldoc.Form = "matching"
	reowning    yamldoc.Form = "reowning"
	limit       yamldoc.Form = "limit"
	occasion    yamldoc.Form = "occasion"
	wording     yamldoc.Form = "wording"
	around      yamldoc.Form = "around"
	memberships yamldoc.Form = "memberships"
	fallback    yamldoc.Form = "fallback"
)

func (b *Brief) sheetKeys() []key {
	return []key{
		{Name: "feed", Form: yamldoc.Text, About: "The feed of evenledger.yaml that brings the sheet where none is named.", Put: yamldoc.Into(&b.Feed, yamldoc.Node.Text)},
		{Name: "tab", Form: yamldoc.Text, About: "The tab of a workbook, or the list of a JSON file, when it is not the one that fits the brief best.", Put: func(n yamldoc.Node) { b.Tab = n.Text(); b.oneTab(n) }},
		{Name: "tabs", Form: yamldoc.Texts, About: "The tabs of a workbook that are read as one sheet, one below the other: all, for those that are shown and have the same headings, or their names.", Put: func(n yamldoc.Node) {
			if b.Tabs = n.Texts(); len(b.Tabs) == 0 {
				n.Fail("Write “tabs: all”, or “tabs: [Crew, Pilots]”.", "no tab is named")
			}
			b.oneTab(n)
		}},
		{Name: "encoding", Form: yamldoc.Text, About: "The encoding of its text, such as windows-1250 or shift_jis, when it is not UTF-8.", Put: func(n yamldoc.Node) {
			if b.Encoding = n.Text(); b.Encoding != "" && !sheet.KnowsEncoding(b.Encoding) {
				n.Fail("Write a name such as utf-8, windows-1250, iso-8859-2, macintosh or shift_jis.", "there is no encoding “%s”", b.Encoding)
			}
		}},
		{Name: "blank_words", Form: yamldoc.Texts, About: "What is written in cells that are to count as blank, such as N/A or -.", Put: yamldoc.Into(&b.Blanks, yamldoc.Node.Texts)},
		{Name: "columns", Form: yamldoc.Texts, About: "What the columns are called, of a sheet that has no headings, in their order; whatever stands between cells, a colon as well, is found by their number.", Put: func(n yamldoc.Node) {
			if b.Columns = n.Texts(); len(b.Columns) == 0 {
				n.Fail("Write it as “columns: [userName, x, uidNumber]”.", "no column is named")
			}
		}},
		{Name: "heading_row", Form: yamldoc.Whole, About: "The row of the headings, from 1, when it cannot be found by looking.", Put: func(n yamldoc.Node) { b.HeadingRow = n.Whole(1, 1000) }},
		{Name: "ends", Form: yamldoc.Text, About: "Where the list ends, if something else stands below it: its last row, such as 57; blank for the first blank row; never if every row is one of the list; or what stands in the first cell of the row below it, such as Totals.", Put: func(n yamldoc.Node) {
			var err error
			if b.ListEnd, err = sheet.ParseEnd(n.Text()); err != nil {
				n.Fail("Write the last row of the list, such as 57, or “blank” for the first blank row, or “never”, or what stands in the first cell below it.", "nobody can tell where the list ends: %s", err)
			}
		}},
	}
}

func (c *Check) keys(that *yamldoc.Node) []key {
	return []key{
		{Name: "that", Form: expression, About: "What must hold for the row.", Put: func(n yamldoc.Node) { *that = n }},
		{Name: "say", Form: yamldoc.Text, About: "What is wrong when it does not hold.", Put: yamldoc.Into(&c.Say, yamldoc.Node.Text)},
		{Name: "level", OneOf: []string{"error", "warning", "note"}, About: "How grave it is; an error refuses the row. Without it: error.", Put: yamldoc.Word(&c.Level)},
	}
}

func (source *fieldSource) keys(in folders) []key {
	f := &source.field
	return []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column; capitals, spacing, accents and punctuation make no difference. With a star for a number or a word, such as “Training *” or “phones.*.value”, every such column gives a value.", Put: yamldoc.Into(&f.From, yamldoc.Node.Text)},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several values of one cell, such as “;”; a backslash stands before one that is part of a value. The field is then a list.", Put: func(n yamldoc.Node) { f.Split, f.Kind = n.Text(), account.List }},
		{Name: "make", Form: expression, About: "How to make the value when there is no column, or its cell is blank.", Put: func(n yamldoc.Node) { source.make = n }},
		{Name: "fallback", Form: fallback, About: "The value that a new account gets when the cell is blank or the column isn't there.", Put: func(n yamldoc.Node) { source.fallback, f.Fallback = n, account.Of(account.ListOf(n.Texts())) }},
		{Name: "fallback_for", OneOf: servedAccounts, About: "Which accounts get the fallback: new ones, also known ones for which the system has nothing in the field (empty), or all. Without it: new.", Put: func(n yamldoc.Node) { source.served, f.FallbackFor = n, FallbackFor(n.Text()) }},
		{Name: "fallback_when", OneOf: []string{atBlank, atAbsent}, About: "Where the fallback counts: only for a blank cell (blank), or only where the sheet has no such column (absent). Without it: both.", Put: yamldoc.Word(&f.FallsAt)},
		{Name: "when", Form: expression, About: "The rows in which the field counts, by a condition such as department == \"Deck\". In others it is as if the sheet had no such column.", Put: func(n yamldoc.Node) { source.when = n }},
		{Name: "via", Form: yamldoc.Table, About: "What is written in the cell and the value it stands for. Anything else is an error, unless “else” says otherwise.", Put: func(n yamldoc.Node) { source.via = n; f.oneTable(n); f.startTable(n) }},
		{Name: "else", OneOf: []string{asItIs, refused}, About: "What becomes of a cell that the table does not have: it is read as it is, or refused. Without it: refuse.", Put: func(n yamldoc.Node) { f.ViaOpen = n.Text() == asItIs }},
		{Name: "via_sheet", Form: yamldoc.Text, About: "A sheet beside the brief with such a table: its first column is what is written, its second the value.", Put: func(n yamldoc.Node) { source.viaSheet = n; readTable(f, n, in) }},
		{Name: "as", OneOf: account.KindNames(), About: "The kind of value, where the field itself is any text.", Put: func(n yamldoc.Node) { f.Kind, _ = account.ParseKind(n.Text()) }},
		{Name: "required", Form: yamldoc.Bool, About: "Whether a row without a value is refused.", Put: yamldoc.Into(&f.Required, yamldoc.Node.Bool)},
		{Name: "digits", Form: yamldoc.Whole, About: "How many digits the value has: one with fewer gets the zeros before it that a spreadsheet program took away, and any other is refused.", Put: func(n yamldoc.Node) { f.Digits = n.Whole(2, 40) }},
		{Name: "one_of", Form: yamldoc.Texts, About: "The values that are allowed; capitals, spacing and accents make no difference, and what is sent is written as here. Anything else is refused.", Put: func(n yamldoc.Node) {
			if source.oneOf, f.OneOf, f.OneOfWords = n, map[string]string{}, n.Texts(); len(f.OneOfWords) == 0 {
				n.Fail("Write the values: one_of: [Northport, Southport].", "“one_of” allows nothing")
			}
		}},
		{Name: "clear_when_blank", Form: yamldoc.Bool, About: "Whether a blank cell empties the field. Without it a blank leaves the field as it is.", Put: func(n yamldoc.Node) { source.clear, f.ClearWhenBlank = n, n.Bool() }},
		{Name: "unique", Form: unique, About: "What happens when two accounts would share the value: refuse the row, give a new account's value the next free number (number), or one behind a value that somebody of the same unit has (in-unit), or try the formulas of a list in turn, of which “number” may be the last.", Put: source.readUnique},
		{Name: "send", Form: yamldoc.Bool, About: "false keeps the field for expressions and sends it nowhere.", Put: yamldoc.Into(&f.Send, yamldoc.Node.Bool)},
		{Name: "refers", Form: yamldoc.Text, About: "The value is another account's value of this field, such as employeeNumber, and that account is meant. It may be one that the same sheet creates.", Put: func(n yamldoc.Node) { f.Refers, f.Kind = n.Text(), account.Person }},
		{Name: "parts", Form: yamldoc.Table, About: "The parts of each value of a list that has several, such as the type and value of a sign-in: the system's name of the part and the heading of its column, with a star for a number or a word, or = and a text that is the same in all.", Put: f.readParts},
		{Name: "among", Form: yamldoc.Text, About: "The value is the name or id of a thing of this kind in the system, such as units; a row that names none is refused.", Put: yamldoc.Into(&f.Among, yamldoc.Node.Text)},
		{Name: "next", Form: yamldoc.Text, About: "A range such as 20000-29999: a new account gets the lowest number of it that no row and no account of the system has, unless its cell gives one.", Put: func(n yamldoc.Node) { f.Next, f.Kind = readRange(n), account.Number }},
		{Name: "again", Form: yamldoc.Bool, About: "With next: numbers that somebody had before may be given again. Without it none is that the ledger knows of.", Put: yamldoc.Into(&f.Again, yamldoc.Node.Bool)},
		{Name: "renumber", Form: yamldoc.Bool, About: "With next: accounts that are there get a number of the range as well, if theirs is not of it, or is not the same in all systems of a set.", Put: yamldoc.Into(&f.Renumber, yamldoc.Node.Bool)},
		{Name: "make_missing", Form: yamldoc.Bool, About: "With unit: whether a place in the directory that does not exist is made first. Without it the row is refused.", Put: yamldoc.Into(&f.MakeMissing, yamldoc.Node.Bool)},
		{Name: "mode", OneOf: modes, About: "What becomes of the values that a field with several has already: add keeps them, exact leaves just the row's, remove takes the row's away. Without it: exact.", Put: yamldoc.Word(&f.Mode)},
	}
}

func (m *Memberships) keys(in folders) []key {
	f := &m.Column
	return []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column with the names or ids. With a star for a number or a word, such as “Training *”, every such column names one.", Put: yamldoc.Into(&f.From, yamldoc.Node.Text)},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several names in one cell, such as “;”.", Put: yamldoc.Into(&f.Split, yamldoc.Node.Text)},
		{Name: "role", Form: yamldoc.Text, About: "The heading of the column with the role, paired by what stands for the star, where there is one.", Put: yamldoc.Into(&m.Role, yamldoc.Node.Text)},
		{Name: "section", Form: yamldoc.Text, About: "The heading of the column with the section, likewise.", Put: yamldoc.Into(&m.Section, yamldoc.Node.Text)},
		{Name: "fallback", Form: yamldoc.Texts, About: "What a new account gets when the cell is blank or the column isn't there.", Put: func(n yamldoc.Node) {
			m.Fallback = n.Texts()
			for _, item := range n.Items() {
				m.mention(item, false)
			}
		}},
		{Name: "fallback_for", OneOf: servedAccounts, About: "Which accounts get the fallback: new ones, also known ones that have nothing of the kind (empty), or all. Without it: new.", Put: yamldoc.Word(&m.FallbackFor)},
		{Name: "via", Form: yamldoc.Table, About: "What is written in the cell and the name it stands for.", Put: func(n yamldoc.Node) {
			f.readVia(n)
			for _, pair := range n.Pairs() {
				m.mention(pair.Value, false)
			}
		}},
		{Name: "else", OneOf: []string{asItIs, refused}, About: "What becomes of a cell that the table does not have: it is read as it is, or refused. Without it: refuse.", Put: func(n yamldoc.Node) { f.ViaOpen = n.Text() == asItIs }},
		{Name: "role_via", Form: yamldoc.Table, About: "What is written as the role and the role it stands for. Anything else is an error.", Put: func(n yamldoc.Node) {
			m.RoleVia.readVia(n)
			for _, pair := range n.Pairs() {
				m.mention(pair.Value, true)
			}
		}},
		{Name: "via_sheet", Form: yamldoc.Text, About: "A sheet beside the brief with such a table.", Put: func(n yamldoc.Node) { readTable(f, n, in) }},
		{Name: "mode", OneOf: modes, About: "add keeps the memberships that are there, exact leaves just the row's, remove takes the row's away. Without it: add.", Put: yamldoc.Word(&m.Mode)},
		{Name: "within", Form: yamldoc.Texts, About: "With exact: only memberships of things with such a name, in which a star stands for anything, are taken away.", Put: yamldoc.Into(&m.Within, yamldoc.Node.Texts)},
		{Name: "make_missing", Form: yamldoc.Bool, About: "Whether a thing that does not exist, or a section of one, is made first. Without it the row is refused.", Put: yamldoc.Into(&m.MakeMissing, yamldoc.Node.Bool)},
		{Name: "clear_when_blank", Form: yamldoc.Bool, About: "With exact: whether a blank cell takes all memberships within away. Without it a blank leaves them.", Put: yamldoc.Into(&m.ClearWhenBlank, yamldoc.Node.Bool)},
	}
}

func (b *Brief) ruleKeys(rule *Rule) []key {
	return []key{
		{Name: "when", Form: expression, About: "The rows for which the rule holds.", Put: func(n yamldoc.Node) { rule.When = b.compile(n, account.YesNo) }},
		{Name: "groups", Form: yamldoc.Texts, About: "The groups such rows join.", Put: func(n yamldoc.Node) { b.gives(rule, "groups", n) }},
		{Name: "courses", Form: yamldoc.Texts, About: "The courses they are enrolled in.", Put: func(n yamldoc.Node) { b.gives(rule, "courses", n) }},
		{Name: "licences", Form: yamldoc.Texts, About: "The licences they get a seat of.", Put: func(n yamldoc.Node) { b.gives(rule, "licences", n) }},
		{Name: "roles", Form: yamldoc.Texts, About: "The roles they get.", Put: func(n yamldoc.Node) { b.gives(rule, "roles", n) }},
	}
}

func (source *fieldSource) intentKeys() []key {
	f := &source.field
	return []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column that says what is to happen to the row's account.", Put: yamldoc.Into(&f.From, yamldoc.Node.Text)},
		{Name: "via", Form: yamldoc.Table, About: "What is written there, and what it means: create, update, suspend, resume, remove, or aside to leave the row out. A blank follows “new” and “known”.", Put: func(n yamldoc.Node) {
			f.startTable(n)
			for _, v := range n.Pairs() {
				word := v.Value.OneOf(intentWords...)
				f.Via[words.NameKey(v.Key)], f.ViaExact[v.Key] = word, word
			}
		}},
		{Name: "make", Form: expression, About: "An expression that gives one of these words, instead of a column.", Put: func(n yamldoc.Node) { source.make = n }},
		{Name: "fallback", OneOf: intentWords, About: "What a blank means, instead.", Put: func(n yamldoc.Node) { f.Fallback = account.Of(n.Text()) }},
	}
}

func (b *Brief) suspendKeys(then *yamldoc.Node) []key {
	return []key{
		{Name: "set", Form: yamldoc.Table, About: "Fields that are set besides, such as one that hides the account from a directory listing.", Put: yamldoc.Into(&b.Suspending.Set, readSet)},
		{Name: "then", Form: yamldoc.Text, About: "What becomes of those whom batches of this brief suspended: “remove after 30 days” drafts their removal when the brief is used again, with allow_remove and a limit on it.", Put: func(n yamldoc.Node) { *then = n }},
		{Name: "leave", Form: yamldoc.Table, About: "Memberships that are taken away: a kind, such as licences or groups, and the pattern of their names.", Put: func(n yamldoc.Node) {
			for _, p := range n.Pairs(kinds...) {
				b.Suspending.Leave[p.Key] = p.Value.Texts()
			}
		}},
	}
}

func (b *Brief) resumeKeys() []key {
	return []key{
		{Name: "set", Form: yamldoc.Table, About: "Fields that are set besides.", Put: yamldoc.Into(&b.Resuming, readSet)},
	}
}

func (b *Brief) limitKeys() []key {
	return []key{
		{Name: "create", Form: limit, About: "The most accounts that one batch may create: a number, or a share of the accounts there are, such as 5%.", Put: func(n yamldoc.Node) { b.Limits[account.Create] = readLimit(n) }},
		{Name: "update", Form: limit, About: "The most it may update.", Put: func(n yamldoc.Node) { b.Limits[account.Update] = readLimit(n) }},
		{Name: "suspend", Form: limit, About: "The most it may suspend.", Put: func(n yamldoc.Node) { b.Limits[account.Suspend] = readLimit(n) }},
		{Name: "resume", Form: limit, About: "The most it may let back in.", Put: func(n yamldoc.Node) { b.Limits[account.Resume] = readLimit(n) }},
		{Name: "remove", Form: limit, About: "The most it may remove.", Put: func(n yamldoc.Node) { b.Limits[account.Remove] = readLimit(n) }},
		{Name: "refused", Form: limit, About: "The most rows that may be refused for the others to be posted: a number, or a share of the rows.", Put: func(n yamldoc.Node) { limit := readLimit(n); b.Refused = &limit }},
		{Name: "fewer", Form: limit, About: "By what share the rows may be fewer than the last time, such as 20%: a list that came half is held back.", Put: func(n yamldoc.Node) {
			limit := readLimit(n)
			if b.Fewer = &limit; limit.Share == 0 {
				n.Fail("Write a share of the rows there were, such as 20%.", "“fewer” takes a share")
			}
		}},
	}
}

func (p *Password) keys() []key {
	return []key{
		{Name: "new", OneOf: []string{"generate", "given", "none"}, About: "Where a new account's password comes from: made by the program, given in the sheet, or none.", Put: func(n yamldoc.Node) { p.New = unless(n, "none") }},
		{Name: "known", OneOf: []string{"generate", "given", "keep"}, About: "Whether an account that is there gets another password: one made by the program, or the one that its row gives, if it gives one. Without it: keep.", Put: func(n yamldoc.Node) { p.Known = unless(n, "keep") }},
		{Name: "from", Form: yamldoc.Text, About: "With given: the heading of the column.", Put: yamldoc.Into(&p.From, yamldoc.Node.Text)},
		{Name: "when_blank", OneOf: []string{"refuse", "generate"}, About: "With new: given: what is done with a new person's row that gives none. Without it: refuse.", Put: func(n yamldoc.Node) { p.Blank = n.Text() == "generate" }},
		{Name: "length", Form: yamldoc.Whole, About: "With generate: how many characters. Without it: 16.", Put: func(n yamldoc.Node) { p.Length = n.Whole(8, 128) }},
		{Name: "alphabet", Form: yamldoc.Text, About: "With generate: the characters to choose from. Without it: letters and digits that cannot be mistaken for each other.", Put: yamldoc.Into(&p.Alphabet, yamldoc.Node.Text)},
		{Name: "words", Form: yamldoc.Whole, About: "With generate: this many short words with hyphens between, instead of characters.", Put: func(n yamldoc.Node) { p.Words = n.Whole(3, 12) }},
		{Name: "make", Form: expression, About: "With generate: a pattern in which each # becomes a random digit and each * a random letter.", Put: func(n yamldoc.Node) { p.make = n }},
		{Name: "change_at_sign_in", Form: yamldoc.Bool, About: "Whether the person has to choose another at the first sign-in.", Put: yamldoc.Into(&p.Change, yamldoc.Node.Bool)},
	}
}

func (b *Brief) noticeKeys(notice *Notice, in folders) []key {
	return []key{
		{Name: "on", Form: occasion, About: "What was done with the account: created, updated, suspended, resumed or removed; one or several.", Put: yamldoc.Into(&notice.On, readOccasions)},
		{Name: "when", Form: expression, About: "Only rows for which this holds.", Put: func(n yamldoc.Node) { notice.When = b.compile(n, account.YesNo) }},
		{Name: "to", Form: yamldoc.Text, About: "A field with an address, such as email, a person, such as manager, an address, or an expression in braces.", Put: func(n yamldoc.Node) { b.readRecipient(notice, n) }},
		{Name: "language", Form: yamldoc.Text, About: "The field that says in which language somebody is written to. Without it: preferredLanguage.", Put: func(n yamldoc.Node) {
			if notice.Language = b.Field(n.Text()); notice.Language < 0 {
				n.Fail("Name a field of the brief.", "“%s” is no field of the brief", n.Text())
			}
		}},
		{Name: "subject", Form: wording, About: "The subject, with expressions in braces.", Put: func(n yamldoc.Node) { notice.Subject = b.wording(n, in) }},
		{Name: "text", Form: wording, About: "The text, with expressions in braces; file: PATH of it; or either under each language.", Put: func(n yamldoc.Node) { notice.Text = b.passworded(notice, n, in) }},
		{Name: "with_password", Form: yamldoc.Bool, About: "Whether the password stands in it, at {password}; it is opened when the mail is sent, and wiped after."},
		{Name: "html", Form: wording, About: "The same as a page, for mail programs that show one.", Put: func(n yamldoc.Node) { notice.HTML = b.passworded(notice, n, in) }},
	}
}

func (b *Brief) followUpKeys(f *FollowUp) []key {
	return []key{
		{Name: "on", Form: occasion, About: "What was done with the account: created, updated, suspended, resumed or removed; one or several.", Put: yamldoc.Into(&f.On, readOccasions)},
		{Name: "when", Form: expression, About: "Only rows for which this holds.", Put: func(n yamldoc.Node) { f.When = b.compile(n, account.YesNo) }},
		{Name: "feed", Form: yamldoc.Text, About: "The feed of evenledger.yaml whose database or web address is meant.", Put: yamldoc.Into(&f.Feed, yamldoc.Node.Text)},
		{Name: "statement", Form: yamldoc.Text, About: "One statement for a database. Its parameters, such as :userName, are fields of the brief, and :id the account's id; they are bound, never written into it.", Put: yamldoc.Into(&f.Statement, yamldoc.Node.Text)},
		{Name: "body", Form: yamldoc.Table, About: "What a call of a web address sends as JSON: texts with expressions in braces, by name.", Put: func(n yamldoc.Node) { f.Body = b.readBody(n, "id", func(yamldoc.Node, *Template) {}) }},
	}
}

func (r *Reown) keys(in *yamldoc.Node) []key {
	return []key{
		{Name: "in", Form: yamldoc.Texts, About: "The folders.", Put: func(n yamldoc.Node) { *in = n }},
		{Name: "other_devices", Form: yamldoc.Bool, About: "Whether other devices beneath them are gone into as well.", Put: yamldoc.Into(&r.Across, yamldoc.Node.Bool)},
	}
}

// keys are those of a brief. What depends on other parts of it is put where it goes once those are read; the
// others know it themselves.
func (b *Brief) keys() []key {
	return []key{
		{Name: "brief", Form: yamldoc.Text, About: "The name of the brief."},
		{Name: "based_on", Form: yamldoc.Text, About: "A brief of the same folder whose keys count where this one has none; fields and checks come together."},
		{Name: "system", Form: yamldoc.Text, About: "The system of evenledger.yaml whose accounts are meant."},
		{Name: "sheet", Nested: b.sheetKeys(), About: "How to read the sheet."},
		{Name: "dates", OneOf: []string{"day-first", "month-first"}, About: "How dates such as 3/4/2027 are meant.", Put: func(n yamldoc.Node) {
			b.Dates = map[string]codes.DateOrder{"day-first": codes.DayFirst, "month-first": codes.MonthFirst}[n.Text()]
		}},
		{Name: "phones", Form: yamldoc.Text, About: "The country whose telephone numbers are written without its code, such as GB.", Put: b.readPhones},
		{Name: "only", Form: expression, About: "Rows for which it does not hold are set aside, and counted."},
		{Name: "for", About: "What is otherwise for one system: under its name, keys of a brief that count for it before those here; its fields replace those of their names."},
		{Name: "match", Form: matching, About: "The fields that find an account, tried in order. It may end in {like: [FIELDS]}: where no key finds an account, those are compared as people write names and addresses, for a person to say who is meant (“evenledger candidates”)."},
		{Name: "new", OneOf: []string{"create", "skip", "refuse"}, About: "What is done with a row that finds no account. Without it: create.", Put: func(n yamldoc.Node) { b.New, b.NewSaid = Policy(n.Text()), true }},
		{Name: "known", OneOf: []string{"update", "fill", "skip", "refuse"}, About: "What is done with a row that finds an account: change what differs, fill only what is empty, set aside, refuse. Without it: update.", Put: func(n yamldoc.Node) { b.Known, b.KnownSaid = Policy(n.Text()), true }},
		{Name: "fields", About: "The account's fields, and where each comes from."},
		{Name: "checks", About: "Conditions of your own."},
		{Name: "groups", Form: memberships, About: "The groups the account is a member of."},
		{Name: "courses", Form: memberships, About: "The courses the account is enrolled in."},
		{Name: "licences", Form: memberships, About: "The licences the account has a seat of."},
		{Name: "roles", Form: memberships, About: "The roles the account has."},
		{Name: "rules", About: "Memberships that follow from conditions."},
		{Name: "intent", Nested: new(fieldSource).intentKeys(), About: "A column that says for each row what is to happen to its account. It counts for more than “new” and “known”."},
		{Name: "suspend", Nested: b.suspendKeys(nil), About: "What goes with suspending an account, besides that it may no longer sign in."},
		{Name: "resume", Nested: b.resumeKeys(), About: "What goes with resuming one."},
		{Name: "allow_remove", Form: yamldoc.Bool, About: "Whether rows may ask for their account to be removed, with all that is in it.", Put: yamldoc.Into(&b.MayRemove, yamldoc.Node.Bool)},
		{Name: "gone", OneOf: []string{"keep", "suspend"}, About: "What is done with accounts within “scope” that the sheet no longer lists. Without it: keep."},
		{Name: "scope", Form: expression, About: "The accounts that the sheet is to list, by a condition on their fields, such as department == \"Deck\"."},
		{Name: "limits", Nested: b.limitKeys(), About: "The most that one batch may do; one that would do more is drafted and not posted."},
		{Name: "protect", Form: yamldoc.Texts, About: "User names, addresses or ids of accounts that no row may change; a star stands for anything.", Put: yamldoc.Into(&b.Protect, yamldoc.Node.Patterns)},
		{Name: "notices", About: "Mails about what was done with an account, each under a name of its own."},
		{Name: "follow_ups", About: "What is done elsewhere about what was done with an account, each under a name of its own."},
		{Name: "begin", Form: around, About: "What is done elsewhere before a batch as a whole: a list of {feed, statement} or {feed, body}. :batch is its number, :today the day."},
		{Name: "end", Form: around, About: "What is done elsewhere when all of a batch is posted."},
		{Name: "countersign", Form: yamldoc.Text, About: "When a second person has to sign a batch before it is posted: always, or over 50 (changes).", Put: yamldoc.Into(&b.SignedFrom, yamldoc.Node.From)},
		{Name: "trial_run", Form: yamldoc.Text, About: "Marks each batch of the brief as a trial of this name, as draft --trial-run does: for briefs that only ever make test people.", Put: yamldoc.Into(&b.TrialRun, yamldoc.Node.Text)},
		{Name: "reown", Form: reowning, About: "Folders of a host, such as [/home, /srv], in which files are given to the new numbers of accounts: one walk for all, on the device of each folder alone; {in: […], other_devices: true} goes on beneath.", Put: b.readReown},
		{Name: "retire", Form: yamldoc.Bool, About: "Takes the accounts of the rows out of a host's own files, where a directory serves them by then. Home folders and memberships stay.", Put: yamldoc.Into(&b.Retire, yamldoc.Node.Bool)},
		{Name: "report_to", Form: yamldoc.Texts, About: "The addresses that get the report of each batch by mail.", Put: b.readReportTo},
		{Name: "password", Nested: b.Password.keys(), About: "The passwords of new accounts, and other ones for accounts that are there."},
	}
}

var (
	modes          = []string{"add", "exact", "remove"}
	servedAccounts = []string{string(ForNew), string(ForEmpty), string(ForAll)}
)

type object = yamldoc.Object

// Schema returns the JSON Schema (draft 2020-12) of a brief, for editors.
func Schema() ([]byte, error) {
	b := &Brief{}
	keys := b.keys()
	top := schemaOf(keys)
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = "A brief of Even Ledger"
	top["anyOf"] = []object{{"required": []string{"match", "fields"}}, {"required": []string{"based_on"}}}
	properties := top["properties"].(object)
	field := schemaOf(new(fieldSource).keys(folders{}))
	known := object{}
	for _, f := range account.Fields() {
		known[f.Name] = object{"$ref": "#/$defs/field", "description": "The " + f.Label + " (" + f.Kind.String() + ")."}
	}
	properties["fields"] = object{"type": "object", "minProperties": 1, "properties": known, "additionalProperties": object{"$ref": "#/$defs/field"}, "description": about(keys, "fields")}
	properties["for"] = object{"type": "object", "additionalProperties": object{"$ref": "#"}, "description": about(keys, "for")}
	check := schemaOf(new(Check).keys(nil))
	check["required"] = []string{"that", "say"}
	rule := schemaOf(b.ruleKeys(nil))
	rule["required"] = []string{"when"}
	properties["rules"] = object{"type": "array", "items": rule, "description": about(keys, "rules")}
	properties["checks"] = object{"type": "array", "items": check, "description": about(keys, "checks")}
	notice := schemaOf(b.noticeKeys(&Notice{}, folders{}))
	notice["required"] = []string{"on", "to", "subject", "text"}
	properties["notices"] = object{"type": "object", "additionalProperties": notice, "description": about(keys, "notices")}
	followUp := schemaOf(b.followUpKeys(&FollowUp{}))
	followUp["required"] = []string{"on", "feed"}
	properties["follow_ups"] = object{"type": "object", "additionalProperties": followUp, "description": about(keys, "follow_ups")}
	top["$defs"] = object{"field": field, "memberships": schemaOf(new(Memberships).keys(folders{}))}
	return json.MarshalIndent(top, "", "  ")
}

func about(keys []key, name string) string {
	for _, k := range keys {
		if k.Name == name {
			return k.About
		}
	}
	return ""
}

func schemaOf(keys []key) object {
	one := object{"$ref": "#/$defs/memberships"}
	return yamldoc.Schema(keys, map[yamldoc.Form]object{
		occasion: {"anyOf": []object{{"enum": occasionWords}, {"type": "array", "items": object{"enum": occasionWords}, "minItems": 1}}},
		around:   {"type": "array", "items": object{"type": "object", "required": []string{"feed"}, "properties": object{"feed": object{"type": "string"}, "statement": object{"type": "string"}, "body": object{"type": "object"}}, "additionalProperties": false}},
		wording:  {"anyOf": []object{{"type": "string"}, {"type": "object", "additionalProperties": object{"type": []string{"string", "object"}}}}},
		reowning: {"anyOf": []object{{"type": "string"}, {"type": "array", "items": object{"type": "string"}, "minItems": 1}, yamldoc.Schema(new(Reown).keys(nil), nil)}},
		matching: {"anyOf": []object{{"type": "string"}, {"type": "array", "minItems": 1, "items": object{"anyOf": []object{{"type": "string"}, {"type": "object", "required": []string{"like"}, "additionalProperties": false,
			"properties": object{"like": object{"type": []string{"array", "string"}, "items": object{"type": "string"}}}}}}}}},
		limit:       {"type": []string{"integer", "string"}, "pattern": "^[0-9]+(\\.[0-9]+)?%?$"},
		memberships: {"anyOf": []object{one, {"type": "array", "items": one, "minItems": 1}}},
		unique:      {"anyOf": []object{{"enum": []string{"refuse", "number", "in-unit"}}, {"type": "array", "items": object{"type": "string"}, "minItems": 1}}},
		fallback:    {"type": []string{"string", "number", "boolean", "array"}},
	})
}
