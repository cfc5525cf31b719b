package host

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// minded are the characters that a host's tools take in a name, and shells or mail mind.
const minded = "$#!&;()<>|?[]{}~^@="

// Foresee implements system.Foreseer: it looks at home folders, groups and names before anything is drafted that would be refused for them.
func (c *client) Foresee(ctx context.Context, all []system.Intended) ([][]account.Finding, error) {
	told := make([][]account.Finding, len(all))
	if !slices.ContainsFunc(all, func(i system.Intended) bool {
		return i.Does == account.Remove || i.Known.ID == "" || concerns(i.Changes)
	}) {
		return told, nil
	}
	there, f, err := c.readAll(ctx)
	if err != nil {
		return nil, err
	}
	b := &block{}
	b.text.WriteString("look " + quoted(everyone) + "\n")
	people, err := c.do(ctx, "look at accounts", b)
	if err != nil {
		return nil, err
	}
	for n := range all { // what was asked for of the account before need not be what counts here
		if now, err := people.account(all[n].Known.ID); err == nil {
			all[n].Known = now
		}
	}
	names, lives := map[string]string{}, map[string][]string{}
	for _, a := range people.found {
		names[strings.ToLower(a.ID)] = a.ID
		home := a.Field("homeDirectory").Text()
		lives[home] = append(lives[home], a.ID)
	}
	var folders []string
	for _, i := range all {
		if home := c.homeAfter(f, i); home != "" {
			folders = append(folders, home, path.Dir(home))
		}
		folders = append(folders, i.Known.Field("homeDirectory").Text())
	}
	owner, err := c.ownersOf(ctx, folders)
	if err != nil {
		return nil, err
	}
	for n, i := range all {
		tell := func(level account.Level, code account.Code, field, format string, args ...any) {
			told[n] = append(told[n], account.Finding{Level: level, Code: code, Field: field, Message: fmt.Sprintf(format, args...)})
		}
		after, own := fieldsOf(i.Changes), i.Known.ID
		if i.Does == account.Remove {
			if home := i.Known.Field("homeDirectory").Text(); !c.homes.remove && owner[home] != "" {
				tell(account.Warning, account.StaysBehind, "homeDirectory", "the home folder %s stays on %s, with the user number %s: no new account is given that number by a brief, and nobody else should be", home, c.At, owner[home])
			}
			continue
		}
		if name := after["userName"].Text(); name != "" {
			if other := names[strings.ToLower(name)]; other != "" && other != own && other != name {
				tell(account.Warning, account.NearlyTheName, "userName", "“%s” and “%s”, who is there, differ only in capitals: mail and people take them for one", name, other)
			}
			if strings.ContainsAny(name, minded) {
				tell(account.Warning, account.NotSignInName, "userName", "“%s” holds what shells or mail mind", name)
			}
		}
		if home := c.homeAfter(f, i); home != "" {
			c.foreseeHome(i, home, owner, lives, tell)
		}
		if to := after["gidNumber"]; to.Filled() && own != "" && !foreseeGroup(there, people.found, i, to.Text()) {
			tell(account.Error, account.UnknownGroup, "gidNumber", "the host has no group of number %s, and the account's primary group is not one of its own alone", to.Text())
		}
	}
	return told, nil
}

// concerns reports whether changes are of what is looked at beforehand.
func concerns(changes []account.Change) bool {
	return slices.ContainsFunc(changes, func(c account.Change) bool {
		return slices.Contains([]string{"userName", "homeDirectory", "gidNumber"}, c.Field)
	})
}

// homeAfter is the home folder that an account gets; empty: it keeps its own.
func (c *client) homeAfter(f *facts, i system.Intended) string {
	home := fieldsOf(i.Changes)["homeDirectory"].Text()
	if name := fieldsOf(i.Changes)["userName"].Text(); home == "" && i.Known.ID == "" && i.Does != account.Remove && name != "" {
		home = f.homes + "/" + name
	}
	return home
}

// foreseeHome tells what is at the home folder that an account gets.
func (c *client) foreseeHome(i system.Intended, home string, owner map[string]string, lives map[string][]string, tell func(level account.Level, code account.Code, field, format string, args ...any)) {
	others := slices.DeleteFunc(slices.Clone(lives[home]), func(name string) bool { return name == i.Known.ID })
	uid := fieldsOf(i.Changes)["uidNumber"].Text()
	makes, moves := i.Known.ID == "" && c.homes.make, i.Known.ID != "" && c.homes.move
	switch was := i.Known.Field("homeDirectory").Text(); {
	case len(others) > 0 && (makes || moves):
		tell(account.Error, account.TakenValue, "homeDirectory", "%s is the home folder of %s", home, others[0])
	case len(others) > 0:
		tell(account.Warning, account.TakenValue, "homeDirectory", "%s is the home folder of %s as well", home, others[0])
	case makes && owner[home] != "" && owner[home] != uid:
		tell(account.Error, account.SystemRefused, "homeDirectory", "there is something at %s already, of user number %s, which the new account would be given", home, owner[home])
	case moves && owner[home] != "":
		tell(account.Error, account.SystemRefused, "homeDirectory", "there is something at %s already, of user number %s: the home folder cannot be moved there", home, owner[home])
	case (makes || moves) && owner[path.Dir(home)] == "" && path.Dir(home) != "/":
		tell(account.Error, account.SystemRefused, "homeDirectory", "there is no folder %s that %s could be in", path.Dir(home), home)
	case moves && owner[was] == "":
		tell(account.Warning, account.DoesNotFit, "homeDirectory", "there is no folder %s that could be moved: only the account's entry changes", was)
	case i.Known.ID != "" && !moves && owner[home] == "":
		tell(account.Warning, account.DoesNotFit, "homeDirectory", "there is no folder %s, and none is made or moved there (“homes: {move: true}” in evenledger.yaml moves the one that there is)", home)
	}
}

// foreseeGroup reports whether an account can get another number for its group: that of a group there is, or for the group of its own.
func foreseeGroup(there []group, people []account.Account, i system.Intended, to string) bool {
	was := i.Known.Field("gidNumber").Text()
	sharing := 0
	for _, a := range people {
		if a.Field("gidNumber").Text() == was {
			sharing++
		}
	}
	return slices.ContainsFunc(there, func(g group) bool {
		number := strconv.Itoa(g.number)
		return number == to || number == was && sharing == 1
	})
}

// ownersOf returns the user numbers of those folders that are there.
func (c *client) ownersOf(ctx context.Context, folders []string) (map[string]string, error) {
	owner := map[string]string{}
	slices.Sort(folders)
	folders = slices.DeleteFunc(slices.Compact(folders), func(folder string) bool {
		return !strings.HasPrefix(folder, "/") || strings.ContainsAny(folder, "\n\x00")
	})
	if len(folders) == 0 {
		return owner, nil
	}
	b := &block{}
	for some := range slices.Chunk(folders, mostFound) {
		b.text.WriteString("owners " + words(some...) + "\n")
	}
	_, err := c.doWith(ctx, "look at home folders", b, func(kind, text string) {
		if number, folder, is := strings.Cut(text, " "); kind == "O" && is {
			owner[folder] = number
		}
	})
	return owner, err
}

// Leftovers implements system.Foreseer: the user numbers of home folders, letters and the like.
func (c *client) Leftovers(ctx context.Context, field string) (numbers []string, err error) {
	_, f, err := c.open(ctx)
	if err != nil || field != "uidNumber" {
		return nil, err
	}
	b := &block{}
	b.text.WriteString("leftovers " + words(f.homes, "/var/mail", "/var/spool/cron/crontabs", "/var/lib/systemd/linger") + "\n")
	_, err = c.doWith(ctx, "look at what was left behind", b, func(kind, text string) {
		if kind == "L" {
			numbers = append(numbers, text)
		}
	})
	return numbers, err
}
