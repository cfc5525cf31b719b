package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"evenledger/internal/feed"
	"evenledger/internal/reach"
)

// longestWait is how long a server that is busy is waited for.
const longestWait = 10 * time.Minute

// Does implements feed.Doer.
func (*source) Does() (statement bool) { return false }

// Do implements feed.Doer: one POST of a body in JSON. It is sent once: where no clear answer comes,
// nobody can say whether it was carried out. The key of the order goes with it, for servers that
// know one.
func (s *source) Do(ctx context.Context, order feed.Order, work feed.Work) error {
	c, err := s.client(work)
	if err != nil {
		return err
	}
	c.http.Timeout = work.Timeout // also for what stands behind the status of the answer
	c.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	body, err := json.Marshal(order.Body)
	if err != nil {
		return &feed.Refused{Message: err.Error()}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.at.String(), bytes.NewReader(body))
	if err != nil {
		return &feed.Refused{Message: err.Error()}
	}
	r.GetBody = nil // it is not sent a second time
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "evenledger")
	r.Header.Set("Idempotency-Key", order.Key)
	if c.authorization != "" {
		r.Header.Set("Authorization", c.authorization)
	}
	answer, err := c.http.Do(r)
	var dial *net.OpError
	switch {
	case err == nil:
	case errors.As(err, &dial) && dial.Op == "dial":
		return c.unreachable(ctx, err) // nothing was sent
	case isVerification(err):
		return c.unreachable(ctx, err)
	default:
		return fmt.Errorf("%w: %s: %s", feed.ErrUnclear, c.Address(), work.Mask.Hide(errors.Unwrap(err).Error()))
	}
	defer answer.Body.Close()
	told, _ := io.ReadAll(io.LimitReader(answer.Body, mostTold))
	said := fmt.Sprintf("%s answers %s", c.Address(), answer.Status)
	if text := strings.ToValidUTF8(strings.Join(strings.Fields(string(told)), " "), "�"); text != "" && !strings.HasPrefix(text, "<") {
		said += ": " + work.Mask.Hide(text)
	}
	wait, named := reach.RetryAfter(answer.Header, work.Clock.Now())
	switch code := answer.StatusCode; {
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable && named:
		if !named {
			wait = time.Second
		}
		if wait > longestWait {
			return &reach.Unavailable{Message: said, Remedy: fmt.Sprintf("It asks to be left alone for %s; post the batch again then.", wait)}
		}
		return &feed.Later{After: wait, Message: said}
	case code >= 200 && code < 300 && code != http.StatusAccepted:
		return nil
	case code == http.StatusUnauthorized, code == http.StatusForbidden:
		return &reach.Unavailable{Message: said, Remedy: "The token or password is wrong, has run out, or may not do this. Look where evenledger.yaml says it is kept."}
	case code == http.StatusAccepted, code == http.StatusRequestTimeout, code >= 500 && code != http.StatusServiceUnavailable:
		return fmt.Errorf("%w: %s", feed.ErrUnclear, said)
	}
	return &feed.Refused{Message: said}
}
