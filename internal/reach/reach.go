// Package reach has what is shared by everything that reaches out of this machine, systems
// and feeds: how their parts of evenledger.yaml are read, where secrets are kept, and how
// a server proves who it is.
//
// It promises that no secret stands in what was read, that nothing is said in clear but
// to this machine, and that nobody waits for an end of a line that is cut.
package reach

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"evenledger/internal/secret"
	"evenledger/internal/told"
	"evenledger/internal/yamldoc"
)

// A Part is the place of evenledger.yaml that is about one thing out there.
type Part struct {
	Name string
	Dir  string       // that paths are taken from
	At   yamldoc.Node // its name in the file
}

// Path returns the absolute path that a text means.
func (p Part) Path(text string) string {
	if filepath.IsAbs(text) {
		return text
	}
	return filepath.Join(p.Dir, text)
}

// File reads the path of a file.
func (p Part) File(node yamldoc.Node) string { return p.Path(node.Text()) }

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

// NoSecret means that a secret which is needed could not be had.
type NoSecret struct {
	Reference secret.Reference
	Err       error
}

func (e *NoSecret) Error() string { return e.Err.Error() }
func (e *NoSecret) Unwrap() error { return e.Err }

// Open opens a secret and has the mask hide it. One that cannot be had is a *NoSecret.
func Open(r secret.Reference, mask *secret.Mask) (string, error) {
	text, err := r.Open()
	if err != nil {
		return "", &NoSecret{r, err}
	}
	mask.Add(text)
	return text, nil
}

// Unavailable means that what is out there cannot be reached, turns the program away or
// answers what cannot be understood.
type Unavailable struct {
	Message string
	Remedy  string
	Err     error // the cause, or nil
}

func (e *Unavailable) Error() string { return e.Message }
func (e *Unavailable) Unwrap() error { return e.Err }

// Tell implements told.Error.
func (e *Unavailable) Tell() told.Telling {
	return told.Telling{Class: told.Away, Message: e.Message, Remedy: e.Remedy}
}

// Unclear means that a request to change something was sent and no clear answer
// came: it may or may not have been carried out.
type Unclear struct {
	Err     error
	Ask     string // with TakenIn: where is asked what became of it; empty: nobody says
	TakenIn bool   // who was asked said that the request was taken in: it may be carried out at any time, and is not sent again
}

func (e *Unclear) Error() string { return "no clear answer came: " + e.Err.Error() }
func (e *Unclear) Unwrap() error { return e.Err }

// Tell implements told.Error: what it comes of says more, if that explains itself.
func (e *Unclear) Tell() told.Telling {
	if says, explained := told.Of(e.Err); explained {
		return says
	}
	return told.Telling{Class: told.Away, Message: e.Error(), Remedy: "Post the batch again later: what is open is looked up first."}
}
