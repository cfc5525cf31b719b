package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// joins is how many memberships, and joined how many groups they are in.
const joins, joined = 3000, 10

// benchProof times posts that read back what they did against the same posts
// that leave that away.
func benchProof(program, dir string) error {
	creating, joining := filepath.Join(dir, "post.csv"), filepath.Join(dir, "joins.csv")
	if err := errors.Join(generate(creating, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(postBrief), 0o644), writeJoins(dir, joining)); err != nil {
		return err
	}
	post := func(bulk int) func(...string) (float64, error) {
		return func(flags ...string) (seconds float64, err error) {
			url, stop, err := practice(program, dir, 2*time.Millisecond, bulk)
			if err != nil {
				return 0, err
			}
			defer func() { err = errors.Join(err, stop()) }()
			err = postTo(program, dir, creating, url, &seconds, flags...)
			return seconds, err
		}
	}
	for _, c := range []struct {
		what string
		time func(...string) (float64, error)
	}{
		{fmt.Sprintf("%d creates one by one", creates), post(0)},
		{fmt.Sprintf("%d creates in bulk", creates), post(100)},
		{fmt.Sprintf("%d memberships in %d groups", joins, joined), func(flags ...string) (float64, error) { return timeJoins(program, dir, joining, flags...) }},
	} {
		var ratios, with, without []float64
		for range 5 {
			a, err := c.time()
			if err != nil {
				return err
			}
			b, err := c.time("--no-proof")
			if err != nil {
				return err
			}
			with, without, ratios = append(with, a), append(without, b), append(ratios, a/b)
		}
		slices.Sort(ratios)
		slices.Sort(with)
		slices.Sort(without)
		fmt.Printf("proof  %s, %d requests at once, answers after 2ms: %5.2f s; not proven %5.2f s; %.2f times as long (from %.2f to %.2f)\n", c.what, together, with[2], without[2], ratios[2], ratios[0], ratios[4])
	}
	return nil
}

// writeJoins writes a sheet of people, each in one of the groups, and the briefs
// that make them and that put them in.
func writeJoins(dir, path string) error {
	var b strings.Builder
	b.WriteString("Staff no,Surname,Watch\n")
	for i := range joins {
		fmt.Fprintf(&b, "%06d,Okafor,watch %d\n", i, i%joined)
	}
	const people = "brief: People\nmatch: [employeeNumber]\nfields:\n  employeeNumber: {from: Staff no}\n  familyName: {from: Surname}\n  userName: {make: '\"hand.\" + employeeNumber'}\n"
	const watches = "brief: Watches\nmatch: [employeeNumber]\nfields:\n  employeeNumber: {from: Staff no}\ngroups: {from: Watch}\n"
	return errors.Join(os.WriteFile(path, []byte(b.String()), 0o644),
		os.WriteFile(filepath.Join(dir, "people.yaml"), []byte(people), 0o644),
		os.WriteFile(filepath.Join(dir, "watches.yaml"), []byte(watches), 0o644))
}

// timeJoins times posting memberships of people who are there, in groups that are.
func timeJoins(program, dir, sheet string, flags ...string) (seconds float64, err error) {
	url, stop, err := practice(program, dir, 2*time.Millisecond, 100)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	groups := make([]string, joined)
	for i := range groups {
		groups[i] = fmt.Sprintf("watch %d", i)
	}
	if err := errors.Join(newLedger(dir), writeConfig(dir, url), seed(url+"/Groups", groupSchema, groups)); err != nil {
		return 0, err
	}
	for _, args := range [][]string{
		{"draft", sheet, "-b", filepath.Join(dir, "people.yaml")}, {"post", "1", "--yes"},
		{"draft", sheet, "-b", filepath.Join(dir, "watches.yaml")}, append([]string{"post", "2", "--yes"}, flags...),
	} {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN="+token)
		took, err := measure(cmd)
		if err != nil {
			return 0, err
		}
		seconds = took.wall.Seconds()
	}
	return seconds, nil
}
