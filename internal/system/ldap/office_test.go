package ldap

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
)

var officeFields = []string{"userName", "formattedName", "title", "manager", "unit", "active"}

func clerk(login, name, place string) account.Account {
	return account.Account{Password: "Quay-and-harbour-77", Fields: map[string]account.Value{"userName": account.Of(login), "formattedName": account.Of(name), "title": account.Of("Clerk"), "unit": account.Of(place)}}
}

// openOffice returns a client for a peer of its own.
func openOffice(t *testing.T, change ...func(*connection)) (*client, *peer) {
	p, addr, secure := newPeer(t)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	certificate, err := x509.ParseCertificate(secure.Certificates[0].Certificate[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Raw}), 0o600))
	c := connection{url: "ldaps://" + addr, user: "office@office.example", ca: ca, base: office, people: "OU=people," + office, groups: "OU=groups," + office, page: 500, attributes: map[string]string{}}
	for _, f := range change {
		f(&c)
	}
	opened, err := newClient(c, "right", system.Work{Together: 3, Timeout: 5 * time.Second, Mask: secret.NewMask()})
	require.NoError(t, err)
	return opened, p
}

// The same is asked of a peer in this test and, where one is named, of a real server of
// the kind: OFFICE_URL, OFFICE_USER, OFFICE_PASSWORD, OFFICE_CA and OFFICE_BASE, beneath which
// a unit is made and taken away.
func TestOffice(t *testing.T) {
	t.Run("peer", func(t *testing.T) {
		c, p := openOffice(t)
		p.ranges = 4
		theOffice(t, c, "Deck")
	})
	t.Run("real", func(t *testing.T) {
		if os.Getenv("OFFICE_URL") == "" {
			t.Skip("no server is named")
		}
		c := connection{url: os.Getenv("OFFICE_URL"), user: os.Getenv("OFFICE_USER"), ca: os.Getenv("OFFICE_CA"), base: os.Getenv("OFFICE_BASE"), page: 500, attributes: map[string]string{}}
		c.people, c.groups = c.base, c.base
		opened, err := newClient(c, os.Getenv("OFFICE_PASSWORD"), system.Work{Together: 3, Timeout: 10 * time.Second, Mask: secret.NewMask()})
		require.NoError(t, err)
		made, err := opened.MakeThing(t.Context(), nil, unitsKind, "Trial of tests", nil)
		require.NoError(t, err)
		theOffice(t, opened, "Trial of tests")
		for m, err := range opened.Members(t.Context(), unitsKind, []string{made.ID}) {
			require.NoError(t, err)
			_ = systemtest.Remove(t.Context(), nil, opened, account.Account{ID: m.Account})
		}
		require.NoError(t, opened.RemoveThing(t.Context(), nil, unitsKind, made.ID))
	})
}

func theOffice(t *testing.T, c *client, place string) {
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"userName", "active"}, []string{about.Naming, about.Suspension.Field})
	for _, a := range about.Attributes {
		assert.False(t, a.Required && a.Field != "userName" && a.Field != "formattedName", "%s: the server fills in the rest", a.Field)
		assert.NotEqual(t, "member", a.Field)
	}
	login, _ := about.Attribute("userName")
	assert.Equal(t, 20, login.Longest)
	assert.Greater(t, about.Rules.Shortest, 5, "the domain tells what it wants of passwords")
	assert.Equal(t, 3, about.Rules.Kinds)
	assert.Equal(t, account.AnyCase, about.Field("userName").Rule)

	ana, err := systemtest.Create(t.Context(), nil, c, clerk("ana.reyes", "Ana Reyes", place), officeFields)
	require.NoError(t, err)
	assert.Equal(t, []string{"true", place}, []string{ana.Field("active").Text(), ana.Field("unit").Text()})
	without := clerk("tom.kaya", "Tom Kaya, Jr", place)
	without.Password = ""
	without.Fields["manager"] = account.Of(ana.ID)
	tom, err := systemtest.Create(t.Context(), nil, c, without, officeFields)
	require.NoError(t, err)
	assert.Equal(t, []string{"false", ana.ID}, []string{tom.Field("active").Text(), tom.Field("manager").Text()}, "nobody is let in without a password")

	var refusal *system.Refusal
	_, err = systemtest.Create(t.Context(), nil, c, clerk("ANA.REYES", "Another", place), officeFields)
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, account.TakenValue, refusal.Code)
	weak := clerk("mei.lin", "Mei Lin", place)
	weak.Password = "short"
	_, err = systemtest.Create(t.Context(), nil, c, weak, officeFields)
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, "password", refusal.Field)
	assert.NotContains(t, refusal.Message, "short")

	renews := []account.Change{{Field: renewal, After: account.Of("true")}}
	require.ErrorAs(t, systemtest.SetPassword(t.Context(), nil, c, ana, "short", renews), &refusal)
	assert.Equal(t, "password", refusal.Field)
	require.NoError(t, systemtest.SetPassword(t.Context(), nil, c, ana, "Another-quay-78", renews))
	ana, err = c.Get(t.Context(), ana.ID, append(slices.Clone(officeFields), renewal))
	require.NoError(t, err)
	assert.Equal(t, "true", ana.Field(renewal).Text())

	for _, off := range []bool{true, false} {
		ana, err = system.Change(t.Context(), nil, c, ana, []account.Change{about.Mark(&ana, off)}, officeFields)
		require.NoError(t, err)
		assert.Equal(t, off, about.IsSuspended(&ana))
	}
	was := ana.ID
	ana, err = system.Change(t.Context(), nil, c, ana, []account.Change{{Field: "formattedName", Before: account.Of("Ana Reyes"), After: account.Of(`Ana "Nan" Reyes, MBE`)}, {Field: "title", Before: account.Of("Clerk"), After: account.Of("Lead")}}, officeFields)
	require.NoError(t, err)
	assert.Equal(t, []string{was, "Lead", `Ana "Nan" Reyes, MBE`}, []string{ana.ID, ana.Field("title").Text(), ana.Field("formattedName").Text()}, "she is the same, whatever she is called")
	tom, err = c.Get(t.Context(), tom.ID, officeFields)
	require.NoError(t, err)
	assert.Equal(t, ana.ID, tom.Field("manager").Text(), "and still his manager")

	var made []account.Account
	for i := range 9 {
		one := clerk(fmt.Sprint("crew", i), fmt.Sprint("Crew ", i), place)
		made = append(made, one)
	}
	all, err := c.Apply(t.Context(), nil, systemtest.Making(made...), officeFields)
	require.NoError(t, err)
	var joins []system.Tie
	for _, one := range all {
		require.NoError(t, one.Err)
		joins = append(joins, system.Tie{Account: one.Account.ID})
	}
	group, err := c.MakeThing(t.Context(), nil, groupsKind, "Night watch of tests", nil)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.RemoveThing(context.Background(), nil, groupsKind, group.ID) })
	require.NoError(t, c.Tie(t.Context(), nil, groupsKind, group.ID, joins))
	in := members(t, c, group.ID)
	assert.Len(t, in, 9, "however few of them an answer has")
	require.ErrorAs(t, c.Tie(t.Context(), nil, groupsKind, group.ID, []system.Tie{{Account: tom.ID}, {Account: all[0].Account.ID}}), &refusal, "one is a member already")
	assert.Len(t, members(t, c, group.ID), 9, "all or none")
	require.NoError(t, c.Tie(t.Context(), nil, groupsKind, group.ID, []system.Tie{{Account: all[0].Account.ID, Leave: true}}))
	assert.NotContains(t, members(t, c, group.ID), all[0].Account.ID)

	require.NoError(t, systemtest.Remove(t.Context(), nil, c, tom))
	_, err = c.Get(t.Context(), tom.ID, officeFields)
	assert.ErrorIs(t, err, system.ErrGone)
}

func members(t *testing.T, c *client, group string) (ids []string) {
	for m, err := range c.Members(t.Context(), groupsKind, []string{group}) {
		require.NoError(t, err)
		ids = append(ids, m.Account)
	}
	slices.Sort(ids)
	return ids
}

// Whatever becomes of a request, it is told as what it is: done, not done, or not clear.
func TestOddAnswers(t *testing.T) {
	var open *system.Unclear
	var down *system.Unavailable
	var no *system.Refusal
	once := func(op string, code uint16, cut bool) func(string, string) (uint16, bool) {
		done := false
		return func(asked, dn string) (uint16, bool) {
			if asked != op || done || dn == "" {
				return 0, false
			}
			done = true
			return code, cut
		}
	}
	always := func(op string, code uint16) func(string, string) (uint16, bool) {
		return func(asked, dn string) (uint16, bool) {
			if asked == op && dn != "" {
				return code, false
			}
			return 0, false
		}
	}
	for name, test := range map[string]struct {
		odd   func(string, string) (uint16, bool)
		check func(*testing.T, error)
		made  bool
	}{
		"nothing odd":             {made: true},
		"busy, and then not":      {odd: once("add", 51, false), made: true},
		"unavailable for a while": {odd: once("add", 52, false), made: true},
		"cut before it was done":  {odd: once("add", 0, true), check: func(t *testing.T, err error) { assert.ErrorAs(t, err, &open) }},
		"cut after it was done":   {odd: once("add", after, true), check: func(t *testing.T, err error) { assert.ErrorAs(t, err, &open) }, made: true},
		"cut while looking":       {odd: once("search", 0, true), made: true},
		"no right": {odd: always("add", 50), check: func(t *testing.T, err error) {
			require.ErrorAs(t, err, &no)
			assert.Contains(t, no.Message, "no right")
		}},
		"kept elsewhere": {odd: always("add", 10), check: func(t *testing.T, err error) {
			require.ErrorAs(t, err, &down)
			assert.Contains(t, down.Message, "elsewhere")
		}},
		"no word of what it was": {odd: always("add", 80), check: func(t *testing.T, err error) { assert.ErrorAs(t, err, &open) }},
		"lists cut short": {odd: always("search", 4), check: func(t *testing.T, err error) {
			require.ErrorAs(t, err, &down)
			assert.Contains(t, down.Message, "cut its answer short")
		}},
		"TLS for passwords": {odd: always("add", 13), check: func(t *testing.T, err error) {
			require.ErrorAs(t, err, &down)
			assert.Contains(t, down.Message, "wants TLS")
		}},
	} {
		t.Run(name, func(t *testing.T) {
			c, p := openOffice(t)
			c.clock = clock.NewFake(time.Now())
			p.odd = test.odd
			_, err := systemtest.Create(t.Context(), nil, c, clerk("ana.reyes", "Ana Reyes", "Deck"), officeFields)
			if test.check == nil {
				require.NoError(t, err)
			} else {
				test.check(t, err)
			}
			p.mu.Lock()
			assert.Equal(t, test.made, p.entries[keyOf("cn=Ana Reyes,ou=Deck,ou=people,"+office)] != nil)
			p.mu.Unlock()
		})
	}
}

// What a connection lacks is told so that it can be mended.
func TestConnecting(t *testing.T) {
	c, p := openOffice(t)
	for name, test := range map[string]struct {
		change func(*client)
		says   string
	}{
		"wrong password":    {func(c *client) { c.password = "wrong" }, "the password is wrong"},
		"unknown authority": {func(c *client) { c.secure.RootCAs = x509.NewCertPool() }, "does not verify"},
		"another's name":    {func(c *client) { c.secure.ServerName = "elsewhere.example" }, "does not verify"},
		"no TLS there":      {func(c *client) { c.url = "ldap" + c.url[len("ldaps"):] }, "cannot be reached"},
		"nobody there":      {func(c *client) { c.url = "ldaps://127.0.0.1:1" }, "cannot be reached"},
		"no such host":      {func(c *client) { c.url = "ldaps://nowhere.invalid" }, "cannot be reached"},
		"no people there":   {func(c *client) { c.people = "ou=nobody," + office }, "does not show us “people”"},
		"no such class":     {func(c *client) { c.connection.classes = []string{"pilot"} }, "no object class “pilot”"},
		"no such naming":    {func(c *client) { c.connection.named = "uid" }, "no attribute “uid”"},
		"nobody may look": {func(*client) {
			p.odd = func(op, dn string) (uint16, bool) { return map[string]uint16{"search": 50}[op], false }
		}, "does not show us its root entry"},
		"socket of no server": {func(c *client) { c.url = "ldapi:///nowhere/ldapi" }, "cannot be reached"},
	} {
		t.Run(name, func(t *testing.T) {
			p.odd = nil
			other, err := newClient(c.connection, "right", c.work)
			require.NoError(t, err)
			other.clock = clock.NewFake(time.Now())
			test.change(other)
			_, err = other.Describe(t.Context())
			var down *system.Unavailable
			require.ErrorAs(t, err, &down)
			assert.Contains(t, down.Message, test.says)
			assert.NotEmpty(t, down.Remedy)
		})
	}
}

// A listing that breaks off begins again, and gives everybody once.
func TestListingBreaksOff(t *testing.T) {
	c, p := openOffice(t, func(c *connection) { c.page = 4 })
	c.clock = clock.NewFake(time.Now())
	var all []account.Account
	for i := range 18 {
		all = append(all, clerk(fmt.Sprint("crew", i), fmt.Sprint("Crew ", i), "Deck"))
	}
	_, err := c.Apply(t.Context(), nil, systemtest.Making(all...), officeFields)
	require.NoError(t, err)
	n := 0
	p.odd = func(op, dn string) (uint16, bool) {
		if op == "search" && strings.EqualFold(dn, c.people) {
			n++
		}
		return 0, op == "search" && (n == 3 || n == 6)
	}
	var names []string
	for a, err := range c.List(t.Context(), officeFields) {
		require.NoError(t, err)
		names = append(names, a.Field("userName").Text())
	}
	assert.Len(t, names, 18)
	slices.Sort(names)
	assert.Len(t, slices.Compact(names), 18)
	assert.Greater(t, n, 8, "it did break off")

	p.odd = func(op, _ string) (uint16, bool) { return 0, op == "search" }
	for _, err = range c.List(t.Context(), officeFields) {
	}
	var down *system.Unavailable
	require.ErrorAs(t, err, &down, "for good, it is an error and no shorter list")
}
