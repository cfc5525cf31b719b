package ldap

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/told"
)

// longestSaid is how much of what a server says is told, in bytes.
const longestSaid = 300

// isBroken reports whether an error is of the connection and no answer. The library counts
// its own from 200 on, and has errors of the network that are none of its own.
func isBroken(err error) bool {
	if err == nil {
		return false
	}
	var told *ldap.Error
	return !errors.As(err, &told) || told.ResultCode >= ldap.ErrorNetwork && told.ResultCode != ldap.ErrorFilterCompile
}

// codeOf returns the result code of an answer to one request (RFC 4511 section 4.1.9);
// success where none came, or where it is of more than the request.
func codeOf(err error) uint16 {
	if told := answerIn(err); told != nil {
		return told.ResultCode
	}
	return ldap.LDAPResultSuccess
}

// answerIn is the answer that an error is of one request; nil: none came, or it is of more than the request.
func answerIn(err error) *ldap.Error {
	switch err := err.(type) {
	case *answered:
		return err.told
	case *ldap.Error:
		if !isBroken(err) {
			return err
		}
	}
	return nil
}

// An answered is the answer to one request that is no success. Whoever asked knows what it means; else it is told as it is.
type answered struct {
	what, by string // was asked, and of whom
	said     string // by the server
	told     *ldap.Error
}

func (a *answered) Error() string {
	text := fmt.Sprintf("%s: %s answered %s (%d)", a.what, a.by, strings.ToLower(ldap.LDAPResultCodeMap[a.told.ResultCode]), a.told.ResultCode)
	if a.said != "" {
		text += ": " + a.said
	}
	return text
}

func (a *answered) Unwrap() error { return a.told }

// Tell implements told.Error.
func (a *answered) Tell() told.Telling {
	return told.Telling{Class: told.Away, Message: a.Error(), Remedy: "Ask who runs the server."}
}

// errIncomplete marks an answer that was cut short.
var errIncomplete = errors.New("the answer was cut short")

// judge turns an answer that is no success into an error. Those of single requests, such
// as that there is no such entry, are left to the one who asked.
func (c *client) judge(o operation, err error) error {
	if err == nil {
		return nil
	}
	if isBroken(err) {
		broken := &system.Unavailable{Message: fmt.Sprintf("%s: %s gave no answer: %s", o.what, c.url, plainly(err)), Remedy: "Look whether the server runs, and at the network. What was done is in the ledger.", Err: err}
		if o.safe {
			return &again{broken}
		}
		return &system.Unclear{Err: broken}
	}
	var told *ldap.Error
	errors.As(err, &told)
	unavailable := func(remedy, format string, args ...any) error {
		return &system.Unavailable{Message: fmt.Sprintf("%s: ", o.what) + fmt.Sprintf(format, args...), Remedy: remedy, Err: err}
	}
	said := c.said(told)
	switch told.ResultCode {
	case ldap.LDAPResultBusy, ldap.LDAPResultUnavailable:
		return &again{unavailable("Try again later, or set a pace in evenledger.yaml, such as “rate: 50/s”.", "%s is busy and stayed so (%d)%s", c.url, told.ResultCode, whyNot(said))}
	case ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		return &system.Unavailable{Message: fmt.Sprintf("%s: %s cut its answer short (%d %s), so that not all is known%s", o.what, c.url, told.ResultCode, strings.ToLower(ldap.LDAPResultCodeMap[told.ResultCode]), whyNot(said)), Remedy: "Ask who runs the server to let this user read more at once.", Err: errors.Join(errIncomplete, err)}
	case ldap.LDAPResultConfidentialityRequired, ldap.LDAPResultStrongAuthRequired:
		return unavailable("Use ldaps:// in evenledger.yaml.", "%s wants TLS for this (%d)%s", c.url, told.ResultCode, whyNot(said))
	case ldap.LDAPResultReferral:
		return unavailable("If that is the server that takes changes, put it as url into evenledger.yaml.", "%s keeps this elsewhere%s", c.url, whyNot(said))
	case ldap.LDAPResultOther, ldap.LDAPResultOperationsError:
		failed := unavailable("Ask who runs the server.", "%s cannot answer (%d)%s", c.url, told.ResultCode, whyNot(said))
		if !o.safe {
			return &system.Unclear{Err: failed} // it may have been carried out all the same
		}
		return failed
	}
	return &answered{o.what, c.url, said, told}
}

// said is what a server says of its no, without any secret in it.
func (c *client) said(told *ldap.Error) string {
	text := ""
	if told.Err != nil {
		text = told.Err.Error()
	}
	text = strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "")), " ")
	if text = c.mask.Hide(text); len(text) > longestSaid {
		text = strings.ToValidUTF8(text[:longestSaid], "") + "…"
	}
	return text
}

// plainly is an error of the network without what the message says already.
func plainly(err error) string {
	var told *ldap.Error
	if errors.As(err, &told) && told.Err != nil {
		err = told.Err
	}
	return err.Error()
}

var (
	namesAttribute = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*): `)                                   // “mail: value #0 invalid per syntax”
	lacks          = regexp.MustCompile(`requires attribute '([^']+)'`)                                 // “object class … requires attribute 'sn'”
	taken          = regexp.MustCompile(`non-unique attributes found with .*\(\(?([A-Za-z-]+)=`)        // “… with (|(mail=…))”
	alreadyHas     = regexp.MustCompile(`same attribute value already exists \(attribute: "([^"]*)"\)`) // “… (attribute: "uid mail ")”, all that must be unique
)

// refusal puts a server's no to a change of one account into plain words. Codes mean other
// things with other servers, so that what is said counts as well.
func (c *client) refusal(err error) error {
	told := answerIn(err)
	if told == nil {
		return err
	}
	said := c.said(told)
	no := &system.Refusal{Code: account.SystemRefused}
	words := ""
	switch code := told.ResultCode; {
	case code == ldap.LDAPResultEntryAlreadyExists:
		no.Code, words = account.TakenValue, "there is an entry of that name already"
	case code == ldap.LDAPResultConstraintViolation && (strings.Contains(said, "non-unique") || strings.Contains(said, "already in use")):
		no.Code, words = account.TakenValue, "another account already has a value that must be unique"
		no.Field = c.fieldAt(taken, said)
	case code == ldap.LDAPResultConstraintViolation && alreadyHas.MatchString(said):
		no.Code, words = account.TakenValue, "another account already has a value that must be unique"
		if all := strings.Fields(alreadyHas.FindStringSubmatch(said)[1]); len(all) == 1 && c.known != nil {
			no.Field = c.known.fieldOf(all[0])
		}
	case code == ldap.LDAPResultConstraintViolation && (strings.Contains(strings.ToLower(said), "password") || strings.Contains(said, "0000052D")):
		no.Field, words = "password", "the server's rules do not let the password be"
	case code == ldap.LDAPResultConstraintViolation:
		no.Field, words = c.fieldAt(namesAttribute, said), "a value breaks a rule of the server"
	case code == ldap.LDAPResultNoSuchObject:
		no.Field, words = unit, "there is no such place in the directory"
	case code == ldap.LDAPResultObjectClassViolation && lacks.MatchString(said):
		no.Code, no.Field, words = account.BlankRequired, c.fieldAt(lacks, said), "an attribute that must be there is missing"
	case code == ldap.LDAPResultObjectClassViolation:
		words = "the classes of the entry do not go together with what it has"
	case code == ldap.LDAPResultUndefinedAttributeType, code == ldap.LDAPResultNoSuchAttribute:
		no.Code, no.Field, words = account.UnknownField, c.fieldAt(namesAttribute, said), "the directory does not know an attribute, or the value to be taken away is not there"
	case code == ldap.LDAPResultInvalidAttributeSyntax:
		no.Field, words = c.fieldAt(namesAttribute, said), "a value is not written as the directory wants it"
	case code == ldap.LDAPResultAttributeOrValueExists:
		words = "the value is there already"
	case code == ldap.LDAPResultInsufficientAccessRights:
		words = "we have no right to do this"
	case code == ldap.LDAPResultNotAllowedOnNonLeaf:
		words = "there are entries beneath it, which have to go first"
	case code == ldap.LDAPResultNotAllowedOnRDN, code == ldap.LDAPResultNamingViolation:
		words = "the entry is called by this"
	case code == ldap.LDAPResultUnwillingToPerform:
		words = "the server does not do this"
	default:
		words = "the server refused it"
	}
	no.Message = fmt.Sprintf("%s (%d %s)", words, told.ResultCode, strings.ToLower(ldap.LDAPResultCodeMap[told.ResultCode]))
	if said != "" {
		no.Message += "; the server says: " + said
	}
	return no
}

// fieldAt returns the field whose attribute stands in what a server says.
func (c *client) fieldAt(pattern *regexp.Regexp, said string) string {
	found := pattern.FindStringSubmatch(said)
	if found == nil || c.known == nil {
		return ""
	}
	return c.known.fieldOf(found[1])
}

// traced writes down what was asked and what became of it. What was written into entries
// stands not in it: passwords may be a part of it.
func (c *client) traced(o operation, err error, took time.Duration) {
	if c.work.Trace == nil {
		return
	}
	answer := "success"
	if err != nil {
		answer = c.mask.Hide(plainly(err))
		if code := codeOf(err); code != ldap.LDAPResultSuccess {
			answer = fmt.Sprintf("%d %s", code, answer)
		}
	}
	told := []any{"what", c.mask.Hide(o.what), "answer", answer, "after", took.Round(time.Millisecond).String()}
	for _, one := range o.more {
		told = append(told, c.mask.Hide(fmt.Sprint(one)))
	}
	c.work.Trace.Info("asked", told...)
}
