package description

import (
	"net/http"

	"evenledger/internal/account"
	"evenledger/internal/yamldoc"
)

// keys are those of a description.
func (r *reader) keys() []yamldoc.Key {
	i := r.Interface
	return []yamldoc.Key{
		{Name: "interface", Form: yamldoc.Text, About: "What the application is called, for people.", Put: yamldoc.Into(&i.Name, yamldoc.Node.Text)},
		{Name: "account", Nested: []yamldoc.Key{
			{Name: "id", Form: yamldoc.Text, About: "Where its identifier stands, such as id or meta.key. A number is kept as it is written, however large.", Put: r.path(&i.Account.ID)},
			{Name: "made", Form: yamldoc.Text, About: "Where it says when the account was made (RFC 3339). By it, one that came back and was there before is told apart.", Put: r.path(&i.Account.Made)},
			{Name: "version", Form: yamldoc.Text, About: "Where its version stands; etag: in the header of that name. A change is then made to the version that was looked at, or not at all.", Put: func(n yamldoc.Node) {
				if i.Account.ETag = n.Text() == "etag"; !i.Account.ETag {
					r.path(&i.Account.Version)(n)
				}
			}},
			{Name: "password", Form: yamldoc.Text, About: "Where a new account's password goes, if it is made with one.", Put: r.path(&i.Account.Password)},
			{Name: "schema", Form: yamldoc.Text, About: "A JSON Schema of an account, a file or an address, such as openapi.json#/components/schemas/Person: what is required, which values there are, how long they may be.", Put: yamldoc.Into(&i.Account.Schema, yamldoc.Node.Text)},
			{Name: "fields", Form: fieldsForm, About: "Where its fields stand: FIELD: PATH, or FIELD: {at: PATH, …}.", Put: func(n yamldoc.Node) { r.fields = n }},
		}, About: "Where the parts of an account stand in its JSON."},
		{Name: "list", Nested: r.listing(&i.Listing), About: "How all accounts are listed."},
		{Name: "find", Nested: append(r.listing(&r.finding.Listing), r.findKeys()...), About: "How accounts are found by a value. Without it all are listed."},
		{Name: "read", Nested: r.call(&r.read1, nil, "id"), About: "How one account is read."},
		{Name: "create", Nested: append(r.call(&r.create.Call, &r.create.Body, "password"), r.createKeys()...), About: "How an account is made."},
		{Name: "create_together", Nested: append(r.call(&r.together.Call, nil), r.togetherKeys()...), About: "How several accounts are made in one request, each with its own result."},
		{Name: "change", Form: changesForm, About: "How fields are changed: one way, or a list of ways with the fields of each.", Put: func(n yamldoc.Node) { r.changes = n }},
		{Name: "suspend", Nested: r.call(&r.suspend, &r.suspend.Body, "id"), About: "How an account is suspended, where that is no change of a field."},
		{Name: "resume", Nested: r.call(&r.resume, &r.resume.Body, "id"), About: "How it is let in again."},
		{Name: "remove", Nested: r.call(&r.remove, &r.remove.Body, "id"), About: "How it is removed for good."},
		{Name: "password", Nested: r.call(&r.pwd, &r.pwd.Body, "id", "password"), About: "How an account that is there gets another password."},
		{Name: "password_rules", Nested: []yamldoc.Key{
			{Name: "shortest", Form: yamldoc.Whole, About: "Characters that it needs at least.", Put: func(n yamldoc.Node) { i.Rules.Shortest = n.Whole(1, 200) }},
			{Name: "longest", Form: yamldoc.Whole, About: "Characters that it may have.", Put: func(n yamldoc.Node) { i.Rules.Longest = n.Whole(1, 1000) }},
			{Name: "kinds", Form: yamldoc.Whole, About: "How many of small letters, capitals, digits and others.", Put: func(n yamldoc.Node) { i.Rules.Kinds = n.Whole(1, 4) }},
			{Name: "weak", Form: yamldoc.Bool, About: "true: given passwords may be such as can be guessed, for an application that people can sign in to no other way. It is told each time.", Put: yamldoc.Into(&i.Rules.Weak, yamldoc.Node.Bool)},
		}, About: "What the application wants of a password."},
		{Name: "things", Form: thingsForm, About: "What accounts are tied to: groups, courses, licences, roles.", Put: func(n yamldoc.Node) { r.things = n }},
		{Name: "answers", Nested: []yamldoc.Key{
			{Name: "done", Form: yamldoc.Text, About: "What was done, where a status of 200 to 299 does not say it: an expression of status, body and header.", Put: r.test(&i.Answers.Done)},
			{Name: "failed", Form: yamldoc.Text, About: "What was not done, though the status says it was, such as: has(body.error)", Put: r.test(&i.Answers.Failed)},
			{Name: "gone", Form: yamldoc.Text, About: "That the account or thing is not there. Without it: 404 and 410.", Put: r.test(&i.Answers.Gone)},
			{Name: "taken", Form: yamldoc.Text, About: "That another account has a value which must be unique. Without it: 409.", Put: r.test(&i.Answers.Taken)},
			{Name: "changed", Form: yamldoc.Text, About: "That the account is of another version by now. Without it: 412.", Put: r.test(&i.Answers.Changed)},
			{Name: "wait", Form: yamldoc.Text, About: "That there were too many requests. Without it: 429.", Put: r.test(&i.Answers.Wait)},
			{Name: "unclear", Form: yamldoc.Text, About: "That nobody can say whether it was done: it is looked up.", Put: r.test(&i.Answers.Unclear)},
			{Name: "message", Form: yamldoc.Text, About: "Where the reason stands. Without it: where RFC 9457 has it, and other usual places.", Put: r.path(&i.Answers.Message)},
			{Name: "field", Form: yamldoc.Text, About: "Where the field at fault is named, by its path.", Put: r.path(&i.Answers.Field)},
		}, About: "What answers mean, where their status does not say it."},
		{Name: "jobs", Nested: []yamldoc.Key{
			{Name: "located", Form: yamldoc.Bool, About: "true: where to ask is in the header Location.", Put: yamldoc.Into(&r.jobs.Located, yamldoc.Node.Bool)},
			{Name: "at", Form: yamldoc.Text, About: "Instead: where in the answer the address stands.", Put: r.path(&r.jobs.At)},
			{Name: "done", Form: yamldoc.Text, About: "That it is done, such as: body.state == \"done\"", Put: r.test(&r.jobs.Done)},
			{Name: "failed", Form: yamldoc.Text, About: "That it came to nothing.", Put: r.test(&r.jobs.Failed)},
			{Name: "taken", Form: yamldoc.Text, About: "That it came to nothing as another account has a value which must be unique.", Put: r.test(&r.jobs.Taken)},
			{Name: "item", Form: yamldoc.Text, About: "Where what it made stands.", Put: r.path(&r.jobs.Item)},
			{Name: "message", Form: yamldoc.Text, About: "Where the reason stands.", Put: r.path(&r.jobs.Message)},
		}, About: "How something is followed that was taken in (202) and is carried out later."},
	}
}

// call are the keys of a request. Body is where its body goes; nil: others read it. May are the names, besides the account's fields,
// that its templates may use.
func (r *reader) call(c *Call, body *Body, may ...string) []yamldoc.Key {
	var keys []yamldoc.Key
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		keys = append(keys, yamldoc.Key{Name: lower(method), Form: yamldoc.Text, About: "The path of a " + method + ", behind the address in evenledger.yaml.", Put: func(n yamldoc.Node) {
			if c.Method != "" {
				n.Fail("Keep one of them.", "a request has one method, and this has %s and %s", c.Method, method)
			}
			if c.Method = method; n.Text() == "" || n.Text()[0] != '/' {
				n.Fail("Such as /people/{id}.", "a path begins with /")
			}
			r.later = append(r.later, func() { c.Path = r.maker.template(n, may...) })
		}})
	}
	table := func(at *map[string]Template) func(yamldoc.Node) {
		return func(n yamldoc.Node) {
			r.later = append(r.later, func() {
				*at = map[string]Template{}
				for _, pair := range n.Pairs() {
					(*at)[pair.Key] = r.maker.template(pair.Value, may...)
				}
			})
		}
	}
	keys = append(keys,
		yamldoc.Key{Name: "query", Form: yamldoc.Table, About: "Parameters behind the question mark.", Put: table(&c.Query)},
		yamldoc.Key{Name: "headers", Form: yamldoc.Table, About: "Headers of its own.", Put: table(&c.Header)},
		yamldoc.Key{Name: "item", Form: yamldoc.Text, About: "Where in the answer what was asked for stands. Without it: the answer is it.", Put: r.path(&c.Item)},
		yamldoc.Key{Name: "content", Form: yamldoc.Text, About: "The kind of what is sent, where it is not application/json. application/x-www-form-urlencoded: as a form.", Put: yamldoc.Into(&c.Content, yamldoc.Node.Text)},
	)
	if body != nil {
		keys = append(keys, yamldoc.Key{Name: "body", Form: anyForm, About: "What is sent: JSON with expressions in braces; whole: the account as it is to be.", Put: func(n yamldoc.Node) {
			r.later = append(r.later, func() {
				body.Is, body.Whole = true, n.IfText() == "whole"
				if body.form = c.Content == formContent; !body.Whole {
					body.tree = r.maker.tree(n, may)
				}
			})
		}})
	}
	return keys
}

// formContent is the kind of a body that is a form.
const formContent = "application/x-www-form-urlencoded"

func lower(method string) string {
	return map[string]string{http.MethodGet: "get", http.MethodPost: "post", http.MethodPut: "put", http.MethodPatch: "patch", http.MethodDelete: "delete"}[method]
}

// listing are the keys of a request that is answered in pages.
func (r *reader) listing(l *Listing, may ...string) []yamldoc.Key {
	by := func(paging Paging, put func(yamldoc.Node)) func(yamldoc.Node) {
		return func(n yamldoc.Node) {
			if l.By != OnePage {
				n.Fail("Keep one of them.", "the next page is asked for in one way")
			}
			l.By = paging
			put(n)
		}
	}
	as := yamldoc.Into(&l.As, yamldoc.Node.Text)
	return append(r.call(&l.Call, &l.Body, may...), []yamldoc.Key{
		{Name: "every", Form: yamldoc.Table, About: "Parameters of every page, such as its size.", Put: func(n yamldoc.Node) {
			r.later = append(r.later, func() {
				if l.Query == nil {
					l.Query = map[string]Template{}
				}
				for _, pair := range n.Pairs() {
					l.Query[pair.Key] = r.maker.template(pair.Value, may...)
				}
			})
		}},
		{Name: "items", Form: yamldoc.Text, About: "Where in the answer the list stands; a point: the answer is the list.", Put: r.list(&l.Items)},
		{Name: "next", Nested: []yamldoc.Key{
			{Name: "cursor", Form: yamldoc.Text, About: "Where the answer says what asks for the next page; there is none where nothing stands there.", Put: by(ByCursor, r.path(&l.Cursor))},
			{Name: "as", Form: yamldoc.Text, About: "The parameter in which the cursor is sent.", Put: as},
			{Name: "page", Form: yamldoc.Text, About: "Instead: the parameter with the page's number.", Put: by(ByPage, as)},
			{Name: "offset", Form: yamldoc.Text, About: "Instead: the parameter that says how many come before the page.", Put: by(ByOffset, as)},
			{Name: "from", Form: numberForm, About: "The number of the first page (without it: 1), or of the first account (without it: 0).", Put: func(n yamldoc.Node) { l.From = n.Whole(0, 1) + 1 }},
			{Name: "link", Form: yamldoc.Bool, About: "Instead, true: the next page's address is in the header Link (RFC 8288).", Put: by(ByLink, yamldoc.Into(&l.Link, yamldoc.Node.Bool))},
			{Name: "address", Form: yamldoc.Text, About: "Instead: where the answer has the next page's address.", Put: by(ByLink, r.path(&l.Next))},
		}, About: "How the next page is asked for. Without it: there is one page."},
		{Name: "total", Form: yamldoc.Text, About: "Where the answer says how many there are in all.", Put: r.path(&l.Total)},
		{Name: "size", Form: yamldoc.Whole, About: "How many a page has that is not the last.", Put: func(n yamldoc.Node) { l.Size = n.Whole(1, 100_000) }},
	}...)
}

func (r *reader) findKeys() []yamldoc.Key {
	f := &r.finding
	return []yamldoc.Key{
		{Name: "by", Form: yamldoc.Table, About: "By which fields, and in which parameter: {FIELD: PARAMETER}.", Put: yamldoc.Into(&f.Params, yamldoc.Node.Table)},
		{Name: "most", Form: yamldoc.Whole, About: "How many values one request may look for. Without it: one.", Put: func(n yamldoc.Node) { f.Most = n.Whole(1, 1000) }},
		{Name: "join", Form: yamldoc.Text, About: "What stands between several values in the parameter.", Put: yamldoc.Into(&f.Join, yamldoc.Node.Text)},
		{Name: "repeat", Form: yamldoc.Bool, About: "true: the parameter is repeated for several values.", Put: yamldoc.Into(&f.Repeat, yamldoc.Node.Bool)},
	}
}

func (r *reader) createKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "plus", Form: anyForm, About: "With body: whole, what is sent besides the fields.", Put: func(n yamldoc.Node) {
			r.later = append(r.later, func() { r.create.Body.tree = r.maker.tree(n, nil) })
		}},
		{Name: "located", Form: yamldoc.Bool, About: "true: the new account is not in the answer; its address is in the header Location.", Put: yamldoc.Into(&r.create.Located, yamldoc.Node.Bool)},
		{Name: "key", Form: yamldoc.Text, About: "A header, such as Idempotency-Key, by which the application knows a request that is sent once more.", Put: yamldoc.Into(&r.create.Key, yamldoc.Node.Text)},
	}
}

func (r *reader) togetherKeys() []yamldoc.Key {
	t := &r.together
	return []yamldoc.Key{
		{Name: "most", Form: yamldoc.Whole, About: "How many at once.", Put: func(n yamldoc.Node) { t.Most = n.Whole(2, 1000) }},
		{Name: "as", Form: yamldoc.Text, About: "Where their list stands in what is sent. Without it: it is what is sent.", Put: r.path(&t.As)},
		{Name: "results", Form: yamldoc.Text, About: "Where the list of results stands, in the same order; a point: it is the answer.", Put: r.list(&t.Results)},
		{Name: "status", Form: yamldoc.Text, About: "Where a result has its status, as of an answer of its own.", Put: r.path(&t.Status)},
		{Name: "of", Form: yamldoc.Text, About: "Where a result has the account. Without it: it is the account.", Put: r.path(&t.Of)},
	}
}

func (r *reader) changeKeys(c *Change, body *yamldoc.Node) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "fields", Form: yamldoc.Texts, About: "The fields that are changed like this. Without it: all others.", Put: yamldoc.Into(&c.Fields, yamldoc.Node.Texts)},
		{Name: "body", Form: anyForm, About: "merge: what changes (RFC 7396); patch: operations (RFC 6902); whole: the account as it is to be, with all that it has besides; or JSON with expressions in braces.", Put: func(n yamldoc.Node) { *body = n }},
	}
}

func (r *reader) fieldKeys(f *Field, list *yamldoc.Node) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "at", Form: yamldoc.Text, About: "Its path, such as name.first.", Put: r.path(&f.At)},
		{Name: "list", Form: yamldoc.Text, About: "Instead: the path of a list. The field is one element of it (with where and value), all of it (with parts), or a list of texts.", Put: func(n yamldoc.Node) { *list = n; r.path(&f.At)(n) }},
		{Name: "where", Form: yamldoc.Table, About: "The element that has these parts: {kind: mail}.", Put: yamldoc.Into(&f.Where, yamldoc.Node.Table)},
		{Name: "value", Form: yamldoc.Text, About: "Where in an element the value stands.", Put: r.path(&f.Value)},
		{Name: "parts", Form: yamldoc.Texts, About: "The parts of each element, such as [issuer, subject] of sign-in identities.", Put: yamldoc.Into(&f.Parts, yamldoc.Node.Texts)},
		{Name: "kind", OneOf: account.KindNames(), About: "The kind of its values, of a field of the application's own.", Put: func(n yamldoc.Node) { f.Kind, _ = account.ParseKind(n.Text()) }},
		{Name: "words", Form: yamldoc.Table, About: "How values are written: {true: live, false: halted}.", Put: yamldoc.Into(&f.Words, yamldoc.Node.Table)},
		{Name: "as", OneOf: []string{string(AsText), string(AsNumber), string(AsTruth), string(AsTime), string(AsSecond)}, About: "What it is in JSON, where that is not usual for its kind.", Put: yamldoc.Word(&f.As)},
		{Name: "one_of", Form: yamldoc.Texts, About: "The values that the application takes.", Put: yamldoc.Into(&f.OneOf, yamldoc.Node.Texts)},
		{Name: "longest", Form: yamldoc.Whole, About: "At most so many characters.", Put: func(n yamldoc.Node) { f.Longest = n.Whole(1, 100_000) }},
		{Name: "about", Form: yamldoc.Text, About: "What it is, for people.", Put: yamldoc.Into(&f.About, yamldoc.Node.Text)},
		{Name: "required", Form: yamldoc.Bool, About: "true: a new account must have it.", Put: yamldoc.Into(&f.Required, yamldoc.Node.Bool)},
		{Name: "unique", Form: yamldoc.Bool, About: "true: no two accounts share a value. userName always is.", Put: yamldoc.Into(&f.Unique, yamldoc.Node.Bool)},
		{Name: "read_only", Form: yamldoc.Bool, About: "true: the application keeps it itself.", Put: yamldoc.Into(&f.ReadOnly, yamldoc.Node.Bool)},
		{Name: "fixed", Form: yamldoc.Bool, About: "true: it is set once and never changed.", Put: yamldoc.Into(&f.Fixed, yamldoc.Node.Bool)},
		{Name: "exact", Form: yamldoc.Bool, About: "true: capitals make a difference.", Put: yamldoc.Into(&f.Exact, yamldoc.Node.Bool)},
	}
}

// thingKeys are those of a kind of things; calls are joining, leaving, changing, making and removing.
func (r *reader) thingKeys(t *Things, m *Members, on *OnAccount, roles *Roles, listed *Listing, calls [5]*Call) []yamldoc.Key {
	tie := []string{"id", "thing", "account", "role", "section"}
	part := func(about string, at *Path) func(name string) yamldoc.Key {
		return func(name string) yamldoc.Key {
			return yamldoc.Key{Name: name, Form: yamldoc.Text, About: about, Put: r.path(at)}
		}
	}
	return []yamldoc.Key{
		{Name: "list", Nested: r.listing(&t.Listing), About: "How they are listed."},
		{Name: "id", Form: yamldoc.Text, About: "Where a thing's identifier stands.", Put: r.path(&t.ID)},
		{Name: "name", Form: yamldoc.Text, About: "Where its name stands.", Put: r.path(&t.Name)},
		{Name: "seats", Form: yamldoc.Text, About: "Where it says how many may have it.", Put: r.path(&t.Seats)},
		{Name: "sections", Form: yamldoc.Text, About: "Where the list of its sections stands.", Put: r.path(&t.Sections)},
		{Name: "members", Nested: append(r.listing(&m.Listing, "thing"),
			part("Where the account's identifier stands in a member.", &m.Account)("account"),
			part("Where the thing's identifier stands, where all ties of the kind are listed together.", &m.Thing)("thing"),
			part("Where the role stands.", &m.Role)("role"), part("Where the section stands.", &m.Section)("section"),
			part("Where the tie's own identifier stands: {tie} in leave.", &m.Tie)("tie")), About: "How the members of a thing are listed, or all ties."},
		{Name: "on_account", Nested: []yamldoc.Key{
			{Name: "at", Form: yamldoc.Text, About: "The path of the list in an account.", Put: r.path(&on.At)},
			part("Where in an element the thing's identifier stands. Without it: the element is it.", &on.Thing)("thing"),
			part("Where the role stands.", &on.Role)("role"), part("Where the section stands.", &on.Section)("section"),
		}, About: "Instead: where an account lists what it is tied to. Without join and leave, that list is changed."},
		{Name: "join", Nested: r.call(calls[0], &calls[0].Body, tie...), About: "How an account is made a member."},
		{Name: "leave", Nested: r.call(calls[1], &calls[1].Body, append(tie, "tie")...), About: "How it is taken out."},
		{Name: "change", Nested: r.call(calls[2], &calls[2].Body, append(tie, "tie")...), About: "How a member gets another role or section. Without it: it leaves and joins."},
		{Name: "make", Nested: r.call(calls[3], &calls[3].Body, "name"), About: "How a thing is made: {name} is what it is called."},
		{Name: "remove", Nested: r.call(calls[4], &calls[4].Body, "thing"), About: "How a thing is removed for good."},
		{Name: "roles", Nested: []yamldoc.Key{
			{Name: "words", Form: yamldoc.Table, About: "The roles, and how the application writes them: {learner: 5}.", Put: yamldoc.Into(&roles.Words, yamldoc.Node.Table)},
			{Name: "list", Nested: r.listing(listed), About: "Instead: how they are listed."},
			{Name: "id", Form: yamldoc.Text, About: "Where a role's identifier stands.", Put: r.path(&roles.ID)},
			{Name: "name", Form: yamldoc.Text, About: "Where its name stands.", Put: r.path(&roles.Name)},
			{Name: "default", Form: yamldoc.Text, About: "The role of who is given none.", Put: yamldoc.Into(&roles.Default, yamldoc.Node.Text)},
		}, About: "Which roles there are in a thing."},
	}
}
