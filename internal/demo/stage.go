package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"evenledger/internal/standin"
)

// A Stage is the folder of the demonstration, and what it needs around it: the practice application and a
// mail server, both on this machine.
type Stage struct {
	Again string // the command that serves them once more, to be typed in the folder

	box    *standin.Mailbox
	stop   func()
	served chan error
}

// NewStage makes the folder, which must not exist, and serves what is around it until Close.
func NewStage(ctx context.Context, dir string, now time.Time) (stage *Stage, err error) {
	listener, err := listen(8085)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, listener.Close())
		}
	}()
	mails := filepath.Join(dir, "mails")
	box, err := standin.NewMailbox("127.0.0.1:8025", mails)
	if err != nil {
		if box, err = standin.NewMailbox("127.0.0.1:0", mails); err != nil {
			return nil, err
		}
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, box.Close())
		}
	}()
	if err := Write(dir, fmt.Sprintf("http://%s%s", listener.Addr(), standin.Path), "smtp://"+box.Address, now); err != nil {
		return nil, err
	}
	app, err := Practice{Options: standin.Options{Data: filepath.Join(dir, "crewdesk.json")}, Token: "file:" + filepath.Join(dir, "crewdesk.token"), Sample: true}.Open(now)
	if err != nil {
		return nil, err
	}
	_, mailPort, err := net.SplitHostPort(box.Address)
	if err != nil {
		return nil, err
	}
	serving, stop := context.WithCancel(ctx)
	stage = &Stage{box: box, stop: stop, served: make(chan error, 1)}
	stage.Again = fmt.Sprintf("evenledger standin --data crewdesk.json --token file:crewdesk.token --port %d --mail mails --mail-port %s", listener.Addr().(*net.TCPAddr).Port, mailPort)
	go func() { stage.served <- errors.Join(standin.Serve(serving, listener, app), app.Close()) }()
	return stage, nil
}

// listen listens on a port of this machine, or on any if that is taken.
func listen(port int) (net.Listener, error) {
	if listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
		return listener, nil
	}
	return net.Listen("tcp", "127.0.0.1:0")
}

// Close ends the application and the mail server. What they keep stays in the folder.
func (s *Stage) Close() error {
	s.stop()
	return errors.Join(<-s.served, s.box.Close())
}
