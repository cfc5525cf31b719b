package app

import (
	"fmt"
	"strings"

	"evenledger/internal/report"
)

// longestRun is after how long a scheduler ends a run that does not end, as systemd and timeout write it. What was sent is
// in the ledger, and the next run goes on with it.
const longestRun = "4h"

// unitQuoted writes a word as systemd reads it (systemd.syntax): % begins a specifier there.
func unitQuoted(word string) string {
	word = strings.ReplaceAll(word, "%", "%%")
	if strings.ContainsAny(word, " \t\"'\\;$") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", "$$").Replace(word) + `"`
	}
	return word
}

// A Timer is what has a scheduler run briefs.
type Timer struct {
	Name    string // of the units of systemd
	Timer   string
	Service string
	Cron    string // the line of cron
	Longest string // after which a run that does not end is ended
}

// NewTimer has a command, which runs briefs, called in a folder.
func NewTimer(when Schedule, command []string, here, by string, briefs []string) Timer {
	var shell, unit []string
	for _, word := range command {
		shell = append(shell, report.Quoted(word))
		unit = append(unit, unitQuoted(word))
	}
	line := when.Cron() + " cd " + report.Quoted(here) + " && timeout " + longestRun + " " + strings.ReplaceAll(strings.Join(shell, " "), "%", `\%`)
	name := "evenledger-" + strings.Join(briefs, "-")
	name = strings.Map(func(r rune) rune {
		if r == '-' || r == '.' || 'a' <= r && r <= 'z' || '0' <= r && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(name))
	timer := fmt.Sprintf("[Unit]\nDescription=Even Ledger: %s\n\n[Timer]\nOnCalendar=%s\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n", strings.Join(briefs, ", "), when.Calendar())
	service := fmt.Sprintf("[Unit]\nDescription=Even Ledger: %s\nAfter=network-online.target\nWants=network-online.target\n\n[Service]\nType=oneshot\nUser=%s\nWorkingDirectory=%s\nExecStart=%s\nTimeoutStartSec=%s\nExecStopPost=/usr/bin/logger -t %s \"ended with ${EXIT_STATUS}\"\n", strings.Join(briefs, ", "), by, unitQuoted(here), strings.Join(unit, " "), longestRun, name)
	return Timer{Name: name, Timer: timer, Service: service, Cron: line, Longest: longestRun}
}
