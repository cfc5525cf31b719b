// Package sshdial signs in to servers over ssh (RFC 4252, RFC 4253): what evenledger.yaml
// says of it, the keys and passwords, and what goes wrong, in words.
//
// It promises that nobody is trusted who is not among the known hosts.
package sshdial

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Server is one that is signed in to. It holds no secret, only where one is kept.
type Server struct {
	User string
	At   string // host and port

	password, key, passphrase secret.Reference
	known                     string // file of known hosts; empty: the person's own
}

// Keys are those of evenledger.yaml by which a server is signed in to, besides its address.
func (s *Server) Keys(part reach.Part) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "user", Form: yamldoc.Text, About: "Who the program signs in as, if the url does not say so.", Put: yamldoc.Into(&s.User, yamldoc.Node.Text)},
		{Name: "password", Form: yamldoc.Text, About: "Where the password is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&s.password, part.Secret)},
		{Name: "key", Form: yamldoc.Text, About: "Where the private key is kept: file:PATH or env:NAME. Without it and a password, the agent's keys are tried.", Put: yamldoc.Into(&s.key, part.Secret)},
		{Name: "key_passphrase", Form: yamldoc.Text, About: "Where the passphrase of the key is kept, if it has one.", Put: yamldoc.Into(&s.passphrase, part.Secret)},
		{Name: "known_hosts", Form: yamldoc.Text, About: "The file of the servers' keys. Without it: .ssh/known_hosts of whoever runs the program.", Put: yamldoc.Into(&s.known, part.File)},
	}
}

// ReadURL reads where the server is, and who signs in if that stands there. For example
// is how such an address may look.
func (s *Server) ReadURL(node yamldoc.Node, scheme, example string) (path string) {
	at, err := url.Parse(node.Text())
	if err != nil || at.Scheme != scheme || at.Hostname() == "" || at.RawQuery != "" || at.Fragment != "" {
		node.Fail(fmt.Sprintf("Write it as %s.", example), "this is no address that begins with %s://", scheme)
		return ""
	}
	if at.User != nil {
		if _, has := at.User.Password(); has {
			node.Fail("Use “password”.", "the address has a password in it")
			return ""
		}
		s.User = cmp.Or(s.User, at.User.Username())
	}
	s.At = net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), "22"))
	return at.Path
}

// String names the server as an address does, without what is usual.
func (s *Server) String() string { return s.User + "@" + strings.TrimSuffix(s.At, ":22") }

// Dial signs in. The connection is not bound to ctx once it stands. Errors are
// *reach.Unavailable, *reach.NoSecret or the context's.
func (s *Server) Dial(ctx context.Context, timeout time.Duration, mask *secret.Mask) (*ssh.Client, error) {
	config, closing, err := s.config(mask)
	if err != nil {
		return nil, err
	}
	defer closing()
	config.Timeout = cmp.Or(timeout, 30*time.Second)
	raw, err := reach.Dialer(config.Timeout).DialContext(ctx, "tcp", s.At)
	if err != nil {
		return nil, s.Unreachable(ctx, mask, err)
	}
	// The library knows no contexts: without a connection it ends at once.
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	_ = raw.SetDeadline(time.Now().Add(config.Timeout)) // of the handshake
	conn, channels, requests, err := ssh.NewClientConn(raw, s.At, config)
	if err != nil {
		_ = raw.Close()
		return nil, s.Unreachable(ctx, mask, err)
	}
	_ = raw.SetDeadline(time.Time{})
	return ssh.NewClient(conn, channels, requests), nil
}

// Files does something with the server's files, over a connection of its own (SFTP, version 3).
func (s *Server) Files(ctx context.Context, timeout time.Duration, mask *secret.Mask, do func(*sftp.Client) error) error {
	client, err := s.Dial(ctx, timeout, mask)
	if err != nil {
		return err
	}
	defer client.Close()
	stop := context.AfterFunc(ctx, func() { _ = client.Close() }) // the library knows no contexts
	defer stop()
	c, err := sftp.NewClient(client)
	if err != nil {
		return s.Unreachable(ctx, mask, err)
	}
	defer c.Close()
	return do(c)
}

// config says who signs in and whom the server must be. closing gives the agent up.
func (s *Server) config(mask *secret.Mask) (config *ssh.ClientConfig, closing func(), err error) {
	closing = func() {}
	known := s.known
	if known == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, closing, &reach.Unavailable{Message: "nobody says which servers are known", Remedy: "Name a file as “known_hosts” in evenledger.yaml."}
		}
		known = filepath.Join(home, ".ssh", "known_hosts")
	}
	trusted, err := knownhosts.New(known)
	if err != nil {
		return nil, closing, &reach.Unavailable{Message: fmt.Sprintf("the file of known servers cannot be read: %s", err), Remedy: "Ask who runs the server for its public key, and put “HOST KEY” as a line into that file; nobody is trusted without.", Err: err}
	}
	config = &ssh.ClientConfig{User: s.User, HostKeyCallback: trusted, HostKeyAlgorithms: algorithms(trusted, s.At)}
	switch {
	case s.key.Given():
		signer, err := s.signer(mask)
		if err != nil {
			return nil, closing, err
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	case !s.password.Given():
		socket := os.Getenv("SSH_AUTH_SOCK")
		conn, err := net.Dial("unix", socket)
		if socket == "" || err != nil {
			return nil, closing, &reach.Unavailable{Message: fmt.Sprintf("there is neither a password nor a key for %s, and no agent that holds one", s.At), Remedy: "Add “key” or “password” in evenledger.yaml.", Err: err}
		}
		closing = func() { _ = conn.Close() }
		config.Auth = append(config.Auth, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
	}
	if s.password.Given() {
		password, err := reach.Open(s.password, mask)
		if err != nil {
			return nil, closing, err
		}
		answers := func(_, _ string, questions []string, _ []bool) ([]string, error) {
			return slices.Repeat([]string{password}, len(questions)), nil
		}
		config.Auth = append(config.Auth, ssh.Password(password), ssh.KeyboardInteractive(answers))
	}
	return config, closing, nil
}

func (s *Server) signer(mask *secret.Mask) (ssh.Signer, error) {
	key, err := reach.Open(s.key, mask)
	if err != nil {
		return nil, err
	}
	var signer ssh.Signer
	if s.passphrase.Given() {
		var passphrase string
		if passphrase, err = reach.Open(s.passphrase, mask); err != nil {
			return nil, err
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(key+"\n"), []byte(passphrase))
	} else {
		signer, err = ssh.ParsePrivateKey([]byte(key + "\n"))
	}
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		return nil, &reach.Unavailable{Message: "the key has a passphrase", Remedy: "Say where it is kept as “key_passphrase” in evenledger.yaml, or use the agent."}
	}
	if err != nil {
		return nil, &reach.Unavailable{Message: fmt.Sprintf("what %s holds is no private key that can be used", s.key), Remedy: "Put the file that ssh-keygen made there, without “.pub”."}
	}
	return signer, nil
}

// algorithms are those of the keys by which a server is known: it would else show another of
// its keys, and seem a stranger.
func algorithms(trusted ssh.HostKeyCallback, address string) (names []string) {
	var stranger *knownhosts.KeyError
	if err := trusted(address, &net.TCPAddr{IP: net.IPv4zero}, nobody{}); !errors.As(err, &stranger) {
		return nil
	}
	for _, known := range stranger.Want {
		if kind := known.Key.Type(); kind == ssh.KeyAlgoRSA {
			names = append(names, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			names = append(names, kind)
		}
	}
	return names
}

// nobody is a key that no server has.
type nobody struct{}

func (nobody) Type() string                        { return "nobody's" }
func (nobody) Marshal() []byte                     { return nil }
func (nobody) Verify([]byte, *ssh.Signature) error { return errors.New("it is nobody's") }

// Unreachable puts what went wrong with the connection into words.
func (s *Server) Unreachable(ctx context.Context, mask *secret.Mask, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	message, remedy := fmt.Sprintf("%s cannot be reached: %s", s.At, mask.Hide(err.Error())), "Look at the url in evenledger.yaml, whether the server runs, and at the network."
	var stranger *knownhosts.KeyError
	switch {
	case errors.As(err, &stranger) && len(stranger.Want) == 0:
		message, remedy = fmt.Sprintf("%s is not among the known servers", s.At), "Ask who runs it for its public key, and put “HOST KEY” as a line into the file of known servers (“known_hosts” in evenledger.yaml)."
	case errors.As(err, &stranger):
		message, remedy = fmt.Sprintf("%s shows another key than the one it is known by (%s, line %d)", s.At, stranger.Want[0].Filename, stranger.Want[0].Line), "Do not go on before whoever runs it has said that its key is another now: somebody may be in between."
	case strings.Contains(err.Error(), "unable to authenticate"), strings.Contains(err.Error(), "unexpected message type 51"): // RFC 4252: a no
		message, remedy = fmt.Sprintf("%s does not let %s in", s.At, s.User), "The key or password is wrong, or not known there. Look where evenledger.yaml says it is kept."
	}
	return &reach.Unavailable{Message: message, Remedy: remedy, Err: err}
}
