package description

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"evenledger/internal/account"
	"evenledger/internal/yamldoc"
)

// Guess writes a first description out of an OpenAPI 3 document: what was guessed says so in a comment.
func Guess(data []byte) (string, error) {
	d, err := readDocument(data)
	if err != nil {
		return "", err
	}
	top, _ := d.tree.(map[string]any)
	paths, _ := top["paths"].(map[string]any)
	if paths == nil {
		return "", errors.New("it is no OpenAPI document: it has no “paths”")
	}
	g := &guess{document: d, paths: paths, headings: account.NewHeadings(), fielded: map[string]bool{}}
	if g.find(); g.one == "" {
		return "", errors.New("it has no address at which one account is read, such as /users/{id}, beneath one at which all are listed")
	}
	g.write(description(top))
	return g.out.String(), nil
}

func description(top map[string]any) string {
	info, _ := top["info"].(map[string]any)
	if title := Text(info["title"]); title != "" {
		return title
	}
	return "Application"
}

// A guess is a first description while it is made.
type guess struct {
	document
	paths    map[string]any
	all, one string // the addresses of all accounts, and of one
	param    string // in one: what its identifier is called
	headings account.Headings
	fielded  map[string]bool // the fields that were recognised
	out      strings.Builder
}

// people are the words by which accounts are known, the likeliest first.
var people = [...]string{"user", "people", "person", "account", "member", "staff", "employee", "colleague", "hand", "contact"}

// find looks for the addresses of accounts.
func (g *guess) find() {
	best := len(people) + 1
	for _, path := range slices.Sorted(maps.Keys(g.paths)) {
		at := strings.LastIndexByte(path, '/')
		last := path[at+1:]
		if !strings.HasPrefix(last, "{") || g.operation(path, "get") == nil || g.operation(path[:at], "get") == nil || strings.Contains(path[:at], "{") {
			continue
		}
		rank := slices.IndexFunc(people[:], func(word string) bool { return strings.Contains(strings.ToLower(path), word) })
		if rank < 0 {
			rank = len(people)
		}
		if rank < best {
			best, g.all, g.one, g.param = rank, path[:at], path, strings.Trim(last, "{}")
		}
	}
}

func (g *guess) operation(path, method string) map[string]any {
	item, _ := g.paths[path].(map[string]any)
	operation, _ := item[method].(map[string]any)
	return operation
}

// schemaOf is the pointer to what is answered, or sent, in JSON; empty: nobody says.
func (g *guess) schemaOf(path, method string, sent bool) (string, *schema) {
	at := "/paths/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(path) + "/" + method
	if sent {
		at += "/requestBody"
	} else {
		responses, _ := g.operation(path, method)["responses"].(map[string]any)
		for _, status := range slices.Sorted(maps.Keys(responses)) {
			if strings.HasPrefix(status, "2") {
				at += "/responses/" + status
				break
			}
		}
	}
	for _, kind := range []string{"application~1json", "application~1merge-patch+json", "application~1vnd.api+json"} {
		if s, err := g.at(at + "/content/" + kind + "/schema"); err == nil {
			if of, is := strings.CutPrefix(s.Ref, "#"); is {
				return of, g.whole(s, 0)
			}
			return at + "/content/" + kind + "/schema", g.whole(s, 0)
		}
	}
	return "", nil
}

// listIn is where in an answer the list stands, and its elements' schema.
func (g *guess) listIn(s *schema) (at string, of *schema) {
	if s == nil {
		return "", nil
	}
	if s.is("array") {
		return ".", g.whole(s.Items, 0)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		if p := g.whole(s.Properties[name], 0); (Path{name}).isWritable() && p.is("array") && p.Items != nil && g.whole(p.Items, 0).Properties != nil {
			return Path{name}.String(), g.whole(p.Items, 0)
		}
	}
	return "", nil
}

// line writes a line. What comes out of the document, which may be anybody's, is written as one value and breaks no line.
func (g *guess) line(format string, args ...any) { fmt.Fprintf(&g.out, format+"\n", args...) }

// remark is a text in a comment.
func remark(text string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, text)
}

func (g *guess) write(title string) {
	_, listed := g.schemaOf(g.all, "get", false)
	items, of := g.listIn(listed)
	pointer, one := g.schemaOf(g.one, "get", false)
	item := ""
	if one != nil && len(one.Properties) == 1 { // it is wrapped
		for name, p := range one.Properties {
			if inner := g.whole(p, 0); len(inner.Properties) > 1 && (Path{name}).isWritable() {
				item, one = name, inner
				pointer = ""
			}
		}
	}
	if one == nil || len(one.Properties) == 0 {
		one = of
	}
	g.line("# A first description, out of an OpenAPI document. Look at each line: what was guessed says so.")
	g.line("# Try it with: evenledger system try NAME")
	g.line("interface: %s", yamldoc.Scalar(title))
	g.line("account:")
	id := "id"
	if one != nil && one.Properties["id"] == nil && one.Properties[g.param] != nil && (Path{g.param}).isWritable() {
		id = g.param
	}
	g.line("  id: %s    # guessed", yamldoc.Scalar(Path{id}.String()))
	if one != nil {
		for _, name := range []string{"created_at", "createdAt", "created"} {
			if one.Properties[name] != nil {
				g.line("  made: %s    # guessed", name)
				break
			}
		}
	}
	if pointer != "" {
		g.line("  # schema: FILE#%s    # the document that this was made of: what is required, which values there are", remark(pointer))
	}
	g.line("  fields:")
	g.fields(one)
	g.list(items, listed)
	read := ""
	if item != "" {
		read = fmt.Sprintf(", item: %s", yamldoc.Scalar(Path{item}.String()))
	}
	one1 := strings.ReplaceAll(g.one, "{"+g.param+"}", "{id}")
	g.line("read: {get: %s%s}", yamldoc.Scalar(one1), read)
	if g.operation(g.all, "post") != nil {
		g.line("create: {post: %s%s}", yamldoc.Scalar(g.all), read)
	}
	for _, method := range []string{"patch", "put"} {
		if g.operation(g.one, method) == nil {
			continue
		}
		form := map[string]string{"patch": "merge", "put": "whole"}[method]
		g.line("change: {%s: %s, body: %s%s}    # guessed: merge (RFC 7396), patch (RFC 6902) or whole", method, yamldoc.Scalar(one1), form, read)
		break
	}
	if g.operation(g.one, "delete") != nil {
		g.line("remove: {delete: %s}", yamldoc.Scalar(one1))
	}
	g.actions(one1)
}

// fields writes where fields stand, by what headings mean.
func (g *guess) fields(one *schema) {
	var unknown []string
	var walk func(s *schema, path []string)
	walk = func(s *schema, path []string) {
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			at, p := append(slices.Clone(path), name), g.whole(s.Properties[name], 0)
			if len(p.Properties) > 0 && len(at) < 3 {
				walk(p, at)
				continue
			}
			if name == "id" && len(path) == 0 || p.is("array") && p.Items != nil && len(g.whole(p.Items, 0).Properties) > 0 {
				continue
			}
			f, known := account.FieldNamed(name)
			for _, heading := range []string{spoken(name), spoken(strings.Join(append([]string{name}, path...), " ")), spoken(strings.Join(at, " "))} {
				if !known {
					f, known = g.headings.Field(heading)
				}
			}
			field := f.Name
			if !known || g.fielded[field] || !Path(at).isWritable() {
				unknown = append(unknown, Path(at).String())
				continue
			}
			g.fielded[field] = true
			note := ""
			if p.ReadOnly {
				note = "    # it keeps this itself: {at: …, read_only: true}"
			}
			g.line("    %s: %s%s", field, yamldoc.Scalar(Path(at).String()), note)
		}
	}
	if one != nil {
		walk(one, nil)
	}
	if len(g.fielded) == 0 {
		g.fielded["userName"] = true
		g.line("    userName: login    # guessed: nothing of it was recognised")
	}
	if len(unknown) > 0 {
		g.line("    # besides: %s", remark(join(unknown)))
	}
}

// spoken is a name as people write it: startDate as start date.
func spoken(name string) string {
	var b strings.Builder
	for i, r := range name {
		if i > 0 && r >= 'A' && r <= 'Z' {
			b.WriteByte(' ')
		}
		b.WriteRune(r)
	}
	return strings.ReplaceAll(strings.ReplaceAll(b.String(), "_", " "), "-", " ")
}

// list writes how accounts are listed and found, by what the parameters are called.
func (g *guess) list(items string, answer *schema) {
	if items == "" {
		items = "data"
	}
	items = yamldoc.Scalar(items)
	params := map[string]bool{}
	list, _ := g.operation(g.all, "get")["parameters"].([]any)
	for _, p := range list {
		object, _ := p.(map[string]any)
		if ref, is := object["$ref"].(string); is {
			if s, ok := g.of(strings.TrimPrefix(ref, "#")).(map[string]any); ok {
				object = s
			}
		}
		if Text(object["in"]) == "query" {
			params[Text(object["name"])] = true
		}
	}
	next, every := "", ""
	for _, name := range []string{"limit", "per_page", "page_size", "pageSize", "size", "count"} {
		if params[name] {
			every = fmt.Sprintf(", every: {%s: \"100\"}", name)
			break
		}
	}
	for _, way := range [][2]string{{"cursor", "cursor"}, {"after", "cursor"}, {"page_token", "cursor"}, {"pageToken", "cursor"}, {"offset", "offset"}, {"skip", "offset"}, {"start", "offset"}, {"page", "page"}} {
		if !params[way[0]] {
			continue
		}
		if next = fmt.Sprintf(", next: {%s: %s}", way[1], way[0]); way[1] == "cursor" {
			next = fmt.Sprintf(", next: {cursor: %s, as: %s}", yamldoc.Scalar(g.cursorIn(answer)), way[0])
		}
		break
	}
	g.line("list: {get: %s%s, items: %s%s}    # guessed: how further pages are asked for, where the list stands", yamldoc.Scalar(g.all), every, items, next)
	by := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(params)) {
		f, known := g.headings.Field(spoken(name))
		if known && g.fielded[f.Name] && by[f.Name] == "" && slices.Contains([]string{"userName", "email", "employeeNumber"}, f.Name) {
			by[f.Name] = f.Name + ": " + yamldoc.Scalar(name)
		}
	}
	if len(by) > 0 {
		g.line("find: {get: %s, by: {%s}, items: %s}    # guessed; it is believed only once it was seen to find", yamldoc.Scalar(g.all), join(slices.Sorted(maps.Values(by))), items)
	}
}

// cursorIn is where an answer most likely says what asks for the next page.
func (g *guess) cursorIn(answer *schema) string {
	found := "meta.next"
	var walk func(s *schema, path Path)
	walk = func(s *schema, path Path) {
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			at, p := append(slices.Clone(path), name), g.whole(s.Properties[name], 0)
			if len(p.Properties) > 0 && len(at) < 3 {
				walk(p, at)
			} else if p.is("string") && at.isWritable() && (strings.Contains(strings.ToLower(name), "next") || strings.Contains(strings.ToLower(name), "cursor") || name == "after") {
				found = at.String()
			}
		}
	}
	if answer != nil {
		walk(answer, nil)
	}
	return found
}

// actions writes requests beneath one account that are called as suspending and the like mostly are.
func (g *guess) actions(one string) {
	for _, path := range slices.Sorted(maps.Keys(g.paths)) {
		action, beneath := strings.CutPrefix(path, g.one+"/")
		if !beneath || strings.Contains(action, "/") {
			continue
		}
		for key, names := range map[string][]string{"suspend": {"suspend", "disable", "deactivate", "block", "lock", "halt"}, "resume": {"resume", "enable", "activate", "unblock", "unlock", "wake"}, "password": {"password", "secret", "credentials"}} {
			if !slices.Contains(names, strings.ToLower(action)) {
				continue
			}
			for _, method := range []string{"post", "put"} {
				if g.operation(path, method) == nil {
					continue
				}
				body := ""
				if key == "password" {
					body = fmt.Sprintf(", body: {%s: \"{password}\"}", yamldoc.Scalar(action))
				}
				g.line("%s: {%s: %s%s}    # guessed", key, method, yamldoc.Scalar(one+"/"+action), body)
				break
			}
		}
	}
}
