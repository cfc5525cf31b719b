// Package httpdial reaches what speaks HTTP: systems, feeds and calls of web addresses.
//
// It promises that credentials go to nobody but who was named, and over TLS; that an answer is bounded,
// and a redirect not followed unless its caller wants it; that requests keep to a pace, and to what the
// server lets pass; that reading is tried again, and a change only where it certainly was not carried
// out: otherwise it ends as *reach.Unclear. A token that runs out meanwhile is got anew, and
// the request that was turned away for it sent again. What an answer means beyond its status is left to the
// caller.
package httpdial

import (
	"fmt"
	"net/url"
	"strings"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Service is where something is that speaks HTTP, and how the program signs in there. It holds no
// secret, only where one is kept.
type Service struct {
	URL         string  // without a slash at the end
	CA          string  // PEM file of the authority to trust instead of the usual ones; empty: those
	Certificate string  // PEM file with a certificate, and its key, that shows who asks; empty: none
	Rate        float64 // requests a second; 0: no pace

	token, password secret.Reference
	user            string
	header          header
	oauth           oauth
}

// header is one of the server's own that shows who asks.
type header struct {
	name  string
	value secret.Reference
}

// oauth is where tokens are got (RFC 6749 section 4.4).
type oauth struct {
	tokenURL, revokeURL string
	client              string
	secret              secret.Reference
	scopes              []string
	parameters          map[string]string // of the server's own, such as an audience
}

// Keys are those of evenledger.yaml by which a service is reached. About says what its address is;
// whole has it end in a path, without a question mark behind it.
func (s *Service) Keys(part reach.Part, about string, whole bool) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "url", Form: yamldoc.Text, About: about, Put: func(n yamldoc.Node) { s.URL = readURL(n, whole) }},
		{Name: "token", Form: yamldoc.Text, About: "Where the bearer token is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&s.token, part.Secret)},
		{Name: "user", Form: yamldoc.Text, About: "Instead of a token: the user name.", Put: yamldoc.Into(&s.user, yamldoc.Node.Text)},
		{Name: "password", Form: yamldoc.Text, About: "With user: where its password is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&s.password, part.Secret)},
		{Name: "sign_in", About: "Instead of a token or a user: another way to sign in.", Nested: []yamldoc.Key{
			{Name: "oauth", About: "With tokens that a token server gives for a while (OAuth 2, client credentials).", Nested: []yamldoc.Key{
				{Name: "token_url", Form: yamldoc.Text, About: "The address at which tokens are got.", Put: func(n yamldoc.Node) { s.oauth.tokenURL = readURL(n, false) }},
				{Name: "client", Form: yamldoc.Text, About: "Who the program is there (client_id).", Put: yamldoc.Into(&s.oauth.client, yamldoc.Node.Text)},
				{Name: "secret", Form: yamldoc.Text, About: "Where its secret is kept (client_secret): env:NAME or file:PATH.", Put: yamldoc.Into(&s.oauth.secret, part.Secret)},
				{Name: "scopes", Form: yamldoc.Texts, About: "What the token is to be good for.", Put: yamldoc.Into(&s.oauth.scopes, yamldoc.Node.Texts)},
				{Name: "parameters", Form: yamldoc.Table, About: "What the token server wants to be told besides, such as audience or resource.", Put: yamldoc.Into(&s.oauth.parameters, yamldoc.Node.Table)},
				{Name: "revoke_url", Form: yamldoc.Text, About: "The address at which a token is given back when the work is over (RFC 7009). Without it, it runs out by itself.", Put: func(n yamldoc.Node) { s.oauth.revokeURL = readURL(n, false) }},
			}},
			{Name: "header", About: "With a header of the server's own.", Nested: []yamldoc.Key{
				{Name: "name", Form: yamldoc.Text, About: "What it is called, such as X-Api-Key.", Put: yamldoc.Into(&s.header.name, headerName)},
				{Name: "value", Form: yamldoc.Text, About: "Where its value is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&s.header.value, part.Secret)},
			}},
			{Name: "certificate", Form: yamldoc.Text, About: "With a certificate: a PEM file that has it, and its key.", Put: yamldoc.Into(&s.Certificate, part.File)},
		}},
		{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones.", Put: yamldoc.Into(&s.CA, part.File)},
		{Name: "rate", Form: yamldoc.Text, About: "The most requests in a time: 20/s, 300/min or 5000/h.", Put: yamldoc.Into(&s.Rate, part.Rate)},
	}
}

// headerName reads the name of a header (RFC 9110 section 5.1) that is not one of HTTP's own.
func headerName(node yamldoc.Node) string {
	name := node.Text()
	if strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789-_") != "" || name == "" {
		node.Fail("Letters, digits and hyphens are in such a name.", "“%s” is not the name of a header", name)
	}
	switch strings.ToLower(name) {
	case "host", "content-type", "content-length", "accept", "if-match", "connection", "transfer-encoding":
		node.Fail("Name the one that the server reads who asks from.", "“%s” says something else than who asks", name)
	}
	return name
}

// readURL accepts https, and http only to this machine: neither a credential nor people's data may
// travel in clear.
func readURL(node yamldoc.Node, whole bool) string {
	text := node.Text()
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		node.Fail("Write it as https://host/path.", "“%s” is not the address of a server", shown(text))
	case u.User != nil:
		node.Fail("Take them out of the address and use “user” and “password”.", "the address has a user name or password in it")
	case u.Scheme == "http" && !reach.OnThisMachine(u.Hostname()):
		node.Fail("Use https.", "http would send the token, and people's data, in clear to %s", u.Hostname())
	case whole && (u.RawQuery != "" || u.Fragment != ""):
		node.Fail("Keep what comes before “?” and “#”.", "the address has a query or fragment in it")
	}
	if whole {
		text = strings.TrimRight(text, "/")
	}
	return text
}

// shown is an address as people are told it: what stands behind a question mark may be a key.
func shown(address string) string {
	if before, _, has := strings.Cut(address, "?"); has {
		return before + "?…"
	}
	return address
}

// Address is where the service is, for people.
func (s *Service) Address() string { return shown(s.URL) }

// Check reports what does not go together in what was read. What says what it is that has the keys, such
// as “system crewdesk”; one that has to sign in must say how.
func (s *Service) Check(part reach.Part, given yamldoc.Given, what, example string, must bool) {
	ways := 0
	for _, has := range []bool{given.Has("token"), given.Has("user") || given.Has("password"), s.oauth.tokenURL != "" || s.oauth.client != "", s.header.name != ""} {
		if has {
			ways++
		}
	}
	oauth := s.oauth.tokenURL != "" || s.oauth.client != "" || s.oauth.secret.Given()
	switch {
	case !given.Has("url"):
		part.At.Fail("Add “url”, such as "+example+".", "%s does not say where it is (url)", what)
	case ways > 1:
		part.At.Fail("Keep one: “token”, “user” with “password”, or “sign_in”.", "%s has several ways to sign in, such as both a token and a user", what)
	case given.Has("user") != given.Has("password"):
		part.At.Fail("“user” and “password” belong together.", "%s has only one of user and password", what)
	case oauth && (s.oauth.tokenURL == "" || s.oauth.client == "" || !s.oauth.secret.Given()):
		given["sign_in"].Fail("Write it as oauth: {token_url: https://…/token, client: NAME, secret: env:NAME}.", "“oauth” needs token_url, client and secret")
	case (s.header.name != "") != s.header.value.Given():
		given["sign_in"].Fail("Write it as header: {name: X-Api-Key, value: env:NAME}.", "“header” needs a name and a value")
	case must && ways == 0 && s.Certificate == "":
		part.At.Fail("Add “token: env:NAME” or “token: file:PATH”; “sign_in” has other ways.", "%s has no token and no user", what)
	}
}

// String names where the tokens are got.
func (o oauth) String() string { return fmt.Sprintf("the token server (%s)", shown(o.tokenURL)) }
