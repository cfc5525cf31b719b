package system

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/clock"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Kind is a kind of system that evenledger.yaml may name.
type Kind struct {
	Name string
	// Keys are those of its part of evenledger.yaml, besides the keys of every system.
	Keys []yamldoc.Key
	// Forms are what the forms of its own take, for editors.
	Forms map[yamldoc.Form]yamldoc.Object
	// Read reads its part. Mistakes are reported where they stand.
	Read func(Part) Connection
	// IsOwn reports whether a name that is not of the catalogue is plainly that of one of
	// the system's own fields, so that nobody has to ask it. Nil: no name is.
	IsOwn func(field string) bool
}

// A Part is what evenledger.yaml says of one system in the keys of its kind.
type Part struct {
	Name  string
	Dir   string       // that paths are taken from
	At    yamldoc.Node // the system's name in the file
	Pairs []yamldoc.Pair
}

// Path returns the absolute path that a text means.
func (p Part) Path(text string) string {
	if filepath.IsAbs(text) {
		return text
	}
	return filepath.Join(p.Dir, text)
}

// Secret reads where a secret is kept.
func (p Part) Secret(node yamldoc.Node) secret.Reference {
	reference, err := secret.NewReference(node.Text(), p.Dir)
	if err != nil {
		node.Fail("Put the secret into an environment variable or a file and write env:NAME or file:PATH here.", "%s", err)
	}
	return reference
}

// Rate reads a pace, in requests a second.
func (p Part) Rate(node yamldoc.Node) float64 {
	number, unit, _ := strings.Cut(strings.ReplaceAll(node.Text(), " ", ""), "/")
	n, err := strconv.ParseFloat(number, 64)
	per := map[string]float64{"s": 1, "min": 60, "h": 3600}[unit]
	if err != nil || per == 0 || !(n > 0 && n < 1e9) {
		node.Fail("Write it as 20/s, 300/min or 5000/h.", "“%s” is not a pace", node.Text())
		return 0
	}
	return n / per
}

// Secure returns how a server has to prove who it is: by the authorities that the machine
// trusts, or by those of a PEM file if one is named.
func Secure(ca string) (*tls.Config, error) {
	secure := &tls.Config{MinVersion: tls.VersionTLS12}
	if ca == "" {
		return secure, nil
	}
	text, err := os.ReadFile(ca)
	if err != nil {
		return nil, fmt.Errorf("the certificate authority cannot be read: %w", err)
	}
	secure.RootCAs = x509.NewCertPool()
	for found := false; ; found = true {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil && !found {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", ca)
		} else if block == nil {
			return secure, nil
		}
		certificate, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("%s holds a certificate that cannot be used: %w", ca, err)
		}
		secure.RootCAs.AddCert(certificate)
	}
}

// OnThisMachine reports whether a host is this machine, so that nobody else hears what is
// said in clear.
func OnThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// A Connection is how one system is reached. It holds no secret, only where one is kept.
type Connection interface {
	// Address says where the system is: a batch is posted only where it was drafted for.
	Address() string
	// Open opens the secrets and returns the system. It sends nothing yet. A secret that
	// cannot be had is a *NoSecret.
	Open(Work) (System, error)
}

// Work is what every kind of system is told of the work at hand.
type Work struct {
	Together int               // requests in flight at once
	Timeout  time.Duration     // of one request
	Aliases  map[string]string // short name → full name of one of the system's own fields
	Mask     *secret.Mask      // takes secrets out of what is told; may be nil
	Trace    *slog.Logger      // gets what was sent and answered, without secrets; may be nil
	Clock    clock.Clock       // nil: the one on the wall
	Waiting  func(time.Time)   // is told until when the system asked to be left alone; may be nil
}

// NoSecret means that a secret which a system needs could not be had.
type NoSecret struct {
	Reference secret.Reference
	Err       error
}

func (e *NoSecret) Error() string { return e.Err.Error() }
func (e *NoSecret) Unwrap() error { return e.Err }

// OpenSecret opens a secret and has the mask hide it.
func (w Work) OpenSecret(r secret.Reference) (string, error) {
	text, err := r.Open()
	if err != nil {
		return "", &NoSecret{r, err}
	}
	w.Mask.Add(text)
	return text, nil
}
