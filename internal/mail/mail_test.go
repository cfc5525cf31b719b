package mail_test

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log"
	"math/big"
	"mime"
	"net"
	"net/http/httptest"
	netmail "net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/mail"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/standin"
	"evenledger/internal/yamldoc"
)

func server(t *testing.T, text string) (*mail.Server, error) {
	doc, err := yamldoc.Parse("evenledger.yaml", []byte("mail: "+text+"\n"))
	require.NoError(t, err)
	var s *mail.Server
	for _, pair := range doc.Root().Pairs() {
		s = mail.Read(reach.Part{Name: "mail", Dir: t.TempDir(), At: pair.At}, pair.Value)
	}
	return s, doc.Err()
}

func sender(t *testing.T, text string) *mail.Sender {
	s, err := server(t, text)
	require.NoError(t, err)
	opened, err := s.Open(mail.Work{Mask: secret.NewMask(), Clock: clock.NewFake(time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC))})
	require.NoError(t, err)
	t.Cleanup(opened.Close)
	return opened
}

// Whatever names and subjects hold, a mail has the headers it is to have, and no others.
func TestMessages(t *testing.T) {
	dir := t.TempDir()
	box, err := standin.NewMailbox("127.0.0.1:0", dir)
	require.NoError(t, err)
	defer box.Close()
	s := sender(t, fmt.Sprintf("{server: 'smtp://%s', from: '\"Bürø, Quay\" <accounts@brindlesound.example>', reply_to: crewing@brindlesound.example}", box.Address))
	for name, m := range map[string]mail.Mail{
		"plain":     {To: "ana@x.example", Subject: "Welcome", Text: "Hello\n.\nthere\n"},
		"letters":   {To: "zoe@x.example", Subject: "Þórsdóttir, 張偉 — welcome", Text: "Grüße, 張偉\n", HTML: "<p>Grüße</p>"},
		"injection": {To: "eve@x.example", Subject: "Hi\r\nBcc: everyone@x.example", Text: "x"},
		"attached":  {To: "ana@x.example", Subject: "Report", Text: "see", Attached: []mail.Attachment{{Name: "batch-1.html", Data: []byte("<p>1</p>")}}},
	} {
		m.ID = name + "@brindlesound.example"
		require.NoError(t, s.Send(t.Context(), m), name)
		files, err := filepath.Glob(filepath.Join(dir, "*.eml"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		data, err := os.ReadFile(files[0])
		require.NoError(t, err)
		require.NoError(t, os.Remove(files[0]))
		read, err := netmail.ReadMessage(strings.NewReader(string(data)))
		require.NoError(t, err)
		decoded, err := new(mime.WordDecoder).DecodeHeader(read.Header.Get("Subject"))
		require.NoError(t, err)
		assert.Equal(t, strings.Join(strings.Fields(m.Subject), " "), decoded)
		assert.Equal(t, "<"+m.ID+">", read.Header.Get("Message-ID"))
		assert.Equal(t, "auto-generated", read.Header.Get("Auto-Submitted"))
		assert.Empty(t, read.Header.Get("Bcc"))
		from, err := netmail.ParseAddress(read.Header.Get("From"))
		require.NoError(t, err)
		assert.Equal(t, "Bürø, Quay", from.Name)
		if m.HTML != "" {
			assert.Contains(t, read.Header.Get("Content-Type"), "multipart/alternative")
		}
		if len(m.Attached) > 0 {
			assert.Contains(t, string(data), "batch-1.html")
		}
	}
	var no *mail.Refused
	require.ErrorAs(t, s.Send(t.Context(), mail.Mail{To: "refused@x.example", Subject: "x", Text: "x"}), &no)
	assert.Contains(t, no.Message, "550 5.1.1 nobody here is called refused@x.example")
	require.ErrorIs(t, s.Send(t.Context(), mail.Mail{To: "busy@x.example", Subject: "x", Text: "x"}), mail.ErrLater)
	require.NoError(t, s.Send(t.Context(), mail.Mail{To: "busy@x.example", Subject: "x", Text: "x"}))
	require.ErrorAs(t, s.Send(t.Context(), mail.Mail{To: "two@x.example, three@x.example", Subject: "x", Text: "x"}), &no, "it goes to one address")
}

// odd is a server that ends a conversation at a word of the client's.
func odd(t *testing.T, at, answer string) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				in := bufio.NewReader(conn)
				_, _ = io.WriteString(conn, "220 odd\r\n")
				for data := false; ; {
					line, err := in.ReadString('\n')
					if err != nil {
						return
					}
					word, _, _ := strings.Cut(strings.TrimSpace(strings.ToUpper(line)), " ")
					if data && strings.TrimSpace(line) != "." {
						continue
					}
					if data {
						word, data = "END", false
					}
					if word == at {
						if answer == "" {
							return
						}
						_, _ = io.WriteString(conn, answer+"\r\n")
						continue
					}
					if word == "DATA" {
						data = true
						_, _ = io.WriteString(conn, "354 go on\r\n")
						continue
					}
					_, _ = io.WriteString(conn, "250 fine\r\n")
				}
			}()
		}
	}()
	return listener.Addr().String()
}

// What became of a mail is told apart wherever a conversation ends.
func TestAnswers(t *testing.T) {
	for name, test := range map[string]struct {
		at, answer string
		check      func(error) bool
	}{
		"cut after it was handed over": {"END", "", func(err error) bool { return errors.Is(err, mail.ErrUnclear) }},
		"refused after it":             {"END", "554 5.6.0 no such content here", func(err error) bool { var no *mail.Refused; return errors.As(err, &no) }},
		"not now, after it":            {"END", "452 4.3.1 the disk is full", func(err error) bool { return errors.Is(err, mail.ErrLater) }},
		"cut before":                   {"DATA", "", func(err error) bool { return errors.Is(err, mail.ErrLater) }},
		"cut at the address":           {"RCPT", "", func(err error) bool { return errors.Is(err, mail.ErrLater) }},
		"closing down":                 {"MAIL", "421 4.3.2 closing down", func(err error) bool { return errors.Is(err, mail.ErrLater) }},
		"nobody is greeted":            {"EHLO", "", func(err error) bool { var down *reach.Unavailable; return errors.As(err, &down) }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := sender(t, fmt.Sprintf("{server: 'smtp://%s', from: accounts@brindlesound.example}", odd(t, test.at, test.answer)))
			err := s.Send(t.Context(), mail.Mail{To: "ana@x.example", Subject: "x", Text: "x"})
			assert.True(t, test.check(err), "%v", err)
		})
	}
}

func TestReading(t *testing.T) {
	t.Setenv("MAIL_PASSWORD", "hunter2-in-clear")
	for text, says := range map[string]string{
		"{from: a@b.example}":                                                     "mail has no “server”",
		"{server: 'smtp://mail.example'}":                                         "mail has no “from”",
		"{server: mail.example, from: a@b.example}":                               "no address of a mail server",
		"{server: 'smtp://ana:pw@mail.example', from: a@b.example}":               "has a user name or password in it",
		"{server: 'smtp://mail.example', from: nobody}":                           "this is no address",
		"{server: 'smtp://mail.example', from: a@b.example, user: ana}":           "only one of user and password",
		"{server: 'smtp://mail.example', from: a@b.example, rate: quickly}":       "is not a pace",
		"{server: 'smtp://mail.example', from: a@b.example, reply_to: 'A <a@b>'}": "is no address",
	} {
		_, err := server(t, text)
		require.ErrorContains(t, err, says, text)
		assert.NotContains(t, err.Error(), "ana:pw")
	}
	s := sender(t, "{server: 'smtp://127.0.0.1:1', from: a@b.example, user: ana, password: env:MAIL_PASSWORD}")
	err := s.Send(t.Context(), mail.Mail{To: "ana@x.example", Subject: "x", Text: "x"})
	require.ErrorContains(t, err, "cannot be reached")
	// What a server is called says nothing of why it is not there.
	err = sender(t, "{server: 'smtp://[::1%25auth0]:1', from: accounts@brindlesound.example, user: ana, password: env:HOME}").Connect(t.Context())
	assert.ErrorContains(t, err, "cannot be reached")
	assert.NotContains(t, err.Error(), "hunter2")

	// To another machine nothing is said in clear: the server is to begin TLS.
	at := odd(t, "", "")
	_, port, _ := net.SplitHostPort(at)
	cut := sender(t, fmt.Sprintf("{server: 'smtp://127.0.0.1:%s', from: a@b.example, ca: %s}", port, authority(t)))
	assert.ErrorContains(t, cut.Send(t.Context(), mail.Mail{To: "ana@x.example", Subject: "x", Text: "x"}), "does not begin TLS")
}

// authority writes a certificate that signs nothing here.
func authority(t *testing.T) string {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	own := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	signed, err := x509.CreateCertificate(rand.Reader, own, own, &key.PublicKey, key)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}), 0o600))
	return path
}

// guarded is a server that lets nobody send who did not sign in, over TLS.
type guarded struct{ sent *atomic.Int32 }

func (g guarded) NewSession(*smtp.Conn) (smtp.Session, error) { return &guest{guarded: g}, nil }

type guest struct {
	guarded
	in bool
}

func (g *guest) AuthMechanisms() []string { return []string{sasl.Plain} }

func (g *guest) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "evenledger" || password != "gulls-over-quay" {
			return smtp.ErrAuthFailed
		}
		g.in = true
		return nil
	}), nil
}

func (g *guest) Mail(string, *smtp.MailOptions) error {
	if !g.in {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (*guest) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (g *guest) Data(r io.Reader) error {
	g.sent.Add(1)
	_, err := io.Copy(io.Discard, r)
	return err
}
func (*guest) Reset()        {}
func (*guest) Logout() error { return nil }

// Over TLS from the start, or begun in clear, the server proves who it is before the password is
// said; a wrong password, and a server that nobody knows, are told for what they are.
func TestSigningIn(t *testing.T) {
	web := httptest.NewUnstartedServer(nil)
	web.StartTLS() // for its certificate
	defer web.Close()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: web.Certificate().Raw}), 0o600))
	strange := authority(t)
	var sent atomic.Int32
	at := map[string]string{}
	for _, scheme := range []string{"smtp", "smtps"} {
		s := smtp.NewServer(guarded{&sent})
		s.Domain, s.TLSConfig, s.ErrorLog = "localhost", web.TLS, log.New(io.Discard, "", 0)
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at[scheme] = scheme + "://" + listener.Addr().String()
		if scheme == "smtps" {
			listener = tls.NewListener(listener, web.TLS)
		}
		go func() { _ = s.Serve(listener) }()
		defer s.Close()
	}
	t.Setenv("RIGHT", "gulls-over-quay")
	t.Setenv("WRONG", "hunter2-in-clear")
	for name, test := range map[string]struct{ text, says string }{
		"TLS that begins in clear": {"server: '" + at["smtp"] + "', ca: " + ca + ", user: evenledger, password: env:RIGHT", ""},
		"TLS from the start":       {"server: '" + at["smtps"] + "', ca: " + ca + ", user: evenledger, password: env:RIGHT", ""},
		"a wrong password":         {"server: '" + at["smtps"] + "', ca: " + ca + ", user: evenledger, password: env:WRONG", "does not let evenledger in"},
		"an unknown authority":     {"server: '" + at["smtps"] + "', ca: " + strange + ", user: evenledger, password: env:RIGHT", "does not verify"},
		"the same, begun in clear": {"server: '" + at["smtp"] + "', ca: " + strange + ", user: evenledger, password: env:RIGHT", "verify"},
		"nobody signs in":          {"server: '" + at["smtps"] + "', ca: " + ca, "authenticate"},
	} {
		t.Run(name, func(t *testing.T) {
			before := sent.Load()
			s := sender(t, "{"+test.text+", from: office@brindlesound.example}")
			err := s.Send(t.Context(), mail.Mail{To: "ana@x.example", Subject: "x", Text: "x"})
			if test.says == "" {
				require.NoError(t, err)
				assert.Equal(t, before+1, sent.Load())
				return
			}
			require.Error(t, err)
			assert.Contains(t, strings.ToLower(err.Error()), strings.ToLower(test.says))
			assert.NotContains(t, err.Error(), "hunter2")
			assert.Equal(t, before, sent.Load())
		})
	}
}
