package drafting

import (
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/keyset"
)

// wanted are the values by which accounts are looked up. Only their keys are held: where accounts are found by them, the rows tell
// the values once more.
type wanted struct {
	keys   map[string]*keyset.Set // by field
	counts map[string]int         // by field: how many values are asked for
	more   map[string][]string    // by field: values that no row has
}

// add has accounts looked up by a value of a row, once.
func (w *wanted) add(f account.Field, value string, row int) {
	if w.keys[f.Name] == nil {
		w.keys[f.Name] = keyset.New()
	}
	if _, taken := w.keys[f.Name].Add(f.Key(value), row); !taken {
		w.counts[f.Name] += len(asked(value))
	}
}

// of are the keys of fields.
func (w *wanted) of(fields []account.Field) map[string]batch.Keys {
	keys := map[string]batch.Keys{}
	for _, f := range fields {
		keys[f.Name] = w.keys[f.Name]
	}
	return keys
}

// also has accounts looked up by a value that no row has.
func (w *wanted) also(f account.Field, value string) {
	if w.keys[f.Name].Has(f.Key(value)) || slices.Contains(w.more[f.Name], value) {
		return
	}
	if w.more == nil {
		w.more = map[string][]string{}
	}
	w.more[f.Name] = append(w.more[f.Name], value)
	w.counts[f.Name]++
}

// asked is a value as it is asked for: a system that keeps letters and their accents apart finds only what is asked so.
func asked(value string) []string {
	if apart := norm.NFD.String(value); apart != value {
		return []string{value, apart}
	}
	return []string{value}
}

// wantedAgain are the values that are wanted, as the rows tell them once more.
type wantedAgain struct {
	d   *making
	ctx context.Context
}

// Count implements system.Keys.
func (w *wantedAgain) Count() map[string]int { return w.d.wanted.counts }

// Some implements system.Keys.
func (w *wantedAgain) Some() iter.Seq2[map[string][]string, error] {
	return func(yield func(map[string][]string, error) bool) {
		some := map[string][]string{}
		for field, values := range w.d.wanted.more {
			some[field] = values
		}
		n := 0
		for waiting := w.d.spool.read(); ; {
			row, err := waiting.next()
			if errors.Is(err, io.EOF) {
				yield(some, nil)
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if row.Aside || row.Refused() {
				continue
			}
			w.d.means(w.ctx, row, func(f account.Field, value string) {
				if w.d.wanted.keys[f.Name].First(f.Key(value)) == row.Row { // else it was told already
					some[f.Name] = append(some[f.Name], asked(strings.Clone(value))...)
				}
			})
			if n++; n%chunk == 0 {
				if !yield(some, nil) {
					return
				}
				some = map[string][]string{}
			}
		}
	}
}
