package account

import "evenledger/internal/told"

// A Mistake is something asked for that makes no sense, such as a field that there is
// none of. Nothing was done.
type Mistake struct {
	Message string
	Remedy  string // empty: there is none to tell
}

func (e *Mistake) Error() string { return e.Message }

// Tell implements told.Error.
func (e *Mistake) Tell() told.Telling {
	return told.Telling{Message: e.Message, Remedy: e.Remedy, Stands: true}
}
