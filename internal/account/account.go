package account

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// A Value is what a field holds, with the three states a cell can be in kept
// apart. The zero Value is absent.
type Value struct {
	present bool
	text    string
}

// Of returns a value; the empty text is a blank one.
func Of(text string) Value { return Value{present: true, text: text} }

// ValueOr returns a value, or absent for the empty text.
func ValueOr(text string) Value { return Value{present: text != "", text: text} }

// Blank returns a value that is there and empty.
func Blank() Value { return Value{present: true} }

// Present reports whether there is a value at all, be it blank.
func (v Value) Present() bool { return v.present }

// Filled reports whether the value is there and not blank.
func (v Value) Filled() bool { return v.text != "" }

// Text returns the value as text; absent and blank both give "".
func (v Value) Text() string { return v.text }

func (v Value) String() string {
	if !v.present {
		return "(absent)"
	}
	return v.text
}

// MarshalJSON writes absent as null and the rest as text.
func (v Value) MarshalJSON() ([]byte, error) {
	if !v.present {
		return []byte("null"), nil
	}
	for i := 0; i < len(v.text); i++ {
		if c := v.text[i]; c < ' ' || c > '~' || strings.IndexByte(`"\\<>&`, c) >= 0 {
			return json.Marshal(v.text)
		}
	}
	return append(append(append(make([]byte, 0, len(v.text)+2), '"'), v.text...), '"'), nil
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (v *Value) UnmarshalJSON(data []byte) error {
	if len(data) > 1 && data[0] == '"' && bytes.IndexByte(data, '\\') < 0 {
		*v = Of(string(data[1 : len(data)-1]))
		return nil
	}
	var text *string
	if err := json.Unmarshal(data, &text); err != nil {
		return fmt.Errorf("a field's value: %w", err)
	}
	*v = Value{}
	if text != nil {
		*v = Of(*text)
	}
	return nil
}

// An Account is one record of a system as far as the program knows it.
type Account struct {
	ID      string           `json:"id"`                // the system's own, empty before it is created
	Version string           `json:"version,omitempty"` // changes with the record where the system keeps one (an ETag)
	Fields  map[string]Value `json:"fields"`            // by field name; what isn't there is absent

	// Whole has the values of fields that hold several with more to each than is in
	// Fields, as the system writes them, so that one taken away can be put back.
	Whole map[string]string `json:"-"`
	// Amiss is what does not fit together in the account, in words: nothing that a change of a
	// field would put right.
	Amiss []string `json:"-"`
	// Refuses says of fields why they cannot be changed in just this account, as it is now.
	Refuses map[string]string `json:"-"`
	// Lacks says of fields why an account of its kind cannot have them, and Needs of fields which others it must have once it has them.
	Lacks map[string]string   `json:"-"`
	Needs map[string][]string `json:"-"`
	// Made is when the system says it made the account, by this machine's clock; zero:
	// it doesn't say.
	Made time.Time `json:"-"`
	// Password is that of an account to be made. No account that was read has one.
	Password string `json:"-"`
}

// Field returns the account's value of a field.
func (a Account) Field(name string) Value {
	if name == ID && a.ID != "" {
		return Of(a.ID)
	}
	return a.Fields[name]
}

// Label names the account for a person: its user name, else its address, else
// its identifier.
func (a Account) Label() string {
	for _, name := range []string{"userName", "email", "displayName"} {
		if v := a.Fields[name]; v.Filled() {
			return v.text
		}
	}
	return a.ID
}

// FieldNames lists the fields that are present, sorted.
func (a Account) FieldNames() []string {
	return slices.Sorted(maps.Keys(a.Fields))
}

// A Change is one field of an account before and after. Where the values are
// identifiers of other accounts, Names says whose they are, before and after.
type Change struct {
	Field  string     `json:"field"`
	Before Value      `json:"before"`
	After  Value      `json:"after"`
	Names  *[2]string `json:"names,omitempty"`
	Whole  string     `json:"-"` // of Before, as in Account.Whole
}

// An Intent is what is to happen to a row's account.
type Intent string

// The intents a row can have.
const (
	Create  Intent = "create"
	Update  Intent = "update"
	Suspend Intent = "suspend" // the account may no longer sign in, and is kept
	Resume  Intent = "resume"
	Remove  Intent = "remove" // the account goes, with all that is in it
	Finish  Intent = "finish" // the account is as wanted, and steps that follow wait
	Keep    Intent = "keep"   // nothing to change
	None    Intent = ""       // set aside or refused: nothing is to happen
)

// Intents lists every intent that something comes of, in the order in which they
// are told.
func Intents() []Intent { return []Intent{Create, Update, Suspend, Resume, Remove, Finish} }

// Comes is the outcome of the intent when it is carried out.
func (i Intent) Comes() Outcome {
	switch i {
	case Create:
		return Created
	case Update:
		return Updated
	case Suspend:
		return Suspended
	case Resume:
		return Resumed
	case Remove:
		return Removed
	}
	return Unchanged
}

// An Outcome is what became of a row. The outcomes are exhaustive and exclusive:
// every row has exactly one.
type Outcome string

// The outcomes.
const (
	Created   Outcome = "created"
	Updated   Outcome = "updated"
	Unchanged Outcome = "unchanged"
	Suspended Outcome = "suspended"
	Resumed   Outcome = "resumed"
	Removed   Outcome = "removed"
	Aside     Outcome = "aside"   // the brief or a selection left it out
	Refused   Outcome = "refused" // a check stopped it; nothing was sent
	Failed    Outcome = "failed"  // the system said no, or only part was done
	Waiting   Outcome = "waiting" // not posted yet
	// HandedOver is that of a row which an application took that answers later: nobody knows yet what becomes of it.
	HandedOver Outcome = "handed over"
)

// Outcomes lists every outcome in the order in which they are told.
func Outcomes() []Outcome {
	return []Outcome{Created, Updated, Unchanged, Suspended, Resumed, Removed, Aside, Refused, Failed, HandedOver, Waiting}
}

// Waits reports whether the row is still to be posted.
func (o Outcome) Waits() bool { return o == Waiting }

// IsElsewhere reports whether it is an application's to say what becomes of the row.
func (o Outcome) IsElsewhere() bool { return o == HandedOver }

// IsSettled reports whether it is known what became of the row.
func (o Outcome) IsSettled() bool { return !o.Waits() && !o.IsElsewhere() }

// IsBad reports whether somebody has to correct the row.
func (o Outcome) IsBad() bool { return o == Refused || o == Failed }

// Bad are the outcomes of rows that somebody has to correct.
func Bad() []Outcome {
	return slices.DeleteFunc(Outcomes(), func(o Outcome) bool { return !o.IsBad() })
}

// Open are the outcomes of rows of which it is not known yet what becomes of them.
func Open() []Outcome { return slices.DeleteFunc(Outcomes(), Outcome.IsSettled) }

// Counts is how many rows came to each outcome.
type Counts map[Outcome]int

// Bad is how many rows somebody has to correct.
func (c Counts) Bad() int { return c.of(Outcome.IsBad) }

// Waiting is how many rows are still to be posted.
func (c Counts) Waiting() int { return c.of(Outcome.Waits) }

// Elsewhere is how many rows an application has, which has not said yet what becomes of them.
func (c Counts) Elsewhere() int { return c.of(Outcome.IsElsewhere) }

func (c Counts) of(kind func(Outcome) bool) int {
	total := 0
	for o, n := range c {
		if kind(o) {
			total += n
		}
	}
	return total
}

// Total adds the counts up.
func (c Counts) Total() int {
	total := 0
	for _, n := range c {
		total += n
	}
	return total
}
