package ldap

import (
	"strings"
	"testing"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
)

// Whatever units are called, a path and a name mean each other.
func TestPathsAreNames(t *testing.T) {
	c := &client{connection: connection{people: "ou=people,dc=x"}}
	name := rapid.Custom(func(t *rapid.T) string {
		text := rapid.StringOfN(rapid.RuneFrom([]rune(`aZ é李,+"\<>;=#/ .*()'`)), 1, 8, -1).Draw(t, "name")
		if strings.TrimSpace(text) == "" {
			text = "Deck" + text
		}
		return strings.TrimSpace(text)
	})
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(name, 1, 4).Draw(t, "parts")
		var escaped []string
		for _, p := range parts {
			escaped = append(escaped, strings.NewReplacer(`\`, `\\`, "/", `\/`).Replace(p))
		}
		path := strings.Join(escaped, "/")
		dn, err := ldap.ParseDN(c.place(path))
		require.NoError(t, err)
		require.Len(t, dn.RDNs, len(parts)+2)
		for i, p := range parts {
			require.Equal(t, p, dn.RDNs[len(parts)-1-i].Attributes[0].Value)
		}
		require.Equal(t, path, c.path(c.place(path)))
		require.Equal(t, parsedKey(c.place(path)), keyOf(c.place(path)))
		raw := "OU= " + strings.Join(parts, ", ou=")
		if key, plain := plainKey(raw); plain {
			require.Equal(t, parsedKey(raw), key)
		}
		require.Equal(t, keyOf(c.place(path)), keyOf(strings.ToUpper(c.place(path)[:3])+c.place(path)[3:]))
	})
	for written, path := range map[string]string{"": "/", "/": "/", "ou=Crew A,ou=Deck,ou=people,dc=x": "Deck/Crew A", "cn=Users,ou=people,dc=x": "cn=Users"} {
		assert.Equal(t, path, c.path(c.place(written)), written)
	}
}

// What a server says of its schema is read as far as it can be understood.
func TestSubschema(t *testing.T) {
	s := readSubschema([]string{
		`( 2.5.4.41 NAME 'name' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15{32768} )`,
		`( 2.5.4.4 NAME ( 'sn' 'surname' ) DESC 'RFC2256: the \27last\27 name' SUP name )`,
		`( 1.1 NAME 'aboard' EQUALITY booleanMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.7 SINGLE-VALUE X-ORIGIN ( 'a' 'b' ) )`,
		`( 1.2 NAME 'made' SYNTAX 1.3.6.1.4.1.1466.115.121.1.24 SINGLE-VALUE NO-USER-MODIFICATION USAGE directoryOperation )`,
		`( 1.3 NAME 'circle' SUP circle )`, `( broken`, ``, `( 1.4 NAME 'unended`, `( 1.5 NAME ( 'x' `,
	}, []string{
		`( 1.9 NAME 'top' ABSTRACT MUST objectClass )`, `( 1.10 NAME 'crew' SUP top STRUCTURAL MUST ( surname $ 2.5.4.41 ) MAY aboard )`, `( 1.11 NAME 'loop' SUP loop MAY made )`,
	}, []string{`( 1.10 NAME 'crew' AUX ( loop $ unknown ) MAY circle )`})
	must, may := s.allows([]string{"CREW"})
	assert.Equal(t, []string{"name", "objectClass", "sn"}, must)
	assert.Equal(t, []string{"aboard", "circle", "made"}, may)
	sn := s.attribute("SurName")
	assert.Equal(t, []string{"caseIgnoreMatch", "RFC2256: the 'last' name"}, []string{sn.equality, sn.about})
	assert.Equal(t, account.List, sn.kind())
	assert.Equal(t, account.AnyCase, sn.rule())
	assert.Equal(t, account.YesNo, s.attribute("aboard").kind())
	assert.True(t, s.attribute("made").kept)
	assert.NotNil(t, s.attribute("circle"))
	assert.Nil(t, s.attribute("nothing"))
}

func FuzzDescribed(f *testing.F) {
	f.Add(`( 2.5.4.4 NAME ( 'sn' 'surname' ) DESC 'x' SUP name SINGLE-VALUE )`)
	f.Add(`( 1.10 NAME 'crew' SUP top STRUCTURAL MUST ( a $ b ) MAY c )`)
	f.Fuzz(func(_ *testing.T, text string) {
		readSubschema([]string{text}, []string{text}, []string{text}).allows([]string{"crew"})
	})
}
