package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"evenledger/internal/feed"
	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
)

// longestWait is how long a server that is busy is waited for.
const longestWait = 10 * time.Minute

// Does implements feed.Doer.
func (*source) Does() (statement bool) { return false }

// Open implements feed.Doer.
func (s *source) Open(work feed.Work) (feed.Place, error) {
	c, err := s.client(work)
	return place{c}, err
}

type place struct{ *client }

// Do implements feed.Place: one POST of a body in JSON. It is sent once: where no clear answer comes,
// nobody can say whether it was carried out. The key of the order goes with it, for servers that
// know one.
func (c place) Do(ctx context.Context, order feed.Order) error {
	body, err := json.Marshal(order.Body)
	if err != nil {
		return &feed.Refused{Message: err.Error()}
	}
	header := http.Header{"Content-Type": {"application/json"}, "Idempotency-Key": {order.Key}}
	answer, err := c.Stream(ctx, httpdial.Request{Method: http.MethodPost, URL: c.at, Header: header, Body: body}, c.outcome)
	if err == nil {
		return answer.Body.Close()
	}
	var unclear *reach.Unclear
	if errors.As(err, &unclear) {
		return fmt.Errorf("%w: %s", feed.ErrUnclear, unclear.Err)
	}
	return err
}

// outcome says what became of a call.
func (c *client) outcome(answer *http.Response) error {
	said := c.told(answer)
	wait, named := httpdial.RetryAfter(answer.Header, c.work.Clock.Now())
	verdict := httpdial.VerdictOn(answer.StatusCode)
	switch {
	case verdict == httpdial.Busy || answer.StatusCode == http.StatusServiceUnavailable && named:
		if !named {
			wait = time.Second
		}
		if wait > longestWait {
			return &reach.Unavailable{Message: said, Remedy: fmt.Sprintf("It asks to be left alone for %s; post the batch again then.", wait)}
		}
		return &feed.Later{After: wait, Message: said}
	case verdict == httpdial.Done:
		return nil
	case verdict == httpdial.TurnedAway:
		return &reach.Unavailable{Message: said, Remedy: c.Remedy()}
	case answer.StatusCode == http.StatusForbidden:
		return &reach.Unavailable{Message: said, Remedy: "The token or password is wrong, has run out, or may not do this. Look where evenledger.yaml says it is kept."}
	case verdict == httpdial.TakenIn, verdict == httpdial.Open && answer.StatusCode != http.StatusServiceUnavailable:
		return &reach.Unclear{Err: errors.New(said)}
	}
	return &feed.Refused{Message: said}
}
