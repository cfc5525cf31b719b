package reach

import (
	"errors"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// answered has a connection end when what was sent on it is not acknowledged (RFC 5482).
func answered(network, _ string, conn syscall.RawConn) error {
	if !strings.HasPrefix(network, "tcp") {
		return nil
	}
	var set error
	err := conn.Control(func(fd uintptr) {
		set = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(silence.Milliseconds()))
	})
	return errors.Join(err, set)
}
