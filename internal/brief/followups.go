package brief

import (
	"slices"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/yamldoc"
)

// A FollowUp is something done elsewhere about what was done with an account: a statement in a
// database, or a call of a web address, both of which are feeds of evenledger.yaml.
type FollowUp struct {
	Name      string
	On        []account.Intent
	When      *Expr // holds for the row; nil: always
	Feed      string
	Statement string               // with parameters such as :userName, which are fields of the brief, and :id; empty: it is a call
	Body      map[string]*Template // of a call: what it sends, by name

	// Parameters are those of the statement that are fields of the brief, set by whoever sees
	// what the statement is for.
	Parameters []string
}

func (b *Brief) readFollowUps(pairs []yamldoc.Pair) {
	for _, pair := range pairs {
		f := &FollowUp{Name: pair.Key}
		given := pair.Value.Read(b.followUpKeys(f))
		for _, key := range []string{"on", "feed"} {
			if !given.Has(key) {
				pair.At.Fail("Add “"+key+"”.", "the follow-up %s has no “%s”", f.Name, key)
			}
		}
		if given.Has("statement") == given.Has("body") {
			pair.At.Fail("Give “statement” for a database, or “body” for a web address.", "the follow-up %s says not what is done, or says it twice", f.Name)
		}
		b.FollowUps = append(b.FollowUps, f)
	}
}

// readBody reads what a call sends; later is what only the post knows.
func (b *Brief) readBody(node yamldoc.Node, later string, see func(yamldoc.Node, *Template)) map[string]*Template {
	b.later = later
	defer func() { b.later = "" }()
	body := map[string]*Template{}
	for _, part := range node.Pairs() {
		body[part.Key] = b.template(part.Value, part.Value.Text())
		see(part.Value, body[part.Key])
	}
	return body
}

// aroundKeys are those of what is done about a batch as a whole.
func (b *Brief) aroundKeys(f *FollowUp) []key {
	return []key{
		{Name: "feed", Put: yamldoc.Into(&f.Feed, yamldoc.Node.Text)},
		{Name: "statement", Put: yamldoc.Into(&f.Statement, yamldoc.Node.Text)},
		{Name: "body", Put: func(n yamldoc.Node) {
			f.Body = b.readBody(n, "batch", func(at yamldoc.Node, t *Template) {
				if slices.ContainsFunc(t.expressions(), func(e *Expr) bool { return len(e.Names)+len(e.Columns) > 0 }) {
					at.Fail("Leave fields and columns out: there is no row.", "what is done about a batch as a whole cannot use fields of a row")
				}
			})
		}},
	}
}

// readAround reads what is done elsewhere before or after a batch as a whole.
func (b *Brief) readAround(node yamldoc.Node) (all []*FollowUp) {
	for n, item := range node.Items() {
		f := &FollowUp{Name: strconv.Itoa(n + 1)}
		item.Read(b.aroundKeys(f))
		if f.Feed == "" || (f.Statement == "") == (f.Body == nil) {
			item.Fail("Write {feed: …, statement: …}, or {feed: …, body: {…}}.", "this does not say what is done where")
		}
		all = append(all, f)
	}
	return all
}

func readOccasions(node yamldoc.Node) (on []account.Intent) {
	for _, item := range node.Items() {
		on = append(on, occasions[item.OneOf(occasionWords...)])
	}
	return on
}

// expressions lists those of the follow-up.
func (f *FollowUp) expressions() (all []*Expr) {
	if f.When != nil {
		all = append(all, f.When)
	}
	for _, t := range f.Body {
		all = append(all, t.expressions()...)
	}
	return all
}
