package standin

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

func FuzzFilter(f *testing.F) {
	for _, seed := range []string{`userName eq "a"`, `not (emails[type eq "work"].value pr)`, `a.b co "\u00e9" and (x gt 1 or y eq null)`, `emails[type eq "x" or value sw "y"]`, `((((`, `userName eq "\`} {
		f.Add(seed)
	}
	kind := newTypes()[0]
	resource := map[string]any{"userName": "ana", "active": true, "emails": []any{map[string]any{"type": "work", "value": "a@x.example"}}, crewSchema: map[string]any{"watch": "Day"}}
	f.Fuzz(func(t *testing.T, text string) {
		parsed, err := parseFilter(kind, text)
		if err != nil {
			var told *problem
			require.True(t, errors.As(err, &told) && told.scimType == "invalidFilter")
			return
		}
		require.Equal(t, parsed.match(resource), !negated{parsed}.match(resource))
	})
}

func FuzzPatchPath(f *testing.F) {
	for _, seed := range []string{"title", "name.givenName", `emails[type eq "work"].value`, crewSchema + ":watch", crewSchema, "emails[", "]x[", `emails[value pr]`} {
		f.Add(seed, "x")
	}
	kind := newTypes()[0]
	f.Fuzz(func(t *testing.T, path, value string) {
		resource := map[string]any{"userName": "ana", "title": "Bosun", "emails": []any{map[string]any{"type": "work", "value": "a@x.example"}}}
		for _, op := range []string{"add", "replace", "remove"} {
			after, err := kind.patch(resource, []operation{{op, path, value, true}})
			if err != nil {
				var told *problem
				require.ErrorAs(t, err, &told)
				continue
			}
			require.NotEmpty(t, after["userName"], "what is required stays")
		}
		require.Equal(t, "Bosun", resource["title"], "the stored resource is never changed in place")
	})
}
