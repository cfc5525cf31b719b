package host

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// refuseValues says no to what the host's files cannot hold, before anything is sent.
func refuseValues(f *facts, fields map[string]account.Value) error {
	for field, value := range fields {
		i := slices.IndexFunc(f.attributes, func(a account.Attribute) bool { return a.Field == field })
		if i < 0 && value.Filled() {
			return &system.Refusal{Code: account.UnknownField, Field: field, Message: fmt.Sprintf("a host's accounts have no field %s", field)}
		}
		if i < 0 || !value.Present() {
			continue
		}
		why := ""
		if refuses := f.attributes[i].Refuses; refuses != nil && (value.Filled() || field == "userName") {
			why = refuses(value.Text())
		}
		if why != "" {
			return &system.Refusal{Code: account.NotAllowedValue, Field: field, Message: fmt.Sprintf("“%s” %s", strings.Join(strings.Fields(value.Text()), " "), why)}
		}
	}
	return nil
}

// plain says why a text cannot stand in a line of the host's files.
func plain(text string) string {
	if strings.ContainsAny(text, ":\n\r\x00") {
		return "cannot stand in the host's files: no colon and no line break can"
	}
	return ""
}

func noName(text string) string {
	switch {
	case text == "", strings.ContainsAny(text, "/,* \t'\"`\\%"), strings.HasPrefix(text, "-"), strings.HasPrefix(text, "+"):
		return "cannot be the name of an account on a host"
	case strings.Trim(text, "0123456789") == "":
		return "cannot be the name of an account on a host: the host's tools take it for a number"
	}
	return plain(text)
}

func noPath(text string) string {
	if !strings.HasPrefix(text, "/") {
		return "is no full path"
	}
	if text != path.Clean(text) || text == "/" {
		return "is no plain path: it leads through “..”, or has “.” or “//” in it"
	}
	for _, top := range []string{"/root", "/etc", "/boot", "/dev", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/usr", "/proc", "/sys", "/run", "/lost+found"} {
		if text == top || strings.HasPrefix(text, top+"/") || slices.Contains([]string{"/home", "/var", "/srv", "/opt", "/mnt", "/media", "/tmp", "/var/lib", "/var/mail", "/var/spool"}, text) {
			return "is a folder of the host itself, and nobody's home"
		}
	}
	return plain(text)
}

// noNumber says why a text is no number of a person's account: those below give rights.
func (f *facts) noNumber(text string) string {
	if number, err := strconv.Atoi(text); err != nil || !f.person(number) {
		return fmt.Sprintf("is none of the user numbers of people, which begin with %d on this host (UID_MIN of /etc/login.defs)", f.least)
	}
	return ""
}

func (f *facts) noGroup(text string) string {
	if number, err := strconv.Atoi(text); err != nil || number < f.leastGroup && number != usersGroup {
		return fmt.Sprintf("may be a group that gives rights over the host: those of people begin with %d (GID_MIN of /etc/login.defs)", f.leastGroup)
	}
	return ""
}

// usersGroup is the number of the group “users”, by custom.
const usersGroup = 100

// signalled is added by a shell to the number of the signal that ended a program (POSIX.1-2017, Shell, 2.8.2, leaves
// more than 128 to it; all shells of hosts do this).
const signalled = 128

// trouble puts what a tool ended with into words. The codes are those of the manual pages of
// shadow-utils, under “exit values”.
func (c *client) trouble(r result, fields map[string]account.Value) error {
	said := c.work.Mask.Hide(r.said)
	if r.code > signalled && r.code <= signalled+64 { // it said nothing: what it did before is not known
		return &system.Unclear{Err: fmt.Errorf("at the step “%s” a program of %s was ended by signal %d: %s", r.step, c.At, r.code-signalled, said)}
	}
	of := func(field string) string { return fields[field].Text() }
	refuse := func(code account.Code, field, format string, args ...any) error {
		message := fmt.Sprintf(format, args...)
		if said != "" {
			message += " (" + said + ")"
		}
		return &system.Refusal{Code: code, Field: field, Message: message}
	}
	switch lower := strings.ToLower(said); {
	case r.step == "halted":
		return &system.Unavailable{Message: fmt.Sprintf("%s took no more of them: the account before met a user database that cannot be written", c.At), Remedy: "Look what became of the account before."}
	case strings.Contains(lower, "lock file"), strings.Contains(lower, "annot lock"):
		return &system.Unavailable{Message: fmt.Sprintf("the user database of %s is locked by another program, and stayed so: %s", c.At, said), Remedy: "Look there whether somebody is at it (vipw, another tool); a lock that was left behind is a file such as /etc/passwd.lock."}
	case strings.Contains(lower, "no space left"), strings.Contains(lower, "quota exceeded"), strings.Contains(lower, "read-only file system"):
		return &system.Unavailable{Message: fmt.Sprintf("%s has no room, or may not be written to: %s", c.At, said), Remedy: "Make room on the host."}
	case r.step == "home-short":
		return &system.Unavailable{Message: fmt.Sprintf("a new home folder on %s was not filled from /etc/skel: there is likely no room", c.At), Remedy: "Make room on the host. The account was taken away again."}
	case r.step == "home-nowhere":
		return refuse(account.SystemRefused, "homeDirectory", "there is no folder that the home folder could be moved into")
	case r.step == "home-room":
		return refuse(account.SystemRefused, "homeDirectory", "there is no room for the home folder where it is to be moved")
	case r.step == "home-there" && fields["userName"].Text() == "":
		return refuse(account.SystemRefused, "homeDirectory", "there is something already where the home folder is to be moved")
	case r.step == "home-there":
		return refuse(account.SystemRefused, "homeDirectory", "there is something at the home folder already, which a new account would be given")
	}
	switch r.step {
	case "not-served":
		return refuse(account.KeptElsewhere, local, "no directory that the host asks serves the account yet")
	case "other-number":
		return refuse(account.KeptElsewhere, local, "the directory serves the account with another user number, so that its files would be nobody's: give it one number first")
	case "no-such-group":
		return refuse(account.UnknownGroup, "gidNumber", "the host has no group of number %s, and the account's primary group is not one of its own alone", of("gidNumber"))
	case "regroup":
		return refuse(account.PartlyDone, local, "the account was taken out of the host's own files, and one of its groups could not be kept")
	case "retire":
		if r.code == 8 {
			return refuse(account.SystemRefused, local, "the person is signed in, or something of theirs runs; end it on the host, or try again later")
		}
	}
	switch r.step + " " + strconv.Itoa(r.code) {
	case "account 9":
		return refuse(account.TakenValue, "userName", "the host has an account “%s” already, or knows one from a directory", of("userName"))
	case "account 4":
		return refuse(account.TakenValue, "uidNumber", "the user number %s is somebody's already", of("uidNumber"))
	case "account 6":
		if _, group := fields["gidNumber"]; group {
			return refuse(account.UnknownGroup, "gidNumber", "the host has no group of number %s", of("gidNumber"))
		}
		return system.ErrGone
	case "account 3":
		return refuse(account.NotAllowedValue, "", "the host does not take one of the values")
	case "account 8":
		return refuse(account.SystemRefused, "", "the person is signed in, or something of theirs runs; end it on the host, or try again later")
	case "home 12", "home 1":
		return refuse(account.SystemRefused, "homeDirectory", "the home folder could not be moved; the account has the one that it had")
	case "account 12":
		return refuse(account.SystemRefused, "homeDirectory", "the home folder could not be made, moved or removed")
	case "group 4", "group 9":
		return refuse(account.TakenValue, "gidNumber", "the group of the account's own could not be made, as its name or number is taken")
	case "account 2":
		return refuse(account.SystemRefused, "", "the host's tools are of a kind that does not know one of the options")
	}
	if r.step == "password" {
		return refuse(account.SystemRefused, "password", "the password could not be set")
	}
	return refuse(account.SystemRefused, "", "the host said no, with exit code %d at the step “%s”", r.code, r.step)
}
