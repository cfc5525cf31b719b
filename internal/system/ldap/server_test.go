package ldap

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
)

// certificate writes a certificate for the program, signed by the authority of the server.
func certificate(t *testing.T, dir string) (path string) {
	authority, err := tls.LoadX509KeyPair(filepath.Join(dir, "ca.pem"), filepath.Join(dir, "key.pem"))
	require.NoError(t, err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	signed, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "evenledger"}, NotAfter: time.Now().Add(time.Hour)}, authority.Leaf, &key.PublicKey, authority.PrivateKey)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "evenledger.pem")
	both := slices.Concat(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	require.NoError(t, os.WriteFile(path, both, 0o600))
	return path
}

// The program signs in by a password or by a certificate, over TLS that begins in clear, and
// says nothing where the certificate of the server is signed by nobody it knows.
func TestSigningIn(t *testing.T) {
	h := inHarbour(t)
	admin, dir := h.tree(t), h.dir
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	require.NoError(t, err)
	web := httptest.NewTLSServer(nil)
	web.Close()
	ca, stranger := filepath.Join(dir, "ca.pem"), filepath.Join(t.TempDir(), "stranger.pem")
	require.NoError(t, os.WriteFile(stranger, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: web.Certificate().Raw}), 0o600))
	user := "cn=evenledger,ou=services," + base
	for name, test := range map[string]struct{ user, certificate, ca, says string }{
		"password":             {user: user, ca: ca},
		"certificate":          {certificate: certificate(t, dir), ca: ca},
		"unknown authority":    {user: user, ca: stranger, says: "does not verify"},
		"somebody's password?": {user: "cn=nobody,ou=services," + base, ca: ca, says: "turns us away (49)"},
	} {
		t.Run(name, func(t *testing.T) {
			c := admin.connection
			c.url = "ldap://" + h.at
			c.user, c.certificate, c.ca = test.user, test.certificate, test.ca
			s, err := newClient(c, string(password), system.Work{Together: 2, Timeout: 10 * time.Second, Mask: secret.NewMask(), Clock: clock.NewFake(time.Now())})
			require.NoError(t, err)
			made, err := systemtest.Create(t.Context(), nil, s, account.Account{Fields: map[string]account.Value{"userName": account.Of("ana"), "givenName": account.Of("Ana")}}, nil)
			if test.says != "" {
				assert.ErrorContains(t, err, test.says)
				return
			}
			require.NoError(t, err)
			require.NoError(t, systemtest.Remove(t.Context(), nil, s, made))

			// An account whose password the server refuses is not there without it.
			wanted := account.Account{Password: "short", Fields: map[string]account.Value{"userName": account.Of("tom"), "givenName": account.Of("Tom")}}
			var refusal *system.Refusal
			_, err = systemtest.Create(t.Context(), nil, s, wanted, nil)
			require.ErrorAs(t, err, &refusal)
			for a, err := range s.List(t.Context(), []string{"userName"}) {
				require.NoError(t, err)
				assert.NotEqual(t, "tom", a.Field("userName").Text())
			}
			wanted.Password = "gulls-over-Quay-41"
			made, err = systemtest.Create(t.Context(), nil, s, wanted, nil)
			require.NoError(t, err)
			require.NoError(t, systemtest.Remove(t.Context(), nil, s, made))
		})
	}
}

// What a server answers to a change is told for what it is: a clear no, a busy server, or no
// answer at all.
func TestOddEntries(t *testing.T) {
	inHarbour(t)
	odd, err := start(t, "ODD=1")
	require.NoError(t, err)
	defer odd.stop()
	c := odd.tree(t)
	conn, err := c.take(t.Context())
	require.NoError(t, err)
	defer conn.Close()
	c.clock = clock.NewFake(time.Now())
	refused := func(t *testing.T, err error) {
		var refusal *system.Refusal
		require.ErrorAs(t, err, &refusal)
		assert.NotEmpty(t, refusal.Message)
	}
	for name, test := range map[string]struct {
		odd   map[string]string
		check func(*testing.T, error)
	}{
		"unwilling": {map[string]string{"errCode": "53"}, refused},
		"no right":  {map[string]string{"errCode": "50"}, refused},
		"busy for ever": {map[string]string{"errCode": "51"}, func(t *testing.T, err error) {
			var down *system.Unavailable
			assert.ErrorAs(t, err, &down)
		}},
		"cut off": {map[string]string{"errCode": "80", "errDisconnect": "TRUE"}, func(t *testing.T, err error) {
			var open *system.Unclear
			assert.ErrorAs(t, err, &open)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			request := ldap.NewAddRequest("uid="+ldap.EscapeDN(name)+","+c.people, nil)
			request.Attribute("objectClass", []string{"ferryCrew", "errAuxObject"})
			for attribute, value := range map[string]string{"uid": name, "cn": name, "sn": name, "errOp": "modify"} {
				request.Attribute(attribute, []string{value})
			}
			for attribute, value := range test.odd {
				request.Attribute(attribute, []string{value})
			}
			require.NoError(t, conn.Add(request))
			found := 0
			for a, err := range c.Find(t.Context(), "userName", []string{name}, []string{"userName", "title"}) {
				require.NoError(t, err)
				found++
				_, err = system.Change(t.Context(), nil, c, a, []account.Change{{Field: "title", After: account.Of("Pilot")}}, nil)
				test.check(t, err)
			}
			assert.Equal(t, 1, found)
		})
	}
}

// A group in a group is told, and is nobody's account.
func TestNestedGroups(t *testing.T) {
	c := inHarbour(t).tree(t)
	ana, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: map[string]account.Value{"userName": account.Of("ana")}}, nil)
	require.NoError(t, err)
	conn, err := c.take(t.Context())
	require.NoError(t, err)
	defer conn.Close()
	for name, members := range map[string][]string{"Deck crew": {"uid=ana," + c.people}, "All hands": {"uid=ana," + c.people, "CN=deck  CREW," + c.groups}} {
		request := ldap.NewAddRequest("cn="+name+","+c.groups, nil)
		request.Attribute("objectClass", []string{"groupOfNames"})
		request.Attribute("cn", []string{name})
		request.Attribute("member", members)
		require.NoError(t, conn.Add(request))
	}
	nested := map[string][2]int{}
	for thing, err := range c.Things(t.Context(), groupsKind, true) {
		require.NoError(t, err)
		nested[thing.Name] = [2]int{thing.Members, thing.Nested}
	}
	assert.Equal(t, map[string][2]int{"Deck crew": {1, 0}, "All hands": {2, 1}}, nested)
	people := 0
	for m, err := range c.Members(t.Context(), groupsKind, nil) {
		require.NoError(t, err)
		if m.Account == ana.ID {
			people++
		}
	}
	assert.Equal(t, 2, people)
}
