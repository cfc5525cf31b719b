package brief

import (
	"fmt"
	"net/mail"
	"os"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// A Notice is a mail about what was done with an account.
type Notice struct {
	Name    string
	On      []account.Intent // what is done
	When    *Expr            // holds for the row; nil: always
	To      Recipient
	Subject Wording
	Text    Wording
	HTML    Wording // empty: there is no such part
	// Language is the field that says in which language somebody is written to; -1: there is none.
	Language int
	// Password says that the password stands in its text.
	Password bool
}

// A Recipient is whom a notice goes to: one of its fields is set.
type Recipient struct {
	Address string    // always the same
	Made    *Template // an expression in braces
	Field   int       // of the brief: an address, or a person, to whose address it goes; -1: none
}

// A Wording is a text in one language or several. Without languages its key is "".
type Wording map[string]*Template

// In returns the text for a language tag (BCP 47): in just that, else in its main language, else in the
// first by name; nil: there is no text.
func (w Wording) In(language string) *Template {
	primary, _, _ := strings.Cut(language, "-")
	for _, tag := range []string{"", language, primary} {
		for has, t := range w {
			if strings.EqualFold(has, tag) && (tag != "" || has == "") {
				return t
			}
		}
	}
	for _, tag := range w.languages() {
		return w[tag]
	}
	return nil
}

func (w Wording) languages() []string {
	var tags []string
	for tag := range w {
		tags = append(tags, tag)
	}
	slices.Sort(tags)
	return tags
}

// occasions are what a notice may be on, and the intent that is drafted for it.
var occasions = map[string]account.Intent{
	string(account.Created): account.Create, string(account.Updated): account.Update, "suspended": account.Suspend, "resumed": account.Resume, "removed": account.Remove,
}

var occasionWords = []string{string(account.Created), string(account.Updated), "suspended", "resumed", "removed"}

func (b *Brief) readNotices(pairs []yamldoc.Pair, in folders) {
	for _, pair := range pairs {
		b.Notices = append(b.Notices, b.readNotice(pair, in))
	}
}

func (b *Brief) readNotice(pair yamldoc.Pair, in folders) *Notice {
	n := &Notice{Name: pair.Key, To: Recipient{Field: -1}, Language: b.Field("preferredLanguage")}
	keys := b.noticeKeys(n, in)
	pairs := pair.Value.Pairs(yamldoc.Names(keys)...)
	for _, p := range pairs {
		if p.Key == "with_password" { // first: it says what the wordings may hold
			n.Password = p.Value.Bool()
		}
	}
	given := yamldoc.Take(pairs, keys)
	for _, key := range []string{"on", "to", "subject", "text"} {
		if !given.Has(key) {
			pair.At.Fail(fmt.Sprintf("Add “%s”.", key), "the notice %s has no “%s”", n.Name, key)
		}
	}
	if n.Password {
		b.checkPassword(n, pair.At)
	}
	return n
}

// checkPassword sees that a password is there for the mail to hold, and stands in each of its
// wordings.
func (b *Brief) checkPassword(n *Notice, at yamldoc.Node) {
	switch {
	case b.Password.New == "" && b.Password.Known == "":
		at.Fail("Say where passwords come from: “password: {new: generate}”.", "the notice %s is to have the password, and nobody gets one", n.Name)
	case slices.ContainsFunc(n.On, func(on account.Intent) bool {
		return on != account.Create && (b.Password.Known == "" || on != account.Update)
	}):
		at.Fail("Have it go out on what a password is set with.", "the notice %s is to have the password, and is also on what sets none", n.Name)
	}
	for _, t := range n.Text {
		if !t.hasPassword() {
			at.Fail("Write {password} where it is to stand, in each language.", "the text of the notice %s does not have the password in it", n.Name)
		}
	}
}

// readRecipient reads whom a notice goes to: a field, an address, or an expression in braces.
func (b *Brief) readRecipient(n *Notice, node yamldoc.Node) {
	text := node.Text()
	if i := b.Field(text); i >= 0 {
		if kind := b.Fields[i].Kind; kind != account.Email && kind != account.Person {
			node.Fail("Name a field with an address, such as email, or a person, such as manager.", "“%s” is a %s, and no mail can be sent there", text, kind)
		}
		n.To.Field = i
		return
	}
	if strings.Contains(text, "{") {
		n.To.Made = b.template(node, text)
		return
	}
	at, err := mail.ParseAddress(text)
	if err != nil || at.Name != "" {
		node.Fail("Name a field of the brief, such as email, an address, or an expression in braces.", "“%s” is neither a field of the brief nor an address", text)
		return
	}
	n.To.Address = at.Address
}

// passworded reads a text that may hold the password, if that is to stand in the notice.
func (b *Brief) passworded(n *Notice, node yamldoc.Node, in folders) Wording {
	b.mayPassword = n.Password
	defer func() { b.mayPassword = false }()
	return b.wording(node, in)
}

// wording reads a text: itself, file: PATH, or a table of them by language.
func (b *Brief) wording(node yamldoc.Node, in folders) Wording {
	if node.IsText() {
		return Wording{"": b.template(node, node.Text())}
	}
	w := Wording{}
	for _, p := range node.Pairs() {
		if p.Key == "file" {
			w[""] = b.fromFile(p.Value, in)
			continue
		}
		if _, err := codes.NewReader(codes.Unsettled).Read(account.Language, p.Key); err != nil {
			p.At.Fail("Write a language as en or pt-BR, or “file”.", "“%s” is no language", p.Key)
			continue
		}
		if p.Value.IsText() {
			w[p.Key] = b.template(p.Value, p.Value.Text())
			continue
		}
		for _, inner := range p.Value.Pairs("file") {
			w[p.Key] = b.fromFile(inner.Value, in)
		}
	}
	if w[""] != nil && len(w) > 1 {
		node.Fail("Give each file under its language.", "“file” and languages do not go together")
	}
	return w
}

// mostText is how large the text of a notice may be.
const mostText = 256 << 10

func (b *Brief) fromFile(node yamldoc.Node, in folders) *Template {
	path, err := in.file(node.Text())
	if err != nil {
		node.Fail("Put the file beside the brief, or in the workspace.", "%s", err)
		return &Template{}
	}
	// Beside the brief, or from the workspace's folder.
	if _, missing := os.Stat(path); missing != nil && in.root != "" {
		if path, err = (folders{in.root, in.root}).file(node.Text()); err != nil {
			node.Fail("Put the file beside the brief, or in the workspace.", "%s", err)
			return &Template{}
		}
	}
	data, err := os.ReadFile(path)
	if err != nil || len(data) > mostText {
		node.Fail("Look at the spelling; the path is taken from the brief's folder, or the workspace's.", "the text cannot be read: %v", err)
		return &Template{}
	}
	return b.template(node, strings.ReplaceAll(string(data), "\r\n", "\n"))
}

// expressions lists those of the notice.
func (n *Notice) expressions() (all []*Expr) {
	if n.When != nil {
		all = append(all, n.When)
	}
	if n.To.Made != nil {
		all = append(all, n.To.Made.expressions()...)
	}
	for _, w := range []Wording{n.Subject, n.Text, n.HTML} {
		for _, t := range w {
			all = append(all, t.expressions()...)
		}
	}
	return all
}

func (b *Brief) readReportTo(node yamldoc.Node) {
	for _, text := range node.Texts() {
		at, err := mail.ParseAddress(text)
		if err != nil || at.Name != "" {
			node.Fail("Write addresses such as crewing@brindlesound.example.", "“%s” is no address", text)
			continue
		}
		b.ReportTo = append(b.ReportTo, at.Address)
	}
}

// NoticeNamed is a notice of the brief; one that it does not have is a *account.Mistake.
func (b *Brief) NoticeNamed(name string) (*Notice, error) {
	var names []string
	for _, n := range b.Notices {
		if n.Name == name {
			return n, nil
		}
		names = append(names, n.Name)
	}
	no := &account.Mistake{Message: fmt.Sprintf("the brief has no notice “%s”", name), Remedy: "It has " + strings.Join(names, ", ") + "."}
	switch near := words.Nearest(name, names); {
	case len(names) == 0:
		no.Message, no.Remedy = fmt.Sprintf("the brief %s has no notices", b.Name), "Add “notices” to it."
	case near != "":
		no.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	return nil, no
}
