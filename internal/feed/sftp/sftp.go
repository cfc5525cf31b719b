// Package sftp is the kind of feed that takes the newest file of a pattern from a file server
// over ssh.
//
// It promises that nobody is trusted who is not among the known hosts.
package sftp

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	files "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// Kind is the kind “sftp” of evenledger.yaml.
func Kind() feed.Kind {
	return feed.Kind{
		Name: "sftp",
		Keys: []yamldoc.Key{
			{Name: "url", Form: yamldoc.Text, About: "The server, folder and pattern: sftp://USER@HOST/outgoing/starters-*.csv. Of several files the newest is taken."},
			{Name: "user", Form: yamldoc.Text, About: "Who the program signs in as, if the url does not say so."},
			{Name: "password", Form: yamldoc.Text, About: "Where the password is kept: env:NAME or file:PATH."},
			{Name: "key", Form: yamldoc.Text, About: "Where the private key is kept: file:PATH or env:NAME. Without it and a password, the agent's keys are tried."},
			{Name: "key_passphrase", Form: yamldoc.Text, About: "Where the passphrase of the key is kept, if it has one."},
			{Name: "known_hosts", Form: yamldoc.Text, About: "The file of the servers' keys. Without it: .ssh/known_hosts of whoever runs the program."},
			{Name: "done", Form: yamldoc.Text, About: "The folder there that a file is moved to when its batch is posted; from the folder of the files, unless it begins with a slash. Without it: it stays."},
		},
		Read: read,
	}
}

type source struct {
	dir                       string // of the workspace
	address, user             string // host and port
	folder, pattern           string
	password, key, passphrase secret.Reference
	known, done               string
}

func read(part reach.Part) feed.Source {
	s := &source{dir: part.Dir}
	for _, p := range part.Pairs {
		switch p.Key {
		case "url":
			s.readAddress(p.Value)
		case "user":
			s.user = p.Value.Text()
		case "password":
			s.password = part.Secret(p.Value)
		case "key":
			s.key = part.Secret(p.Value)
		case "key_passphrase":
			s.passphrase = part.Secret(p.Value)
		case "known_hosts":
			s.known = part.Path(p.Value.Text())
		case "done":
			s.done = p.Value.Text()
		}
	}
	switch {
	case s.address == "":
		part.At.Fail("Add “url”, such as sftp://USER@HOST/outgoing/*.csv.", "feed %s does not say where its files are", part.Name)
	case s.user == "":
		part.At.Fail("Add “user”.", "feed %s does not say who signs in", part.Name)
	}
	if s.done != "" && !path.IsAbs(s.done) {
		s.done = path.Join(s.folder, s.done)
	}
	return s
}

func (s *source) readAddress(node yamldoc.Node) {
	at, err := url.Parse(node.Text())
	switch {
	case err != nil || at.Scheme != "sftp" || at.Hostname() == "":
		node.Fail("Write it as sftp://USER@HOST/outgoing/*.csv.", "this is no address of files on a server")
		return
	case at.User != nil:
		if _, has := at.User.Password(); has {
			node.Fail("Use “password”.", "the address has a password in it")
			return
		}
		s.user = cmp.Or(s.user, at.User.Username())
	}
	s.address = net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), "22"))
	s.folder, s.pattern = path.Split(at.Path)
	if _, err := path.Match(s.pattern, "x"); err != nil || s.pattern == "" {
		node.Fail("Write the folder and a pattern, such as /outgoing/*.csv.", "“%s” is no pattern of files", at.Path)
	}
}

// Address implements feed.Source.
func (s *source) Address() string {
	return "sftp://" + s.user + "@" + strings.TrimSuffix(s.address, ":22") + s.folder + s.pattern
}

// Bring implements feed.Source.
func (s *source) Bring(ctx context.Context, to *feed.Spool, last feed.Last, work feed.Work) (d feed.Delivery, err error) {
	err = s.on(ctx, work, func(c *files.Client) error {
		entries, err := c.ReadDirContext(ctx, s.folder)
		if err != nil {
			return &reach.Unavailable{Message: fmt.Sprintf("the folder %s cannot be read on %s: %s", s.folder, s.address, err), Remedy: "Look at the url in evenledger.yaml, and whether this user may read there.", Err: err}
		}
		var all []feed.Candidate
		for _, info := range entries {
			all = append(all, feed.Candidate{Name: info.Name(), Modified: info.ModTime(), Regular: info.Mode().IsRegular()})
		}
		newest, err := feed.Newest(s.pattern, s.folder, all, last)
		if err != nil {
			return err
		}
		at := path.Join(s.folder, newest.Name)
		d, err = feed.Settled(ctx, to, newest.Name, work, func() (int64, time.Time, error) {
			info, err := c.Stat(at)
			if err != nil {
				return 0, time.Time{}, err
			}
			return info.Size(), info.ModTime(), nil
		}, func() (io.ReadCloser, error) { return c.Open(at) })
		d.From = at
		return err
	})
	return d, err
}

// Take implements feed.Source.
func (s *source) Take(ctx context.Context, d feed.Delivery, work feed.Work) error {
	if s.done == "" {
		return nil
	}
	return s.on(ctx, work, func(c *files.Client) error {
		info, err := c.Stat(d.From)
		switch {
		case errors.Is(err, os.ErrNotExist):
			return nil // somebody moved it
		case err != nil:
			return err
		case info.Size() != d.Size || !info.ModTime().Equal(d.Modified):
			return fmt.Errorf("%s is another by now, and is left where it is", d.From)
		}
		if err := c.MkdirAll(s.done); err != nil {
			return err
		}
		name, err := feed.Aside(d.Name, work.Clock.Now(), func(name string) error {
			_, err := c.Lstat(path.Join(s.done, name))
			return err
		})
		if err != nil {
			return err
		}
		return c.Rename(d.From, path.Join(s.done, name))
	})
}

// on does something on a connection.
func (s *source) on(ctx context.Context, work feed.Work, do func(*files.Client) error) (err error) {
	config, closing, err := s.config(work)
	if err != nil {
		return err
	}
	defer closing()
	raw, err := (&net.Dialer{Timeout: config.Timeout}).DialContext(ctx, "tcp", s.address)
	if err != nil {
		return s.unreachable(ctx, work, err)
	}
	// The library knows no contexts: without a connection it ends at once.
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	_ = raw.SetDeadline(time.Now().Add(config.Timeout)) // of the handshake
	conn, channels, requests, err := ssh.NewClientConn(raw, s.address, config)
	if err != nil {
		_ = raw.Close()
		return s.unreachable(ctx, work, err)
	}
	_ = raw.SetDeadline(time.Time{})
	client := ssh.NewClient(conn, channels, requests)
	defer client.Close()
	c, err := files.NewClient(client)
	if err != nil {
		return s.unreachable(ctx, work, err)
	}
	defer c.Close()
	if err := do(c); err != nil {
		var nothing *feed.Nothing
		var known *reach.Unavailable
		if errors.As(err, &nothing) || errors.As(err, &known) {
			return err
		}
		return s.unreachable(ctx, work, err)
	}
	return nil
}

// config says who signs in and whom the server must be. closing gives the agent up.
func (s *source) config(work feed.Work) (config *ssh.ClientConfig, closing func(), err error) {
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
	config = &ssh.ClientConfig{User: s.user, Timeout: cmp.Or(work.Timeout, 30*time.Second), HostKeyCallback: trusted, HostKeyAlgorithms: algorithms(trusted, s.address)}
	switch {
	case s.key.Given():
		signer, err := s.signer(work)
		if err != nil {
			return nil, closing, err
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	case !s.password.Given():
		socket := os.Getenv("SSH_AUTH_SOCK")
		conn, err := net.Dial("unix", socket)
		if socket == "" || err != nil {
			return nil, closing, &reach.Unavailable{Message: fmt.Sprintf("there is neither a password nor a key for %s, and no agent that holds one", s.address), Remedy: "Add “key” or “password” to the feed in evenledger.yaml.", Err: err}
		}
		closing = func() { _ = conn.Close() }
		config.Auth = append(config.Auth, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
	}
	if s.password.Given() {
		password, err := reach.Open(s.password, work.Mask)
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

func (s *source) signer(work feed.Work) (ssh.Signer, error) {
	key, err := reach.Open(s.key, work.Mask)
	if err != nil {
		return nil, err
	}
	var signer ssh.Signer
	if s.passphrase.Given() {
		var passphrase string
		if passphrase, err = reach.Open(s.passphrase, work.Mask); err != nil {
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

// unreachable puts what went wrong into words.
func (s *source) unreachable(ctx context.Context, work feed.Work, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	message, remedy := fmt.Sprintf("%s cannot be reached: %s", s.address, work.Mask.Hide(err.Error())), "Look at the url in evenledger.yaml, whether the server runs, and at the network."
	var stranger *knownhosts.KeyError
	switch {
	case errors.As(err, &stranger) && len(stranger.Want) == 0:
		message, remedy = fmt.Sprintf("%s is not among the known servers", s.address), "Ask who runs it for its public key, and put “HOST KEY” as a line into the file of known servers (“known_hosts” in evenledger.yaml)."
	case errors.As(err, &stranger):
		message, remedy = fmt.Sprintf("%s shows another key than the one it is known by (%s, line %d)", s.address, stranger.Want[0].Filename, stranger.Want[0].Line), "Do not go on before whoever runs it has said that its key is another now: somebody may be in between."
	case strings.Contains(err.Error(), "unable to authenticate"), strings.Contains(err.Error(), "unexpected message type 51"): // RFC 4252: a no
		message, remedy = fmt.Sprintf("%s does not let %s in", s.address, s.user), "The key or password is wrong, or not known there. Look where evenledger.yaml says it is kept."
	}
	return &reach.Unavailable{Message: message, Remedy: remedy, Err: err}
}
