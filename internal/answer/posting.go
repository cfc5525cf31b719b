package answer

import (
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/report"
)

// Followed says in lines what followed a post.
func Followed(p *app.Posted) (lines []string) {
	tell := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if n := len(p.HelpersFailed); n > 0 {
		tell("%s to help ended early, and the others did the rest: %s", report.Counted(n, "process that was", "processes that were"), strings.Join(slices.Compact(p.HelpersFailed), "; "))
	}
	if p.Shredded > 0 {
		tell("%s with passwords shredded.", report.Counted(p.Shredded, "file", "files"))
	}
	if p.Passwords.Handed > 0 {
		tell("%s: %s kept nowhere else.", p.Credentials, report.Counted(p.Passwords.Handed, "generated password. It is", "generated passwords. They are"))
	}
	if says := p.Passwords.Elsewhere(); says != "" {
		tell("%s.", says)
	}
	if p.Passwords.Kept > 0 && p.After == nil { // else that says it
		tell("%s still to be handed out: evenledger post %d --credentials FILE --to KEY", report.Counted(p.Passwords.Kept, "generated password is", "generated passwords are"), p.Batch.ID)
	}
	if p.Reported != "" {
		tell("%s.", p.Reported)
	}
	return lines
}

// Intended says what posting would do, for the question whether it is to.
func Intended(waiting map[account.Intent]int, unmakes bool, trial int) string {
	var parts []string
	for _, intent := range account.Intents() {
		if n := waiting[intent]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", intent, people(n)))
		}
	}
	what := "read back what was done"
	if unmakes {
		what = "remove what the batch undone had made"
	}
	if len(parts) > 0 {
		what = parts[len(parts)-1]
	}
	if len(parts) > 1 {
		what = strings.Join(parts[:len(parts)-1], ", ") + " and " + what
	}
	if trial > 0 {
		what = fmt.Sprintf("try the first %d of: %s", trial, what)
	}
	return what
}

func people(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
}
