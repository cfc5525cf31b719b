package tables

import (
	"encoding/json"
	"fmt"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
)

// about is what the ledger has of a batch as a whole: the
// names are the ledger's own, so that renaming a field of the program changes none of
// them. Its fields are those of batch.Batch, in their order.
type about struct {
	ID         int         `json:"batch"`
	Revision   int         `json:"-"` // it has a column
	State      batch.State `json:"state"`
	Made       time.Time   `json:"drafted"`
	Posted     time.Time   `json:"posted"`
	Posts      int         `json:"posts,omitempty"`
	HoldMails  bool        `json:"holdMails,omitempty"`
	Seal       string      `json:"seal,omitempty"`
	ToDo       int         `json:"toDo,omitempty"`
	SignedFrom int         `json:"signedFrom,omitempty"`
	By         string      `json:"by"`
	ByKey      string      `json:"byKey,omitempty"`
	Sheet      string      `json:"sheet"`
	Separator  string      `json:"separator,omitempty"`
	Headings   []string    `json:"headings"`
	Above      [][]string  `json:"above,omitempty"`
	Encoding   string      `json:"encoding,omitempty"`
	HeadingRow int         `json:"headingRow"`
	Brief      string      `json:"brief,omitempty"`
	System     string      `json:"system"`
	URL        string      `json:"url"`
	Policies   string      `json:"policies"`
	Taken      string      `json:"taken,omitempty"`
	Fields     []string    `json:"fields"`
	Match      []string    `json:"match"`
	Numbers    []string    `json:"numbers,omitempty"`
	Rows       int         `json:"rows"`
	Unlisted   int         `json:"unlisted,omitempty"`

	Held       []string           `json:"held,omitempty"`
	Seats      []membership.Seats `json:"seats,omitempty"`
	Makes      []membership.Make  `json:"makes,omitempty"`
	MadeThings []membership.Step  `json:"madeThings,omitempty"`
	Reverses   int                `json:"reverses,omitempty"`
	After      int                `json:"after,omitempty"`
	Unmakes    []membership.Step  `json:"unmakes,omitempty"`
	Corrects   int                `json:"corrects,omitempty"`
	Secrets    string             `json:"secrets,omitempty"`
	Workbook   bool               `json:"workbook,omitempty"`
	Path       string             `json:"path,omitempty"`
	Sum        string             `json:"sha256,omitempty"`
	Delivery   *feed.Delivery     `json:"delivery,omitempty"`
	ReportTo   []string           `json:"reportTo,omitempty"`
	Begin      []batch.Whole      `json:"begin,omitempty"`
	End        []batch.Whole      `json:"end,omitempty"`
	Reown      *system.Folders    `json:"reown,omitempty"`
	Set        string             `json:"set,omitempty"`
	Beside     int                `json:"beside,omitempty"`
	Trial      string             `json:"trial,omitempty"`
	Tab        string             `json:"tab,omitempty"`

	Read sheet.Tally `json:"read"`

	Reading batch.Reading  `json:"reading,omitzero"`
	Handout *batch.Handout `json:"handout,omitempty"`

	Mark      account.Suspension `json:"mark"`
	Protect   []string           `json:"protect,omitempty"`
	Witnesses []account.Account  `json:"witnesses,omitempty"`
}

// WriteAbout is a batch as a whole as it stands in the tables; ReadAbout reads it.
func WriteAbout(b *batch.Batch) (string, error) {
	data, err := json.Marshal(about(*b))
	return string(data), err
}

// ReadAbout reads what WriteAbout wrote.
func ReadAbout(text string) (batch.Batch, error) {
	var a about
	if err := json.Unmarshal([]byte(text), &a); err != nil {
		return batch.Batch{}, fmt.Errorf("what the ledger says of a batch cannot be read: %w", err)
	}
	return batch.Batch(a), nil
}
