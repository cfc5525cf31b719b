package test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What commands answer with --json is what their schemas say: every answer of every test is held against them. A key
// that came since is taken in by go test ./test -update.

var update = flag.Bool("update", false, "take what commands answer into their schemas")

const (
	answersDir = "../internal/cli/answers"
	failed     = "error" // what is called so is the answer of a command that did nothing
)

// groups are the commands whose second word names another.
var groups = []string{"brief", "layout", "ledger", "notices", "system"}

// answering is the command of some words, as its schema is called.
func answering(args []string) string {
	var words []string
	for _, arg := range args {
		if !strings.HasPrefix(arg, "-") {
			words = append(words, arg)
		}
	}
	if len(words) == 0 {
		return ""
	}
	if len(words) > 1 && slices.Contains(groups, words[0]) {
		if second := words[1]; words[0] != "notices" || second == "try" {
			return words[0] + "-" + second
		}
	}
	return words[0]
}

// answers are the schemas, ready to be held against, and what was seen of each.
var answers struct {
	sync.Mutex
	ready map[string]*jsonschema.Schema
	seen  map[string]map[string]any
}

// heldAgainst returns why an answer is not as the schema of its command says.
func heldAgainst(args []string, out string) error {
	name := answering(args)
	var answer map[string]any
	if json.Unmarshal([]byte(out), &answer) != nil || name == "" {
		return nil // what is no document is told where it is looked for
	}
	if _, is := answer["error"]; is && len(answer) == 1 {
		name = failed
	}
	answers.Lock()
	defer answers.Unlock()
	if *update {
		if answers.seen == nil {
			answers.seen = map[string]map[string]any{}
		}
		answers.seen[name] = merged(answers.seen[name], inferred(answer, ""))
		return nil
	}
	if answers.ready == nil {
		answers.ready = map[string]*jsonschema.Schema{}
	}
	if answers.ready[name] == nil {
		schema, err := jsonschema.NewCompiler().Compile(filepath.Join(answersDir, name+".schema.json"))
		if err != nil {
			return fmt.Errorf("%s --json has no schema: go test ./test -update makes one (%w)", name, err)
		}
		answers.ready[name] = schema
	}
	if err := answers.ready[name].Validate(any(answer)); err != nil {
		return fmt.Errorf("%s --json is not as its schema says (go test ./test -update takes new keys in): %w", name, err)
	}
	return nil
}

// byName are keys whose value is a table with names for keys.
var byName = []string{"systems", "settings", "workers", "parts", "counts", "kinds", "lists", "words"}

// inferred is the schema of a value.
func inferred(value any, key string) map[string]any {
	switch value := value.(type) {
	case map[string]any:
		if slices.Contains(byName, key) {
			var of map[string]any
			for _, inner := range value {
				of = merged(of, inferred(inner, ""))
			}
			if of == nil {
				return map[string]any{"type": "object"}
			}
			return map[string]any{"type": "object", "additionalProperties": of}
		}
		properties, required := map[string]any{}, []any{}
		for name, inner := range value {
			properties[name] = inferred(inner, name)
			required = append(required, name)
		}
		sort.Slice(required, func(i, j int) bool { return required[i].(string) < required[j].(string) })
		return map[string]any{"type": "object", "properties": properties, "required": required}
	case []any:
		var of map[string]any
		for _, inner := range value {
			of = merged(of, inferred(inner, ""))
		}
		if of == nil {
			return map[string]any{"type": "array"}
		}
		return map[string]any{"type": "array", "items": of}
	case string:
		return map[string]any{"type": "string"}
	case bool:
		return map[string]any{"type": "boolean"}
	case float64:
		if value == float64(int64(value)) {
			return map[string]any{"type": "integer"}
		}
		return map[string]any{"type": "number"}
	}
	return map[string]any{"type": "null"}
}

// merged is the schema that takes what either takes.
func merged(a, b map[string]any) map[string]any {
	if a == nil {
		return b
	}
	if b == nil {
		return a
	}
	out := map[string]any{}
	types := map[string]bool{}
	for _, of := range []map[string]any{a, b} {
		switch t := of["type"].(type) {
		case string:
			types[t] = true
		case []any:
			for _, one := range t {
				types[one.(string)] = true
			}
		}
	}
	if types["number"] {
		delete(types, "integer")
	}
	var names []any
	for name := range types {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool { return names[i].(string) < names[j].(string) })
	if out["type"] = any(names); len(names) == 1 {
		out["type"] = names[0]
	}
	objects := func(of map[string]any, key string) map[string]any { inner, _ := of[key].(map[string]any); return inner }
	for _, key := range []string{"items", "additionalProperties"} {
		if inner := merged(objects(a, key), objects(b, key)); inner != nil {
			out[key] = inner
		}
	}
	pa, pb := objects(a, "properties"), objects(b, "properties")
	if pa != nil || pb != nil {
		all := map[string]any{}
		for name, inner := range pa {
			other, _ := pb[name].(map[string]any)
			all[name] = merged(inner.(map[string]any), other)
		}
		for name, inner := range pb {
			if all[name] == nil {
				all[name] = inner
			}
		}
		out["properties"] = all
		ra, _ := a["required"].([]any)
		rb, _ := b["required"].([]any)
		both := []any{}
		for _, name := range ra {
			if pb == nil || slices.Contains(rb, name) {
				both = append(both, name)
			}
		}
		if pa == nil {
			both = rb
		}
		if out["required"] = both; len(both) == 0 {
			delete(out, "required")
		}
	}
	return out
}

// takeAnswers writes what was seen into the schemas.
func takeAnswers() error {
	for name, of := range answers.seen {
		path := filepath.Join(answersDir, name+".schema.json")
		if data, err := os.ReadFile(path); err == nil {
			var was map[string]any
			if err := json.Unmarshal(data, &was); err != nil {
				return err
			}
			of = merged(was, of)
		}
		of["$schema"], of["title"] = "https://json-schema.org/draft/2020-12/schema", "What “evenledger "+strings.ReplaceAll(name, "-", " ")+" --json” answers"
		if name == failed {
			of["title"] = "What a command that did nothing answers with --json"
		}
		data, err := json.MarshalIndent(of, "", "  ")
		if err != nil {
			return err
		}
		if err := os.WriteFile(path, append(data, '\n'), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// A schema is no schema if it takes anything.
func TestAnswersAreHeldAgainstTheirSchemas(t *testing.T) {
	t.Parallel()
	if *update {
		t.Skip("they are being made")
	}
	require.NoError(t, heldAgainst([]string{"version", "--json"}, `{"version": "1", "date": "today", "commit": "x", "later": true}`))
	for out, why := range map[string]string{`{"version": "1", "date": "today"}`: "missing property", `{"version": 7, "date": "today", "commit": "x"}`: "got number, want string"} {
		err := heldAgainst([]string{"version", "--json"}, out)
		require.Error(t, err)
		assert.Contains(t, err.Error(), why)
	}
	assert.Error(t, heldAgainst([]string{"nothing", "--json"}, `{"a": 1}`))
}
