package feed

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"time"
)

// A Candidate is a file that a pattern may mean.
type Candidate struct {
	Name     string
	Modified time.Time
	Regular  bool
	Ahead    bool // Modified is in the future, by this machine's clock
}

// ahead is how far clocks may be apart.
const ahead = 5 * time.Minute

// dated is when a file counts as written. One that is dated in the future counts as written now, and
// when it was taken, if it was: else all that come later would count as older.
func (f *Candidate) dated(last Last, now time.Time) time.Time {
	switch f.Ahead = f.Modified.After(now.Add(ahead)); {
	case !f.Ahead:
		return f.Modified
	case f.Name == last.Name && f.Modified.Equal(last.Modified):
		return last.Brought
	}
	return now
}

// Newest returns the file that a pattern (as with path.Match) means of those in a folder: of
// several the one that was written last, and of those the one whose name comes last. One
// that is older than what was taken last is none: people would be made what they were.
func Newest(pattern, where string, files []Candidate, last Last, now time.Time) (Candidate, error) {
	var found []Candidate
	for _, f := range files {
		if match, err := path.Match(pattern, f.Name); err != nil {
			return Candidate{}, err
		} else if match && f.Regular && f.Name != "" && f.Name[0] != '.' {
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return Candidate{}, &Nothing{Message: fmt.Sprintf("no file in %s is called %s", where, pattern)}
	}
	dates := map[string]time.Time{}
	for i := range found {
		dates[found[i].Name] = found[i].dated(last, now)
	}
	newest := slices.MaxFunc(found, func(a, b Candidate) int {
		return cmp.Or(dates[a.Name].Compare(dates[b.Name]), cmp.Compare(a.Name, b.Name))
	})
	taken := last.Modified
	if taken.After(last.Brought) && !last.Brought.IsZero() {
		taken = last.Brought
	}
	if !last.Again && dates[newest.Name].Before(taken) {
		return Candidate{}, &Nothing{Message: fmt.Sprintf("%s in %s is older than %s, which was taken last", newest.Name, where, last.Name), Same: true}
	}
	return newest, nil
}

// Aside returns a name for a file that was taken, in a folder in which some stand. look looks
// for one: what is not there is an os.ErrNotExist, and any other error ends the search, as it
// would come back for every name.
func Aside(name string, at time.Time, look func(name string) error) (string, error) {
	to := name
	for n := 1; ; n++ {
		if err := look(to); errors.Is(err, os.ErrNotExist) {
			return to, nil
		} else if err != nil {
			return "", err
		}
		ext := path.Ext(name)
		to = fmt.Sprintf("%s-%s-%d%s", name[:len(name)-len(ext)], at.Format("20060102"), n, ext)
	}
}
