package account

import (
	"cmp"
	"slices"
)

// A Level says how grave a finding is.
type Level string

// The levels. A row with an error is refused; warnings and notes let it pass.
const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// A Finding is something to tell about a row, or about the whole sheet when Row
// is 0.
type Finding struct {
	Row     int    `json:"row"`              // as the person's spreadsheet numbers it; 0: the whole sheet
	Column  string `json:"column,omitempty"` // the heading, as written
	Field   string `json:"field,omitempty"`  // the account's field
	Level   Level  `json:"level"`
	Code    Code   `json:"code"`           // one of Codes
	Message string `json:"message"`        // what is wrong, with the value at fault
	Remedy  string `json:"remedy"`         // what to do about it
	Step    string `json:"step,omitempty"` // which of the entry's steps it is about, by its key; empty: the account
}

// A Code is what a finding is about, in a short phrase that stays the same.
type Code string

// An Explanation says what a code means.
type Explanation struct {
	Code    Code   `json:"code"`
	Meaning string `json:"meaning"`
	Remedy  string `json:"remedy"`
}

// codes is read only, sorted by Code.
var codes = [...]Explanation{
	{AccountGone, "The account that the draft found is no longer in the system.", "Make a new draft of the row: it may have to be created, or left out."},
	{AmbiguousDate, "The day and the month of a date can be told apart in two ways.", "Write the date as year-month-day, such as 2027-03-04, or put “dates: day-first” or “dates: month-first” into the brief."},
	{AnotherList, "Another list seems to stand below the first: other headings, or cells of other kinds than those above.", "If the list ends above it, say so in the brief: “sheet: {ends: blank}” for the first blank row, or the number of its last row. If every row is one of the list: “sheet: {ends: never}”. Two lists of people belong into two sheets."},
	{BecameADate, "A spreadsheet program made a date of what should be a text, such as a code like 3-4.", "Type the cell anew as text: with an apostrophe before it, or in a column formatted as text."},
	{BlankRequired, "A field that must be there has no value in this row.", "Fill the cell in, or give the field a “fallback” in the brief."},
	{BothWays, "A row asks for two different things with the same group, course or licence.", "Decide which is meant, and take the other out."},
	{BriefCheck, "One of the brief's own checks does not hold for this row.", "Correct the row, or the check in the brief."},
	{BrokenText, "A cell holds bytes that are no text in the sheet's encoding, or characters that cannot be seen.", "Type the cell anew. If many rows have it, save the sheet as CSV UTF-8."},
	{CannotBeRemoved, "The row asks to remove its account, and the system removes none.", "Suspend it instead."},
	{CannotBeUndone, "Something cannot be put back as it was.", "Look at what the message says, and put it right by hand."},
	{CannotBeWritten, "The application's file cannot hold what the row asks for.", "Correct the row as the message says; if the application takes it after all, correct the layout."},
	{CannotSetPassword, "The row gives an account that is there another password, and the system sets none.", "Take “known” out of “password” in the brief, and have the person set another where the system lets them."},
	{ChangedSince, "What the batch did was changed by somebody since, and is left as it is.", "Look whether that is right."},
	{Closed, "The course is closed, so that nobody can be enrolled in it.", "Ask who runs the course to open it, or take it out of the row."},
	{DatesSettled, "Nothing says whether dates such as 3/4/2027 have the day or the month first, and other dates of the column settle it.", "Nothing needs to be done if that is right. Else put “dates: day-first” or “dates: month-first” into the brief."},
	{DifferentPerson, "One key of the row finds an account whose other key says it is somebody else's.", "Find out which of the two keys is wrong; if both are right, change the one that must be unique."},
	{DoesNotFit, "Something about an account does not fit together in the system, which no field of the row would put right.", "Put it right as the message says, then look again."},
	{DoubtedEncoding, "Nothing says in which encoding a text file is, and its words fit two about as well, so that names may be written otherwise.", "Say the encoding: --encoding, or “sheet: {encoding: …}” in the brief. Best is to save the sheet as CSV UTF-8."},
	{ElevatedRight, "A role or group gives rights over others.", "If that is meant, draft with --allow-elevated; else take it out of the row."},
	{ErrorCell, "A cell holds an error of the spreadsheet program, such as #N/A.", "Correct the formula in the cell, or type the value."},
	{ExistsAlready, "The row's account exists already, and the policy is to set such rows aside.", "Nothing needs to be done, unless the account should be updated: change “known” in the brief."},
	{ExpressionFailed, "An expression of the brief could not be worked out for this row.", "Look at the cells it uses in this row; make the expression cope with blank ones."},
	{FollowUpFailed, "Something that is done elsewhere about the account was refused there, or nobody can say whether it was done.", "Put right what was refused there; “evenledger post BATCH --again” does it once more, and nothing else."},
	{FormerName, "Something still refers to an account by a name that it had, and could not be put right.", "Take the name out there by hand, before somebody else is called so."},
	{GarbledText, "Letters look as they do when a sheet was opened or saved in the wrong encoding, such as Ã¼ for ü.", "Open the original with encoding UTF-8 and save it again; correct the cell."},
	{GivenUp, "A person gave up a row that waited: nobody could find out what became of its request, or what it waited for did not come. Nothing more of it is done or looked for.", "Look in the system what is there, then hand the row back in: “evenledger fixes BATCH -o again.csv”."},
	{GuessedEncoding, "Nothing says in which encoding a text file is, so it was guessed; letters beyond a to z may be wrong.", "Look at the words that the message names. If they are wrong, say the encoding: --encoding, or “sheet: {encoding: …}” in the brief. Best is to save the sheet as CSV UTF-8."},
	{HandedOverBefore, "An earlier batch handed something over about the same account, and it is not known yet what became of it.", "Settle that batch by a newer export of the application, then draft the row again."},
	{HiddenColumn, "A column that is used is hidden in the spreadsheet program.", "Nothing needs to be done if the column is meant. Else take it out."},
	{HiddenRow, "The row is hidden in the spreadsheet program, by hand or by a filter, and is read like the others.", "Take the row out if it is not meant."},
	{ImmutableField, "The system does not let this field be changed once the account exists.", "Leave the field as it is in the system, or take it out of the brief."},
	{KeptElsewhere, "The account, or what is to be changed of it, is kept by another system, which this one asks.", "Change it there, or as the message says."},
	{KeyNobodyHas, "All accounts were listed, and nobody has a value in a field by which the brief finds accounts: every row seems to be somebody new's.", "If it is the first time that the field is filled, nothing. Else look at “match” in the brief, and whether the field stands where it is looked for: “evenledger fields”."},
	{KnownRefused, "The row finds an account that exists, and the policy is to refuse that; or the row itself says that its account is new.", "Take the row out, correct the key, or say in the brief what is done with those who are there: known: update."},
	{LostDigits, "A number is so long that the spreadsheet program kept only its first digits, or wrote it with an exponent.", "Type the cell anew as text, from where the number came from."},
	{LostReference, "The account was called otherwise, and a group that it was in, or somebody who referred to it, has it neither by the old name nor by the new.", "Look whether somebody took it out meanwhile. Else put it back, and ask who runs the server what it does to what refers to accounts."},
	{LostZeros, "No account has the row's key, and one has it with zeros before it, or without them: a spreadsheet program took them away, or put them there.", "Correct the cell. If it is so in every row, say in the brief how many digits there are: “digits: 5” at the field."},
	{MadeAnew, "Undoing a removal makes the account anew: with the fields and memberships that were kept, and with another identifier.", "Give the person a password, and look whether others should refer to the account again who do so by its identifier."},
	{MaySignIn, "The account was not to sign in, and may: it was suspended, and once more when it was found open, and is open all the same.", "Shut it out in the system itself, now, and ask who runs it why it does not last (a password policy, a rule that opens accounts)."},
	{MergedCell, "A cell is part of a larger one that begins elsewhere, and is read as blank.", "Unmerge the cells, and fill each of them in."},
	{MergedHeading, "A heading stretches over several columns, so that those to its right have none and are not used.", "Give each column a heading of its own."},
	{MixedDates, "A date has day and month the other way round than other dates of its column.", "Write all dates as year-month-day, such as 2027-03-04."},
	{NearlyTheName, "A thing would be made that is called nearly as one there is.", "Correct the cell, if the other is meant."},
	{NewRefused, "The row finds no account, and the policy is to refuse that.", "Correct the key that should find the account, or change “new” in the brief."},
	{NoAccount, "The row asks for something to be done with an account that was not found.", "Correct the key that should find the account, or what the row asks for."},
	{NoFreeValue, "Each value that could be made for a field that must be unique is taken.", "Add “number” to the field's “unique” list, or another formula."},
	{NoHeading, "A filled cell stands in a column that has no heading, so it is not used.", "Give the column a heading, or take the cell out."},
	{NoKey, "None of the fields that find an account has a value in this row.", "Fill in one of the fields under “match” in the brief."},
	{NoPersonsRow, "The row is none of the table's: headings that come again, a total, a remark of the page.", "Take the row out. If it is somebody's, fill in the other cells."},
	{NoSeatLeft, "All seats of a licence are taken, by others or by rows further up.", "Get more seats, give some back, or take it out of the row."},
	{NotACountry, "A value is no country of ISO 3166-1, nor the name of one.", "Write the two-letter code or the country's name."},
	{NotADate, "A value cannot be read as a date.", "Write the date as year-month-day, such as 2027-03-04."},
	{NotALanguage, "A value is no BCP 47 language tag, nor the name of a language.", "Write the tag, such as pt or en-GB, or the language's name."},
	{NotANumber, "A value is not a number.", "Write digits, with a point before decimals."},
	{NotAPhone, "A value is no telephone number.", "Write digits, beginning with + and the country's code."},
	{NotARoleThere, "A course does not have this role.", "Use one of the roles the message lists."},
	{NotATimezone, "A value is no time zone of the IANA database.", "Write its name, such as Europe/Lisbon."},
	{NotAllowedValue, "The system, or the brief, takes only certain values for this field.", "Correct the value; where the message lists some, use one of those."},
	{NotAnEmail, "A value is not an email address.", "Write one address such as ana.reyes@brindlesound.example, without name or brackets."},
	{NotCalculated, "A cell holds a formula whose value was not stored.", "Open the sheet in a spreadsheet program, let it calculate, and save it again."},
	{NotClearYet, "A request was sent and no clear answer came, and the system doesn't show yet what became of it.", "Run “post” again: it looks before it sends anything. If the system shows changes late, set a longer “settle” in evenledger.yaml. If it stays so, look there, and give the row up: “evenledger post BATCH --give-up --row ROW”."},
	{NotCompared, "The system does not show a field, so that of an account that is there nobody can say whether it is as the row has it.", "Have the application's export show the field; until then change it there."},
	{NotKept, "The system accepted the request but kept another value, or none.", "Ask who runs the system whether the field is taken; the account was made with what the message says."},
	{NotPaired, "No key of the row finds an account, and the brief leaves it to a person to say whom it means.", "Write the rows with who they may mean by “candidates”, answer in the sheet, and draft again with --pairs."},
	{NotProven, "The system answered that something was done, and when it was read back it was otherwise. The row is counted by what is there.", "Look at the account in the system, then hand the row back in: “evenledger fixes BATCH -o again.csv”. If it is the same again, ask who runs the system whether it takes the value."},
	{NotSeenYet, "An earlier batch made this account a short while ago, and the system doesn't show it yet.", "Wait until the system shows it, then draft again. If it was removed there by hand, or the system is a new one, draft again a quarter of an hour after the batch."},
	{NotSelected, "The selection of rows leaves the row out.", "Nothing needs to be done."},
	{NotSignInName, "A sign-in name holds white space or characters that cannot be typed.", "Use letters, digits, points, hyphens and underscores."},
	{NotThere, "The row's account does not exist, and the policy is to set such rows aside.", "Nothing needs to be done, unless the account should be made: change “new” in the brief."},
	{NotWanted, "The brief, or the row itself, sets the row aside.", "Nothing needs to be done, unless the row is meant: correct the cell, or “only” in the brief."},
	{NotYesOrNo, "A value is neither yes nor no.", "Write yes or no."},
	{NothingToSend, "The row is to create an account but gives it no value.", "Fill in the row, or take it out."},
	{NoticeLeftOut, "A held mail was left out when the others were sent, as it would say what is not so any more: the account is gone or suspended or has another address, or a later batch has written to it.", "Look at the account. Once it is as the batch left it, “evenledger notices BATCH --send” sends the mail; else write to the person yourself, or draft a batch that has the mail."},
	{NoticeNotSent, "A mail that goes with an entry was refused, or nobody can say whether it was sent.", "Look at the address; “evenledger notices BATCH --send --again” sends it once more."},
	{NoticeNotWritten, "A mail that the brief has for the row could not be written, or has nobody to go to.", "Correct the row or the notice in the brief, and draft again; the account itself is not held up."},
	{NumbersMixed, "Files cannot be re-owned for sure, as a number is somebody's old one and another's as well.", "Give new numbers of a range that nobody has had, or renumber in two batches."},
	{OddWhiteSpace, "White space, no-break spaces or characters without width stood around or in a value and were taken away.", "Nothing needs to be done; the value is used without them."},
	{OneValueOnly, "The brief makes a list of a field that holds one value in the system.", "Take “split” or the star out of the field, or use a field that holds several values."},
	{OtherTab, "Another tab of the workbook has rows of people as well, and only one tab is read.", "Name the tab that is meant: --tab, or “sheet: {tab: …}” in the brief. If both are, and have the same headings: “sheet: {tabs: all}”."},
	{OutsideWithin, "A row names a thing that is not within the pattern the brief keeps exact.", "Correct the name, or widen “within” in the brief."},
	{PartlyDone, "The system made a part of the row's changes, and refused the others or gave no answer.", "The message says what was done. Correct what was refused, and hand the row back in."},
	{PasswordLike, "A cell or column looks like passwords and no field claims it, so it is neither kept nor shown.", "Take it out of the sheet. If new accounts are to have these passwords, name the column: “password: {new: given, from: …}”."},
	{PasswordNotKnown, "An account was there already when a batch went on, so that nobody can tell which password it has.", "Set another password for it in the system."},
	{PasswordRemade, "The system refused a password that was made for the account, and another was made.", "Nothing needs to be done. If it comes often, say what the system wants: “password_rules” in evenledger.yaml."},
	{PerhapsListed, "An account is in no row, but a row that nobody can tell whose it is may be its.", "Correct the row that the message names, and draft again."},
	{PerhapsMade, "An account is there, or may be, and nobody can tell whether a batch made it or somebody else.", "Look at the account. If it is the row's, hand the row back in; if the batch that the message names is not posted to its end, post that first."},
	{Placeholder, "A cell says that nothing is known, such as N/A or a hyphen, and would be taken for a value.", "Leave the cell blank, or list what stands for a blank in the brief: “sheet: {blank_words: [N/A]}”. If it is truly the value, write it in quotes."},
	{ProtectedAccount, "The account is protected against changes by sheets.", "Take the row out, or take the account out of “protect”."},
	{ProtectsNobody, "A name or pattern of accounts to be protected fits no account.", "Correct it under “protect”, in the brief or in evenledger.yaml, or take it out."},
	{RaggedRow, "The row has more filled cells than there are headings.", "Look for a separator inside a value that isn't in quotes."},
	{ReadOnlyField, "The system keeps this field itself and does not take it.", "Take the field out of the brief."},
	{ReferenceCircle, "People stand above each other in a circle.", "Nothing needs to be done if that is so. Else correct one of the rows."},
	{RefersToItself, "A person is named as their own manager.", "Nothing needs to be done if that is meant."},
	{RemovalDue, "The account was suspended so long ago that the brief has it removed, or would have.", "If it is to stay, resume it, or list it again."},
	{RemovesData, "An account is to be removed, with all that is in it.", "Make sure that nothing in it is needed. Suspending keeps everything."},
	{RemovingNotAllowed, "The row asks to remove its account, and the brief does not allow that.", "Suspend it instead, or add “allow_remove: true” to the brief."},
	{RoleAlone, "A role or section stands beside a blank cell.", "Fill the cell in, or take the role out."},
	{SaidOtherwise, "The application's list says of a row what its export does not show.", "What the export shows counts. Look in the application whether that is so."},
	{SameAccount, "Two rows of the sheet come to the same account.", "Keep one of the rows, or correct the key of the other."},
	{SameHeading, "Two columns have the same heading.", "Rename one of them, or take it out."},
	{SameKey, "An object of a JSON file gives one key two different values.", "Ask for the file anew: only one of the values can be right."},
	{SameMembership, "Two rows speak of the same membership of the same account.", "Keep one of them."},
	{SameValue, "Two rows of the sheet have the same value in a field where each needs its own.", "Correct one of the rows."},
	{ShortRow, "The row ends before the last heading.", "The missing cells count as blank. Look whether a line was broken in two."},
	{Stale, "The account changed in the system after the draft was made.", "Make a new draft of the row and look at it again."},
	{StaysBehind, "An account goes, and something of it stays, with its number.", "Archive it or give it to somebody else; “homes: {remove: true}” in evenledger.yaml has home folders go with their accounts."},
	{SwappedDate, "A program that takes the month first seems to have made the date, so that its day and month are swapped.", "Type the dates of the column anew from where they came, as year-month-day."},
	{SystemRefused, "The system did not accept the request for this row.", "The message has the system's own words."},
	{TakenIn, "The system took the request in and carries it out later: the row is handed over, and is not sent again.", "Run “post” again later: it asks what became of it, and does what follows. If it stays so, ask who runs the system, and give the row up: “evenledger post BATCH --give-up --row ROW”."},
	{TakenValue, "A value that must be unique already belongs to another account of the system.", "Correct the value, or find out who has it."},
	{ThingGone, "A group, course or licence was removed from the system after the draft.", "Make a new draft of the row."},
	{TooLong, "A cell is longer than any field of an account can be.", "Look for a quote that was opened and not closed above or in this row."},
	{TooLongThere, "The value is longer than the system takes for this field.", "Write it shorter."},
	{TwoAccounts, "The row's key finds more than one account in the system.", "Settle in the system which of the accounts is the right one, or use a key that is unique."},
	{TwoOfThatName, "Two things of the system have the name that the row uses.", "Use the id of the one that is meant; “lookup” tells it."},
	{TwoThings, "One key of the row finds one account and another key a different one.", "Find out which account the row means and correct the other key."},
	{Unclear, "A request was sent and no clear answer came, and what became of it could not be found out.", "Look the account up in the system, then run “post” again: it looks before it sends anything."},
	{UnknownColumn, "The brief names a column that the sheet does not have.", "Correct the heading in the sheet or in the brief."},
	{UnknownCourse, "The system has no such course.", "Correct the name, look it up with “lookup”, or add “make_missing: true” to the brief."},
	{UnknownField, "The system has no such field.", "Correct the field's name in the brief, or mark it “send: false” if only expressions use it."},
	{UnknownGroup, "The system has no such group.", "Correct the name, look it up with “lookup”, or add “make_missing: true” to the brief."},
	{UnknownHeading, "A column's heading says nothing to the brief or, without one, to the program, so the column is not used.", "Nothing needs to be done if the column is not meant for the system. Else name it in the brief."},
	{UnknownLicence, "The system has no such licence.", "Correct the name, or look it up with “lookup”."},
	{UnknownPerson, "A row refers to somebody who has no account and gets none.", "Correct the key, or add a row for that person."},
	{UnknownRole, "The system has no such role, or none in things of this kind.", "Correct the name, or look it up with “lookup”."},
	{UnknownSection, "A course does not have this section, or has none.", "Use one of the sections the message lists."},
	{UnknownThing, "The system has no such thing, or none of its kind.", "Correct the name, or look with “lookup” what there is."},
	{Unwrapped, "Quotes or an apostrophe that kept a spreadsheet program from changing a cell were taken off.", "Nothing needs to be done."},
	{ViaUnlisted, "A value is not in the brief's “via” table of its field.", "Add the value to the table, or correct the cell."},
	{WeakPassword, "A password can be guessed, or breaks a rule of the system.", "Give a longer one that holds no name, number or common word."},
}

// Codes lists every code with its meaning, sorted. The slice must not be changed.
func Codes() []Explanation { return codes[:] }

// Explain returns what a code means.
func Explain(code Code) (Explanation, bool) {
	i, ok := slices.BinarySearchFunc(codes[:], code, func(c Explanation, s Code) int { return cmp.Compare(c.Code, s) })
	if !ok {
		return Explanation{}, false
	}
	return codes[i], true
}

// Find makes a finding of the given code with the code's own remedy, which the
// caller may make more particular.
func Find(level Level, code Code, message string) Finding {
	explained, _ := Explain(code)
	return Finding{Level: level, Code: code, Message: message, Remedy: explained.Remedy}
}

// HasError reports whether any of the findings refuses its row.
func HasError(findings []Finding) bool {
	return slices.ContainsFunc(findings, func(f Finding) bool { return f.Level == Error })
}
