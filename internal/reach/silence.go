package reach

import (
	"net"
	"time"
)

// silence is how long the other end may leave what was sent, or a question whether it is still
// there, without an answer before the connection counts as cut. A network tells nobody that it is.
const silence = 10 * time.Second

// Dialer connects within a time, and its connections end when the other end is not there any more. One
// that only takes its time with an answer is waited for.
func Dialer(timeout time.Duration) *net.Dialer {
	return &net.Dialer{
		Timeout:         timeout,
		KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: silence / 2, Interval: silence / 8, Count: 4},
		Control:         answered,
	}
}
