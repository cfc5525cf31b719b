package description

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
)

// A Field is where a field of accounts stands, and how it is written there.
type Field struct {
	Name    string
	Kind    account.Kind
	At      Path
	Where   map[string]string // with it At is a list, and the field in that element of it which has these parts
	Value   Path              // the field in such an element
	Parts   []string          // At is a list of elements with these parts, and the field is all of them
	Words   map[string]string // value → as the application writes it
	As      Written
	OneOf   []string // the values it takes; none: any
	About   string
	Longest int

	Required, Unique, ReadOnly, Fixed, Exact bool
}

// A Written is what a value is in JSON.
type Written string

// The ways.
const (
	AsUsual  Written = ""        // yes and no as true and false, lists as lists, all else as text
	AsText   Written = "text"    // text, whatever it is
	AsNumber Written = "number"  // a number
	AsTruth  Written = "yes-no"  // true or false
	AsTime   Written = "time"    // a date with the hour 0 in UTC (RFC 3339)
	AsSecond Written = "seconds" // a date in seconds since 1970
)

// Read reads the field out of an account's JSON. It is absent where nothing stands there.
func (f *Field) Read(object any) account.Value {
	value := f.At.Of(object)
	switch {
	case f.Parts != nil:
		var all []string
		for _, item := range items(value) {
			all = append(all, f.partsOf(item))
		}
		return account.ValueOr(account.ListOf(all))
	case f.Where != nil:
		if at := f.element(items(value)); at >= 0 {
			return account.ValueOr(f.text(f.Value.Of(items(value)[at])))
		}
		return account.Value{}
	case f.Kind == account.List:
		var all []string
		for _, item := range items(value) {
			if f.Value != nil {
				item = f.Value.Of(item)
			}
			if text := oneLine(f.text(item)); text != "" {
				all = append(all, text)
			}
		}
		return account.ValueOr(account.ListOf(all))
	}
	return account.ValueOr(f.text(value))
}

// partsOf are the parts of an element, with a tab between (account.WithParts).
func (f *Field) partsOf(item any) string {
	parts := make([]string, len(f.Parts))
	for i, part := range f.Parts {
		parts[i] = oneLine(Text(Path{part}.Of(item)))
	}
	return strings.Join(parts, "\t")
}

func oneLine(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\t' || r == '\r' }), " ")
}

// element is the index of the list's element that the field is in; -1: there is none.
func (f *Field) element(list []any) int {
	return slices.IndexFunc(list, func(item any) bool {
		for part, want := range f.Where {
			if Text(Path{part}.Of(item)) != want {
				return false
			}
		}
		return true
	})
}

// text is one value as the program has it.
func (f *Field) text(value any) string {
	written := Text(value)
	for _, of := range slices.Sorted(maps.Keys(f.Words)) {
		if f.Words[of] == written && value != nil {
			return of
		}
	}
	if f.Kind == account.Date && written != "" {
		if f.As == AsSecond {
			if n, err := json.Number(written).Int64(); err == nil {
				return time.Unix(n, 0).UTC().Format(time.DateOnly)
			}
		}
		if at, err := time.Parse(time.RFC3339, written); err == nil {
			return at.UTC().Format(time.DateOnly)
		}
	}
	return written
}

// JSON is a value as the application writes it; nil for a blank one.
func (f *Field) JSON(text string) (any, error) {
	if text == "" {
		return nil, nil
	}
	if f.Kind == account.List && f.Parts == nil {
		list := []any{}
		for _, item := range account.Items(text) {
			one, err := f.one(item)
			if err != nil {
				return nil, err
			}
			if f.Value != nil {
				object := map[string]any{}
				f.Value.Put(object, one)
				one = object
			}
			list = append(list, one)
		}
		return list, nil
	}
	if f.Parts != nil {
		list := []any{}
		for _, item := range account.Items(text) {
			list = append(list, f.parts(item))
		}
		return list, nil
	}
	return f.one(text)
}

// parts is an element of a list of such.
func (f *Field) parts(item string) map[string]any {
	object := map[string]any{}
	for i, text := range strings.SplitN(item, "\t", len(f.Parts)) {
		object[f.Parts[i]] = text
	}
	return object
}

func (f *Field) one(text string) (any, error) {
	if word, has := f.Words[text]; has {
		text = word
	}
	switch {
	case f.As == AsNumber, f.As == AsUsual && f.Kind == account.Number && f.Words == nil:
		if !json.Valid([]byte(text)) || strings.ContainsAny(text, `"[{tfn`) {
			return nil, fmt.Errorf("“%s” is no number, and %s is one there", text, f.At)
		}
		return json.Number(text), nil
	case f.As == AsTruth, f.As == AsUsual && f.Kind == account.YesNo && f.Words == nil:
		return text == "true", nil
	case f.As == AsTime:
		return text + "T00:00:00Z", nil
	case f.As == AsSecond:
		at, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return nil, errors.New("it is no date")
		}
		return json.Number(fmt.Sprint(at.Unix())), nil
	}
	return text, nil
}

// Write puts a value into an account's JSON, and leaves what else stands there: in a list, the other elements,
// and in an element the other parts. A blank takes it away; where clears is set, it leaves a null, by which
// the application knows that it is to be emptied.
func (f *Field) Write(object map[string]any, before, after string, clears bool) error {
	switch {
	case f.Where != nil:
		return f.writeElement(object, after)
	case f.Parts != nil:
		f.writeParts(object, before, after)
		return nil
	}
	value, err := f.JSON(after)
	switch {
	case err != nil:
		return err
	case value == nil && !clears:
		f.At.Drop(object)
	case value == nil && f.Kind == account.List:
		f.At.Put(object, []any{})
	default:
		f.At.Put(object, value)
	}
	return nil
}

func (f *Field) writeElement(object map[string]any, after string) error {
	list := slices.Clone(items(f.At.Of(object)))
	at := f.element(list)
	value, err := f.one(after)
	switch {
	case err != nil:
		return err
	case after == "" && at < 0:
		return nil
	case after == "":
		list = slices.Delete(list, at, at+1)
	case at < 0:
		element := map[string]any{}
		for part, want := range f.Where {
			element[part] = want
		}
		f.Value.Put(element, value)
		list = append(list, element)
	default:
		element, _ := clone(list[at]).(map[string]any)
		f.Value.Put(element, value)
		list[at] = element
	}
	f.At.Put(object, list)
	return nil
}

// writeParts takes out what is to go, and adds what is to come; who else stands there stays, with all its parts.
func (f *Field) writeParts(object map[string]any, before, after string) {
	was, is := account.Items(before), account.Items(after)
	there := map[string]bool{}
	list := slices.DeleteFunc(slices.Clone(items(f.At.Of(object))), func(item any) bool {
		text := f.partsOf(item)
		there[text] = true
		return slices.Contains(was, text) && !slices.Contains(is, text)
	})
	for _, item := range is {
		if !there[item] {
			list = append(list, f.parts(item))
		}
	}
	f.At.Put(object, list)
}

// IsListed reports whether other things stand in what is written when the field is: it has to be read before.
func (f *Field) IsListed() bool { return f.Where != nil || f.Parts != nil }
