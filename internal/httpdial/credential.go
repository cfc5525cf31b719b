package httpdial

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
)

// A Credential shows a server who asks. It may be used by several goroutines.
type Credential interface {
	// Sign puts into a request what shows who asks. Errors are *reach.Unavailable, or an *Again where
	// what it needs may be had a little later.
	Sign(ctx context.Context, r *http.Request) error
	// Renew is told of a request that was signed and turned away for it (401), and reports whether it
	// is worth signing anew.
	Renew(r *http.Request) bool
	// Remedy is what a person can do where the server turns us away.
	Remedy() string
	// Close gives back what a server gave for a while.
	Close() error
}

// headers that never stand in what people read.
var private = map[string]bool{"Authorization": true, "Cookie": true, "Set-Cookie": true, "Proxy-Authorization": true}

// A Fixed credential is a header that is always the same.
type Fixed struct{ Name, Value string }

// Bearer is a token that is kept (RFC 6750).
func Bearer(token string) Fixed { return Fixed{"Authorization", "Bearer " + token} }

// Basic is a user name and a password (RFC 7617).
func Basic(user, password string) Fixed {
	return Fixed{"Authorization", "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))}
}

// Sign implements Credential.
func (f Fixed) Sign(_ context.Context, r *http.Request) error {
	if f.Name != "" {
		r.Header.Set(f.Name, f.Value)
	}
	return nil
}

// Renew implements Credential.
func (Fixed) Renew(*http.Request) bool { return false }

// Remedy implements Credential.
func (Fixed) Remedy() string {
	return "The token or password is wrong or has run out. Look where evenledger.yaml says it is kept."
}

// Close implements Credential.
func (Fixed) Close() error { return nil }

func (s *Service) credential(mask *secret.Mask, timeout time.Duration) (Credential, error) {
	open := func(r secret.Reference) (string, error) { return reach.Open(r, mask) }
	switch {
	case s.oauth.tokenURL != "":
		key, err := open(s.oauth.secret)
		if err != nil {
			return nil, err
		}
		mask.Add(strings.TrimPrefix(Basic(url.QueryEscape(s.oauth.client), url.QueryEscape(key)).Value, "Basic "))
		transport, err := transport(s.CA, s.Certificate, 10*time.Second)
		if err != nil {
			return nil, err
		}
		parameters := url.Values{}
		for name, value := range s.oauth.parameters {
			parameters.Set(name, value)
		}
		return &tokens{
			from: s.oauth, mask: mask, timeout: timeout,
			http:   &http.Client{Transport: transport, CheckRedirect: stay},
			config: clientcredentials.Config{ClientID: s.oauth.client, ClientSecret: key, TokenURL: s.oauth.tokenURL, Scopes: s.oauth.scopes, EndpointParams: parameters},
		}, nil
	case s.header.name != "":
		value, err := open(s.header.value)
		return Fixed{s.header.name, value}, err
	case s.user != "":
		password, err := open(s.password)
		basic := Basic(s.user, password)
		mask.Add(strings.TrimPrefix(basic.Value, "Basic "))
		return basic, err
	case s.token.Given():
		token, err := open(s.token)
		return Bearer(token), err
	}
	return Fixed{}, nil
}

// Config is how the service is reached, its secrets opened. Each is hidden by the mask; one that cannot be
// had is a *reach.NoSecret.
func (s *Service) Config(mask *secret.Mask, timeout time.Duration) (Config, error) {
	credential, err := s.credential(mask, timeout)
	return Config{URL: s.URL, Credential: credential, CA: s.CA, Certificate: s.Certificate, Rate: s.Rate, Mask: mask, Timeout: timeout}, err
}

// early is how long before its end a token is got anew: a request that is on its way then is not
// turned away.
const early = 20 * time.Second

// tokens are those of a token server, each good for a while (RFC 6749 section 4.4).
type tokens struct {
	from    oauth
	config  clientcredentials.Config
	http    *http.Client
	mask    *secret.Mask
	timeout time.Duration

	mu  sync.Mutex // held while one is got: the others wait for that one
	now *oauth2.Token
}

// Sign implements Credential.
func (t *tokens) Sign(ctx context.Context, r *http.Request) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now == nil || !t.now.Expiry.IsZero() && time.Until(t.now.Expiry) < min(early, time.Duration(t.now.ExpiresIn)*time.Second/2) {
		got, err := t.get(ctx)
		if err != nil {
			return err
		}
		t.now = got
	}
	t.now.SetAuthHeader(r)
	return nil
}

// get asks the token server for another.
func (t *tokens) get(ctx context.Context) (*oauth2.Token, error) {
	if t.timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, t.timeout)
		defer cancel()
	}
	got, err := t.config.Token(context.WithValue(ctx, oauth2.HTTPClient, t.http))
	switch {
	case err != nil:
		return nil, t.trouble(ctx, err)
	case !strings.EqualFold(got.Type(), "Bearer"):
		return nil, &reach.Unavailable{Message: fmt.Sprintf("%s gives a token of the kind “%s”, which nobody here can show", t.from, got.TokenType), Remedy: "Ask who runs it for bearer tokens."}
	}
	t.mask.Add(got.AccessToken)
	return got, nil
}

// trouble explains why no token came.
func (t *tokens) trouble(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	var told *oauth2.RetrieveError
	if errors.As(err, &told) && told.Response != nil {
		said := t.mask.Hide(strings.Join(strings.Fields(told.ErrorCode+" "+told.ErrorDescription), " "))
		no := &reach.Unavailable{Message: strings.TrimRight(fmt.Sprintf("%s gives no token (%d): %s", t.from, told.Response.StatusCode, Clip(said)), ": "), Remedy: "Look at client, secret and scopes in evenledger.yaml.", Err: err}
		after, named := RetryAfter(told.Response.Header, time.Now())
		if verdict := VerdictOn(told.Response.StatusCode); verdict == Open || verdict == Busy {
			no.Remedy = "Try again later; what was done is in the ledger."
			return &Again{Err: no, Unsent: true, After: after, Named: named}
		}
		return no
	}
	var at *url.Error
	if errors.As(err, &at) {
		return explain(t.from.String(), "Look at token_url in evenledger.yaml, whether the server runs, and at the network.", err)
	}
	// The library's own words hold what the server said, which may be anything.
	return &reach.Unavailable{Message: fmt.Sprintf("%s answered with no token that can be read: %s", t.from, Clip(t.mask.Hide(err.Error()))), Remedy: "Look at token_url in evenledger.yaml.", Err: err}
}

// Renew implements Credential: of many that were turned away together, the first has a token be got.
func (t *tokens) Renew(r *http.Request) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now != nil && r.Header.Get("Authorization") == "Bearer "+t.now.AccessToken {
		t.now = nil
	}
	return true
}

// Remedy implements Credential.
func (t *tokens) Remedy() string {
	return fmt.Sprintf("The service does not take what %s gives: look at client, scopes and parameters in evenledger.yaml.", t.from)
}

// Close implements Credential (RFC 7009). That a token could not be given back is no trouble: it runs out.
func (t *tokens) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	defer t.http.CloseIdleConnections()
	if t.now == nil || t.from.revokeURL == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	form := url.Values{"token": {t.now.AccessToken}, "token_type_hint": {"access_token"}}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, t.from.revokeURL, strings.NewReader(form.Encode()))
	if err != nil {
		return nil
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	r.SetBasicAuth(url.QueryEscape(t.config.ClientID), url.QueryEscape(t.config.ClientSecret))
	if answer, err := t.http.Do(r); err == nil {
		_ = answer.Body.Close()
	}
	t.now = nil
	return nil
}

// isDial reports whether an error came before anything was sent.
func isDial(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}
