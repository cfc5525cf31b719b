package app

import (
	"cmp"
	"context"
	"os"
	"os/exec"
	"strconv"
	"strings"
)

// helpers starts processes of this program that help with a batch until ctx is done, and returns what waits for
// them to end. What one could not do the others did; why it could not is said.
func (a *App) helpers(ctx context.Context, id, n int, workspace string) (wait func() []string, err error) {
	var started []*exec.Cmd
	wait = func() (failed []string) {
		for _, cmd := range started {
			if err := cmd.Wait(); err != nil {
				failed = append(failed, a.Mask.Told(cmp.Or(cmd.Stderr.(*errorLine).text(), err.Error())))
			}
		}
		return failed
	}
	self, err := os.Executable()
	if err != nil {
		return wait, err
	}
	for range n {
		cmd := exec.CommandContext(ctx, self, "work", strconv.Itoa(id), "--workspace", workspace)
		cmd.Stderr = &errorLine{}
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
		if err := cmd.Start(); err != nil {
			return wait, err
		}
		started = append(started, cmd)
	}
	return wait, nil
}

// errorLine keeps the end of what a process of this program writes, and finds in it why that failed.
type errorLine struct{ end []byte }

func (e *errorLine) Write(p []byte) (int, error) {
	e.end = append(e.end, p...)
	e.end = e.end[max(0, len(e.end)-longestEnd):]
	return len(p), nil
}

const longestEnd = 4 << 10

// text is the last line that tells an error; empty: none does.
func (e *errorLine) text() (why string) {
	for line := range strings.Lines(string(e.end)) {
		if told, is := strings.CutPrefix(line, "evenledger: "); is {
			why = strings.TrimSpace(told)
		}
	}
	return why
}
