package host

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// groups is the one kind of things that a host has.
const groups = "groups"

// mostTies is how many members join or leave at once: a group's line is written anew.
const mostTies = 1000

// readGroups prints /etc/group.
const readGroups = `sed -nE "s/^([^:]*):[^:]*:(.*)/$M G \1:\2/p" /etc/group` + "\n"

// A group is a line of /etc/group.
type group struct {
	name    string
	number  int
	members []string
	private bool // it is just the group of one account's own
}

// readAll reads the groups and the accounts.
func (c *client) readAll(ctx context.Context) (all []group, f *facts, err error) {
	b, seen := &block{}, map[string]bool{}
	b.text.WriteString(readGroups + "look " + quoted(everyone) + "\n")
	a, err := c.doWith(ctx, "list groups", b, func(kind, text string) {
		parts := strings.Split(text, ":")
		if kind != "G" || len(parts) != 3 {
			return
		}
		number, err := strconv.Atoi(parts[1])
		if err != nil || seen[parts[0]] {
			return // of two lines of a name the first counts, as for the host itself
		}
		seen[parts[0]] = true
		g := group{name: parts[0], number: number}
		for member := range strings.SplitSeq(parts[2], ",") {
			if member != "" && !slices.Contains(g.members, member) {
				g.members = append(g.members, member)
			}
		}
		all = append(all, g)
	})
	if err != nil {
		return nil, nil, err
	}
	owners := map[string][]string{}
	for _, found := range a.found {
		gid := found.Field("gidNumber").Text()
		owners[gid] = append(owners[gid], found.ID)
	}
	for i, g := range all {
		of := owners[strconv.Itoa(g.number)]
		all[i].private = len(of) == 1 && len(g.members) == 0 && g.number >= a.facts.leastGroup
	}
	return all, a.facts, nil
}

func (g group) thing(f *facts) account.Thing {
	return account.Thing{ID: g.name, Name: g.name, Members: len(g.members), Seats: -1, Elevated: g.elevated(f)}
}

// elevated reports whether a group may give rights over the host: which of the system's own
// do, such as those of disks, containers and sudo, nobody can tell by looking at them.
func (g group) elevated(f *facts) bool { return g.number < f.leastGroup && g.number != usersGroup }

// Things implements system.System. The group of an account's own, which nobody else is in,
// is part of the account.
func (c *client) Things(ctx context.Context, kind string, _ bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		if kind != groups {
			yield(account.Thing{}, system.ErrCannot)
			return
		}
		all, f, err := c.readAll(ctx)
		if err != nil {
			yield(account.Thing{}, err)
			return
		}
		for _, g := range all {
			if !g.private && !yield(g.thing(f), nil) {
				return
			}
		}
	}
}

// Members implements system.System. Who is in a group because it is the account's primary
// one is not told: that is the account's gidNumber.
func (c *client) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		if kind != groups {
			yield(account.Membership{}, system.ErrCannot)
			return
		}
		all, _, err := c.readAll(ctx)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		for _, g := range all {
			if things != nil && !slices.Contains(things, g.name) {
				continue
			}
			for _, member := range g.members {
				if !yield(account.Membership{Kind: groups, Thing: g.name, Account: member}, nil) {
					return
				}
			}
		}
	}
}

// Tie implements system.System: the group's line is written anew, if it is as it was read.
func (c *client) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	if kind != groups {
		return system.ErrCannot
	}
	for range 5 {
		line, err := c.groupLine(ctx, thing)
		if err != nil {
			return err
		}
		members, err := joined(thing, line, ties)
		if err != nil {
			return err
		}
		b := &block{may: may}
		b.own(thing, fmt.Sprintf(`{ [ "$(sed -nE %s /etc/group)" = %s ] || no not-as-it-was; } && try members gpasswd -M %s -- %s`, quoted("/^"+pattern([]string{thing})+":/p"), quoted(line), quoted(strings.Join(members, ",")), quoted(thing)))
		b.names = nil
		a, err := c.one(ctx, "change a group", b)
		if errors.Is(err, system.ErrChanged) {
			continue // somebody was faster; what is gone shows when it is read again
		}
		if err != nil {
			return err
		}
		switch r := a.results[0]; {
		case r.code == 3: // gpasswd looks whether each of them is there
			return &system.Refusal{Code: account.AccountGone, Message: "one of the accounts is not there any more (" + c.work.Mask.Hide(r.said) + ")"}
		case r.code != 0:
			return c.trouble(r, nil)
		}
		return nil
	}
	return &system.Refusal{Code: account.Stale, Message: "the group kept changing while it was to be changed"}
}

// groupLine returns the line of a group in /etc/group.
func (c *client) groupLine(ctx context.Context, name string) (line string, err error) {
	b := &block{}
	fmt.Fprintf(&b.text, "sed -nE \"s/^%s:.*/$M G &/p\" /etc/group\n", doubly(pattern([]string{name})))
	lines := 0
	_, err = c.doWith(ctx, "look at a group", b, func(kind, text string) {
		if kind == "G" {
			line = text
			lines++
		}
	})
	switch {
	case err != nil:
		return "", err
	case lines == 0:
		return "", system.ErrGone
	case lines > 1:
		return "", &system.Refusal{Code: account.TwoOfThatName, Message: fmt.Sprintf("/etc/group has %d lines for %s", lines, name)}
	}
	return line, nil
}

// doubly is a text within double quotes of a shell.
func doubly(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(text)
}

// joined is who is in a group after the changes.
func joined(name, line string, ties []system.Tie) ([]string, error) {
	parts := strings.Split(line, ":")
	if len(parts) != 4 {
		return nil, &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the line of %s in /etc/group cannot be understood", name)}
	}
	var members []string
	for member := range strings.SplitSeq(parts[3], ",") {
		if member != "" {
			members = append(members, member)
		}
	}
	for _, t := range ties {
		in := slices.Contains(members, t.Account)
		switch {
		case strings.ContainsAny(t.Account, ",:\n"):
			return nil, &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("“%s” cannot stand in /etc/group", t.Account)}
		case t.Leave:
			members = slices.DeleteFunc(members, func(m string) bool { return m == t.Account })
		case !in:
			members = append(members, t.Account)
		}
	}
	return members, nil
}

// MakeThing implements system.System.
func (c *client) MakeThing(ctx context.Context, may system.Permit, kind, name string, first []system.Tie) (account.Thing, error) {
	if kind != groups {
		return account.Thing{}, system.ErrCannot
	}
	if name == "" || strings.ContainsAny(name, ":,/ \t\r\n") || strings.HasPrefix(name, "-") {
		return account.Thing{}, &system.Refusal{Code: account.NotAllowedValue, Message: fmt.Sprintf("“%s” cannot be the name of a group on a host", name)}
	}
	b := &block{may: may}
	b.own(name, "try thing groupadd -- "+quoted(name))
	b.names = nil
	a, err := c.one(ctx, "make a group", b)
	if err != nil {
		return account.Thing{}, err
	}
	switch r := a.results[0]; r.code {
	case 0:
	case 9:
		return account.Thing{}, &system.Refusal{Code: account.TakenValue, Message: fmt.Sprintf("the host has a group “%s” already, or knows one from a directory", name)}
	case 3:
		return account.Thing{}, &system.Refusal{Code: account.NotAllowedValue, Message: fmt.Sprintf("the host does not take “%s” as a group's name", name)}
	default:
		return account.Thing{}, c.trouble(r, nil)
	}
	thing := account.Thing{ID: name, Name: name, Seats: -1}
	if len(first) > 0 {
		err = c.Tie(ctx, may, kind, name, first)
		thing.Members = len(first)
	}
	return thing, err
}

// RemoveThing implements system.System. What holds files or is an account's primary group
// is not looked for: groupdel says no to the latter.
func (c *client) RemoveThing(ctx context.Context, may system.Permit, kind, thing string) error {
	if kind != groups {
		return system.ErrCannot
	}
	b := &block{may: may}
	b.own(thing, "try thing groupdel -- "+quoted(thing))
	b.names = nil
	a, err := c.one(ctx, "remove a group", b)
	if err != nil {
		return err
	}
	switch r := a.results[0]; r.code {
	case 0:
		return nil
	case 6:
		return system.ErrGone
	case 8:
		return &system.Refusal{Code: account.SystemRefused, Message: "it is the primary group of an account"}
	default:
		return c.trouble(r, nil)
	}
}

// one carries out a block about one group.
func (c *client) one(ctx context.Context, what string, b *block) (*answer, error) {
	a, err := c.do(ctx, what, b)
	if err != nil && a == nil {
		return nil, err
	}
	r := a.results[0]
	switch {
	case !r.came:
		return nil, err
	case r.step == "not-as-it-was":
		return nil, system.ErrChanged
	case err != nil: // it is done or was refused, and how it looks was not seen any more
		if r.code == 0 {
			return nil, &system.Unclear{Err: err}
		}
	}
	return a, nil
}
