package host

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
)

// askDirectory adds to an answer the accounts that only a directory serves which the host asks,
// and, if all are to be asked for, says of the others whether they can be left to it.
func (c *client) askDirectory(ctx context.Context, a *answer, field string, values []string, all bool) error {
	if len(a.facts.sources) == 0 {
		for i := range a.found {
			if all {
				a.found[i].Refuses = map[string]string{local: fmt.Sprintf("%s asks no directory for accounts (“passwd:” in its /etc/nsswitch.conf)", c.At)}
			}
		}
		return nil
	}
	known := map[string]bool{}
	for _, found := range a.found {
		known[found.ID], known[found.Field("uidNumber").Text()] = true, true
	}
	var ask []string
	for _, v := range values {
		if (all && field != "uidNumber" || !known[v]) && v != "" && !strings.ContainsAny(v, ":\n") {
			ask = append(ask, v)
		}
	}
	if len(ask) == 0 {
		return nil
	}
	b, served := &block{}, map[string]int{}
	for some := range slices.Chunk(ask, mostFound) {
		b.text.WriteString("served " + words(some...) + "\n")
	}
	if _, err := c.doWith(ctx, "ask the directory", b, func(kind, text string) {
		source, line, _ := strings.Cut(text, " ")
		parts := strings.Split(line, ":")
		if kind != "D" || len(parts) != 7 {
			return
		}
		uid, err := strconv.Atoi(parts[2])
		_, here := a.accounts[parts[0]]
		if _, told := served[parts[0]]; told || err != nil || !a.facts.person(uid) {
			return // of several directories the first counts
		}
		if served[parts[0]] = uid; !here {
			a.passwd(strings.Join(slices.Delete(parts, 1, 2), ":"))
			elsewhere(&a.found[len(a.found)-1], a.facts, source)
		}
	}); err != nil || !all {
		return err
	}
	for i := range a.found {
		it := &a.found[i]
		switch uid, is := served[it.ID]; {
		case it.Fields[local].Text() != "true":
		case !is:
			it.Refuses = map[string]string{local: "no directory that the host asks serves the account yet"}
		case strconv.Itoa(uid) != it.Field("uidNumber").Text():
			it.Refuses = map[string]string{local: fmt.Sprintf("the directory serves the account with the user number %d, and here it is %s: its files would be nobody's. Give it one number first", uid, it.Field("uidNumber").Text())}
		}
	}
	return nil
}

// elsewhere marks an account as one that the host's own files do not have: nothing of it can
// be changed here, but that they have it.
func elsewhere(a *account.Account, f *facts, source string) {
	a.Version, a.Fields[local] = "", account.Of("false")
	why := fmt.Sprintf("the account is not in the host's own files: a directory serves it (%s)", source)
	a.Refuses = map[string]string{account.ID: why}
	for _, field := range f.attributes {
		if field.Field != local {
			a.Refuses[field.Field] = why
		}
	}
}

// verify sees whether the home folders are the accounts' own, and whether the host answers with
// the numbers that stand in its files: a name-service cache may still have others.
func (c *client) verify(ctx context.Context, a *answer) error {
	var names, homes []string
	at := map[string][]int{}
	for i, found := range a.found {
		if home := found.Field("homeDirectory").Text(); found.Fields[local].Text() == "true" {
			names = append(names, found.ID)
			if strings.HasPrefix(home, "/") && home != "/" && !strings.ContainsAny(home, "\n") {
				if at[home] == nil {
					homes = append(homes, home)
				}
				at[home] = append(at[home], i)
			}
		}
	}
	if len(names) == 0 {
		return nil
	}
	b, there := &block{}, map[string]bool{}
	for some := range slices.Chunk(homes, mostFound) {
		b.text.WriteString("owners " + words(some...) + "\n")
	}
	for some := range slices.Chunk(names, mostFound) {
		b.text.WriteString("seen " + words(some...) + "\n")
	}
	_, err := c.doWith(ctx, "verify numbers", b, func(kind, text string) {
		switch kind {
		case "O":
			owner, home, _ := strings.Cut(text, " ")
			there[home] = true
			for _, i := range at[home] {
				if it := &a.found[i]; owner != it.Field("uidNumber").Text() && len(at[home]) == 1 {
					it.Amiss = append(it.Amiss, fmt.Sprintf("the home folder %s belongs to the user number %s, and the account has %s", home, owner, it.Field("uidNumber").Text()))
				}
			}
		case "V":
			name, number, _ := strings.Cut(text, ":")
			if i, known := a.accounts[name]; known && number != a.found[i].Field("uidNumber").Text() {
				it := &a.found[i]
				it.Amiss = append(it.Amiss, fmt.Sprintf("%s still answers with the user number %s for %s, and its files have %s: a name-service cache. It passes by itself (--within waits); “nscd -i passwd” or “sss_cache -u %s” on the host flushes it", c.At, number, name, it.Field("uidNumber").Text(), name))
			}
		}
	})
	for _, home := range homes {
		for _, i := range at[home] {
			if err == nil && c.homes.make && !there[home] {
				a.found[i].Amiss = append(a.found[i].Amiss, fmt.Sprintf("the home folder %s is not there", home))
			}
		}
	}
	return err
}
