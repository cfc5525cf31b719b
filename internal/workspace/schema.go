package workspace

import (
	"encoding/json"
	"maps"

	"evenledger/internal/feed"
	"evenledger/internal/mail"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// systemKeys are the keys of every system.
func systemKeys(kinds []system.Kind) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "kind", OneOf: kindNames(kinds), About: "What kind of system it is."},
		{Name: "together", Form: yamldoc.Whole, About: "How many requests are on their way at once. Without it: 4."},
		{Name: "settle", Form: yamldoc.Text, About: "How long the system may take to show a new account, such as 5s or 2m. Without it: 5s."},
		{Name: "timeout", Form: yamldoc.Text, About: "How long one request may take. Without it: 30s."},
		{Name: "proof", OneOf: []string{"read", "none"}, About: "Whether what a post did is read back and held against what was to be. Without it: read."},
		{Name: "countersign", Form: yamldoc.Text, About: "When a second person has to sign a batch before it is posted: always, or over 50 (changes)."},
		{Name: "aliases", Form: yamldoc.Table, About: "Short names for the system's own fields."},
		{Name: "elevated", Form: patterns, About: "For a kind of things, such as groups: the patterns of names that give rights over others."},
		{Name: "protect", Form: yamldoc.Texts, About: "User names, addresses or ids of accounts that no batch may change; a star stands for anything."},
		{Name: "change_at_sign_in", Form: yamldoc.Text, About: "The field that has a person choose another password at the next sign-in."},
		{Name: "password_rules", Nested: ruleKeys(), About: "What the system demands of a password."},
	}
}

// feedKeys are the keys of every feed.
func feedKeys(kinds []feed.Kind) []yamldoc.Key {
	var names []string
	for _, k := range kinds {
		names = append(names, k.Name)
	}
	return []yamldoc.Key{
		{Name: "kind", OneOf: names, About: "What kind of feed it is."},
		{Name: "timeout", Form: yamldoc.Text, About: "How long a server may take to answer, and nothing may come; all of it may take sixty times as long. Without it: 1m."},
		{Name: "most", Form: yamldoc.Text, About: "How much it may bring, packed or unpacked, such as 500MB. Without it: 4GB."},
	}
}

func personKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "opens", Form: yamldoc.Text, About: "The person's public key that opens passwords (age1…), as “evenledger identity” prints it."},
		{Name: "signs", Form: yamldoc.Text, About: "The person's public key that countersigns (ed25519:…), as “evenledger identity” prints it."},
	}
}

func ruleKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "shortest", Form: yamldoc.Whole, About: "The fewest characters."},
		{Name: "longest", Form: yamldoc.Whole, About: "The most characters."},
		{Name: "kinds", Form: yamldoc.Whole, About: "How many of the four kinds (small letters, capitals, digits, signs) it must have."},
		{Name: "weak", OneOf: []string{"refuse", "tell"}, About: "What is done with one that can be guessed. Without it: refuse."},
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
		one := yamldoc.Schema(append(systemKeys([]system.Kind{k}), k.Keys...), forms)
		if i > 0 { // the first is meant where none is named
			one["required"] = []string{"kind"}
		}
		of = append(of, one)
	}
	top := yamldoc.Schema([]yamldoc.Key{
		{Name: "ledger", Form: yamldoc.Text, About: "The file of the ledger. Without it: ledger.db. Or where a ledger is that several share: postgres://HOST/DATABASE, or env:NAME or file:PATH that says where its address is kept."},
		{Name: "people", About: "Those who share the ledger, each under the name that the machines know them by."},
		{Name: "identity", Form: yamldoc.Text, About: "Where your own identity is kept: file:PATH or env:NAME. Without it: evenledger/identity in your folder of settings."},
		{Name: "lease", Form: yamldoc.Text, About: "For how long a process that is heard of no more keeps its work before others take it over. Without it: 30s."},
		{Name: "feeds", About: "Where sheets come from, each under a name of its own, for feed:NAME."},
		{Name: "mail", Nested: mail.Keys(), About: "How mails are sent."},
		{Name: "systems", About: "The systems whose accounts are kept, each under a name of its own."},
		{Name: "sets", Form: several, About: "Several systems under one name, so that one sheet makes a batch for each: NAME: [SYSTEM, SYSTEM]."},
	}, map[yamldoc.Form]yamldoc.Object{several: {"type": "object", "additionalProperties": texts}})
	top["$schema"], top["title"] = "https://json-schema.org/draft/2020-12/schema", "A workspace of Even Ledger"
	people := top["properties"].(yamldoc.Object)["people"].(yamldoc.Object)
	people["type"], people["additionalProperties"] = "object", yamldoc.Schema(personKeys(), nil)
	systems := top["properties"].(yamldoc.Object)["systems"].(yamldoc.Object)
	systems["type"], systems["additionalProperties"] = "object", yamldoc.Object{"anyOf": of}
	var from []yamldoc.Object
	for _, k := range kinds.Feeds {
		one := yamldoc.Schema(append(feedKeys([]feed.Kind{k}), k.Keys...), k.Forms)
		one["required"] = []string{"kind"}
		from = append(from, one)
	}
	feeds := top["properties"].(yamldoc.Object)["feeds"].(yamldoc.Object)
	feeds["type"], feeds["additionalProperties"] = "object", yamldoc.Object{"anyOf": from}
	return json.MarshalIndent(top, "", "  ")
}
