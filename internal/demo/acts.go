package demo

import (
	"path/filepath"
	"time"
)

// A Step is a command of the demonstration with what it is about.
type Step struct {
	About string
	Args  []string
	Exit  int // that it should have
}

// An Act is some of its commands, after which somebody does something.
type Act struct {
	Steps []Step
	About string // what somebody does then; empty: nothing
	do    func(dir string, now time.Time) (lines []string, err error)
}

// Do does it in the demonstration's folder, and says corrections in a line each.
func (a Act) Do(dir string, now time.Time) (lines []string, err error) {
	if a.do == nil {
		return nil, nil
	}
	return a.do(dir, now)
}

// Acts are those of the demonstration.
func Acts() []Act {
	return []Act{
		{Steps: []Step{
			{"What is in the sheet, and what would each column be?", []string{"peek", "starters.csv"}, 0},
			{"Is the brief in order? It says what the sheet's columns mean.", []string{"brief", "check", "starters"}, 0},
			{"Every problem of the sheet, before anything else.", []string{"check", "starters.csv", "-b", "starters"}, 1},
			{"What would happen to whom. Nothing is changed yet.", []string{"draft", "starters.csv", "-b", "starters"}, 1},
			{"One row first. (--yes answers the question that would be asked.)", []string{"post", "1", "--trial", "1", "--yes"}, 1},
			{"That went well: now the rest.", []string{"post", "1", "--yes"}, 1},
			{"The whole story of two rows.", []string{"show", "1", "--row", "5,6"}, 0},
			{"All of it as one page, to keep or send.", []string{"report", "1", "-o", "batch-1.html"}, 0},
			{"The rows to correct, with the reasons beside them.", []string{"fixes", "1", "-o", "again.csv"}, 0},
		}, About: "Somebody opens again.csv and puts the cells right:", do: func(dir string, now time.Time) ([]string, error) {
			return Correct(filepath.Join(dir, "again.csv"), Corrections(now))
		}},
		{Steps: []Step{
			{"The corrected rows, handed back in with the same brief.", []string{"draft", "again.csv", "-b", "starters"}, 0},
			{"", []string{"post", "2", "--yes"}, 0},
			{"Is the application even with the sheet now?", []string{"reconcile", "again.csv", "-b", "starters"}, 0},
			{"Somebody left, and somebody is back. What the office writes, the brief translates.", []string{"draft", "moves.csv", "-b", "moves"}, 0},
			{"", []string{"post", "3", "--yes"}, 0},
			{"The workshop has a new lead: an export, to edit and hand back in.", []string{"export", "crewdesk", "-o", "managers.csv", "--fields", "employeeNumber,userName,title,manager", "--only", `department == "Workshop"`}, 0},
		}, About: "Somebody opens managers.csv and changes three cells:", do: func(dir string, _ time.Time) ([]string, error) {
			return Correct(filepath.Join(dir, "managers.csv"), newManagers())
		}},
		{Steps: []Step{
			{"Only the managers are touched.", []string{"draft", "managers.csv", "--fields", "manager"}, 0},
			{"", []string{"post", "4", "--yes"}, 0},
			{"That was a mistake: undone, and only that.", []string{"reverse", "4"}, 0},
			{"", []string{"post", "5", "--yes"}, 0},
			{"", []string{"report", "crewdesk", "licences"}, 0},
			{"Every week the office's own database brings some hands.", []string{"peek", "feed:office"}, 0},
			{"They are to hear how to sign in. How would such a mail look?", []string{"notices", "try", "welcome", "-b", "weekly", "--row", "3"}, 0},
			{"The whole way with nobody at the keyboard: feed, draft, post, mails, report.", []string{"run", "weekly"}, 0},
			{"", []string{"notices", "last"}, 0},
			{"A scheduler may run it again and again: nothing new, nothing done.", []string{"run", "weekly"}, 0},
			{"Every batch so far; and nothing in the ledger was altered since.", []string{"batches"}, 0},
			{"", []string{"ledger", "check"}, 0},
		}},
		{Steps: []Step{
			{"Deskbook takes nothing but files. A layout says what they look like, its export who is there.", []string{"draft", "desk/watch.csv", "-b", "watch", "--workspace", "desk"}, 1},
			{"Nothing is sent: the rows are handed over in a file of Deskbook's own form.", []string{"post", "1", "--yes", "--workspace", "desk"}, 1},
		}, About: "Somebody gives desk/outbox/people-1-1.csv to Deskbook's page, and saves its list of\nwhat it did not take as desk/not-taken.csv, its new export as desk/exports/people.csv.", do: func(dir string, now time.Time) ([]string, error) {
			return nil, giveToDesk(dir, now)
		}},
		{Steps: []Step{
			{"Only what the new export shows counts as done; what was not taken says why.", []string{"settle", "1", "--results", "desk/not-taken.csv", "--workspace", "desk"}, 1},
		}},
	}
}
