package workspace

import (
	"encoding/json"
	"maps"
	"time"

	"evenledger/internal/mail"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// keys are those of evenledger.yaml. The sets come last: they name systems.
func (w *Workspace) keys(kinds Kinds, sets *yamldoc.Node) []yamldoc.Key {
	each := func(read func(yamldoc.Pair)) func(yamldoc.Node) {
		return func(n yamldoc.Node) {
			for _, pair := range n.Pairs() {
				read(pair)
			}
		}
	}
	return []yamldoc.Key{
		{Name: "ledger", Form: yamldoc.Text, About: "The file of the ledger. Without it: ledger.db. Or where a ledger is that several share: postgres://HOST/DATABASE, or env:NAME or file:PATH that says where its address is kept.", Put: w.readLedger},
		{Name: "people", About: "Those who share the ledger, each under the name that the machines know them by.", Put: each(func(pair yamldoc.Pair) {
			p := Person{Name: pair.Key}
			pair.Value.Read(p.keys())
			w.People = append(w.People, p)
		})},
		{Name: "identity", Form: yamldoc.Text, About: "Where your own identity is kept: file:PATH or env:NAME. Without it: evenledger/identity in your folder of settings.", Put: yamldoc.Into(&w.Identity, reach.Part{Name: "identity", Dir: w.Dir}.Secret)},
		{Name: "lease", Form: yamldoc.Text, About: "For how long a process that is heard of no more keeps its work before others take it over. Without it: 30s.", Put: func(n yamldoc.Node) {
			if w.Lease = readDuration(n); w.Lease < time.Second || w.Lease > time.Hour {
				n.Fail("Write a time from 1s to 1h.", "“%s” is no lease", n.Text())
			}
		}},
		{Name: "feeds", About: "Where sheets come from, each under a name of its own, for feed:NAME.", Put: each(func(pair yamldoc.Pair) { w.Feeds = append(w.Feeds, w.readFeed(pair, kinds.Feeds)) })},
		{Name: "mail", Nested: mail.Keys(), About: "How mails are sent.", Put: func(n yamldoc.Node) {
			w.Mail = mail.Read(reach.Part{Name: "mail", Dir: w.Dir, At: n}, n)
		}},
		{Name: "systems", About: "The systems whose accounts are kept, each under a name of its own.", Put: each(func(pair yamldoc.Pair) { w.Systems = append(w.Systems, w.readSystem(pair, kinds.Systems)) })},
		{Name: "sets", Form: several, About: "Several systems under one name, so that one sheet makes a batch for each: NAME: [SYSTEM, SYSTEM].", Put: func(n yamldoc.Node) { *sets = n }},
	}
}

// keys are those of every system.
func (s *System) keys(kinds []string) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "kind", OneOf: kinds, About: "What kind of system it is."},
		{Name: "together", Form: yamldoc.Whole, About: "How many requests are on their way at once. Without it: 4.", Put: func(n yamldoc.Node) { s.Together, s.Shared = n.Whole(1, 100), true }},
		{Name: "settle", Form: yamldoc.Text, About: "How long the system may take to show a new account, such as 5s or 2m. Without it: 5s.", Put: yamldoc.Into(&s.Settle, readDuration)},
		{Name: "timeout", Form: yamldoc.Text, About: "How long one request may take. Without it: 30s.", Put: yamldoc.Into(&s.Timeout, readDuration)},
		{Name: "proof", OneOf: []string{"read", "none"}, About: "Whether what a post did is read back and held against what was to be. Without it: read.", Put: func(n yamldoc.Node) { s.Unproven = n.Text() == "none" }},
		{Name: "countersign", Form: yamldoc.Text, About: "When a second person has to sign a batch before it is posted: always, or over 50 (changes).", Put: yamldoc.Into(&s.SignedFrom, yamldoc.Node.From)},
		{Name: "aliases", Form: yamldoc.Table, About: "Short names for the system's own fields.", Put: yamldoc.Into(&s.Aliases, yamldoc.Node.Table)},
		{Name: "elevated", Form: patterns, About: "For a kind of things, such as groups: the patterns of names that give rights over others.", Put: func(n yamldoc.Node) {
			s.Elevated = map[string][]string{}
			for _, kind := range n.Pairs() {
				s.Elevated[kind.Key] = kind.Value.Texts()
			}
		}},
		{Name: "protect", Form: yamldoc.Texts, About: "User names, addresses or ids of accounts that no batch may change; a star stands for anything.", Put: yamldoc.Into(&s.Protect, yamldoc.Node.Patterns)},
		{Name: "change_at_sign_in", Form: yamldoc.Text, About: "The field that has a person choose another password at the next sign-in.", Put: yamldoc.Into(&s.Renew, yamldoc.Node.Text)},
		{Name: "password_rules", Nested: ruleKeys(&s.Passwords), About: "What the system demands of a password.", Put: func(n yamldoc.Node) {
			if n.Read(ruleKeys(&s.Passwords)); s.Passwords.Longest > 0 && s.Passwords.Shortest > s.Passwords.Longest {
				n.Fail("Make “shortest” the smaller one.", "no password can have at least %d characters and at most %d", s.Passwords.Shortest, s.Passwords.Longest)
			}
		}},
	}
}

// keys are those of every feed.
func (f *Feed) keys(kinds []string) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "kind", OneOf: kinds, About: "What kind of feed it is."},
		{Name: "timeout", Form: yamldoc.Text, About: "How long a server may take to answer, and nothing may come; all of it may take sixty times as long. Without it: 1m.", Put: yamldoc.Into(&f.Timeout, readDuration)},
		{Name: "most", Form: yamldoc.Text, About: "How much it may bring, packed or unpacked, such as 500MB. Without it: 4GB.", Put: yamldoc.Into(&f.Most, yamldoc.Node.Size)},
	}
}

func (p *Person) keys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "opens", Form: yamldoc.Text, About: "The person's public key that opens passwords (age1…), as “evenledger identity” prints it.", Put: func(n yamldoc.Node) {
			if p.Opens = n.Text(); !secret.IsOpeningKey(p.Opens) {
				n.Fail("“evenledger identity” prints it; it begins with age1.", "“%s” is no public key that opens passwords", p.Opens)
			}
		}},
		{Name: "signs", Form: yamldoc.Text, About: "The person's public key that countersigns (ed25519:…), as “evenledger identity” prints it.", Put: func(n yamldoc.Node) {
			if p.Signs = n.Text(); !secret.IsSigningKey(p.Signs) {
				n.Fail("“evenledger identity” prints it; it begins with ed25519:.", "“%s” is no public key that signs", p.Signs)
			}
		}},
	}
}

func ruleKeys(rules *secret.Rules) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "shortest", Form: yamldoc.Whole, About: "The fewest characters.", Put: func(n yamldoc.Node) { rules.Shortest = n.Whole(1, 1000) }},
		{Name: "longest", Form: yamldoc.Whole, About: "The most characters.", Put: func(n yamldoc.Node) { rules.Longest = n.Whole(8, 100000) }},
		{Name: "kinds", Form: yamldoc.Whole, About: "How many of the four kinds (small letters, capitals, digits, signs) it must have.", Put: func(n yamldoc.Node) { rules.Kinds = n.Whole(1, 4) }},
		{Name: "weak", OneOf: []string{"refuse", "tell"}, About: "What is done with one that can be guessed. Without it: refuse.", Put: func(n yamldoc.Node) { rules.Weak = n.Text() == "tell" }},
	}
}

// patterns is the form of “elevated”: texts for each key.
const patterns yamldoc.Form = "patterns"

// several is the form of “sets”.
const several yamldoc.Form = "several"

// Schema returns the JSON Schema (draft 2020-12) of evenledger.yaml, for editors: what a
// system takes follows from its kind.
func Schema(kinds Kinds) ([]byte, error) {
	texts := yamldoc.Object{"type": []string{"array", "string"}, "items": yamldoc.Object{"type": "string"}, "minItems": 1}
	own := map[yamldoc.Form]yamldoc.Object{patterns: {"type": "object", "additionalProperties": texts}}
	var of []yamldoc.Object
	for i, k := range kinds.Systems {
		forms := maps.Clone(own)
		maps.Copy(forms, k.Forms)
		keys, _ := k.Settings(reach.Part{})
		one := yamldoc.Schema(append(new(System).keys([]string{k.Name}), keys...), forms)
		if i > 0 { // the first is meant where none is named
			one["required"] = []string{"kind"}
		}
		of = append(of, one)
	}
	top := yamldoc.Schema(new(Workspace).keys(kinds, nil), map[yamldoc.Form]yamldoc.Object{several: {"type": "object", "additionalProperties": texts}})
	top["$schema"], top["title"] = "https://json-schema.org/draft/2020-12/schema", "A workspace of Even Ledger"
	people := top["properties"].(yamldoc.Object)["people"].(yamldoc.Object)
	people["type"], people["additionalProperties"] = "object", yamldoc.Schema(new(Person).keys(), nil)
	systems := top["properties"].(yamldoc.Object)["systems"].(yamldoc.Object)
	systems["type"], systems["additionalProperties"] = "object", yamldoc.Object{"anyOf": of}
	var from []yamldoc.Object
	for _, k := range kinds.Feeds {
		keys, _ := k.Settings(reach.Part{})
		one := yamldoc.Schema(append(new(Feed).keys([]string{k.Name}), keys...), k.Forms)
		one["required"] = []string{"kind"}
		from = append(from, one)
	}
	feeds := top["properties"].(yamldoc.Object)["feeds"].(yamldoc.Object)
	feeds["type"], feeds["additionalProperties"] = "object", yamldoc.Object{"anyOf": from}
	return json.MarshalIndent(top, "", "  ")
}
