package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// outwardWindow is how many entries are read together with what they send.
const outwardWindow = 1000

// An outward stage is what goes out of the system about entries that are as wanted: follow-ups and
// mails. Each is noted as on its way when what carries it is ready for it, and never done again by
// itself once that was so: a kill leaves no more unclear than are carried at once.
type outward struct {
	*run
	does   membership.Verb
	code   account.Code
	called string

	claims chan claiming
}

// A claiming asks for a note that something is on its way, and of what came to its end before it.
type claiming struct {
	results []store.Result
	noted   chan<- error
}

// A carrier carries one thing out after the other. What became of the last is noted with what comes
// next: on disk no more is open than is carried at once.
type carrier struct {
	*outward
	carry func(ctx context.Context, c *carrier, e *batch.Entry, s *membership.Step) error
	ended []store.Result
}

// each does what goes out of the entries that are ready for it, so many side by side. ready
// readies what one carrier needs, and returns what carries one step out; an error of that is of
// all, and ends the stage.
func (o *outward) each(ctx context.Context, together int, ready func() (carry func(ctx context.Context, c *carrier, e *batch.Entry, s *membership.Step) error, done func(), err error)) error {
	return o.pending(ctx, o.does, func(window []batch.Entry) error {
		var entries []*batch.Entry
		for i := range window {
			switch open, settled := o.readySteps(&window[i]); {
			case open > 0:
				entries = append(entries, &window[i])
			case settled:
				o.end(&window[i])
			}
		}
		if len(entries) == 0 {
			return nil
		}
		o.claims = make(chan claiming)
		noting := make(chan struct{})
		go func() {
			defer close(noting)
			o.note(context.WithoutCancel(ctx))
		}()
		work := make(chan *batch.Entry)
		group, doing := errgroup.WithContext(ctx)
		for range min(together, len(entries)) {
			group.Go(func() error {
				carry, done, err := ready()
				if err != nil {
					return err
				}
				defer done()
				c := &carrier{outward: o, carry: carry}
				for e := range work {
					if err = c.carryOut(doing, e); err != nil {
						break
					}
				}
				return errors.Join(err, c.noted(context.WithoutCancel(ctx)))
			})
		}
		group.Go(func() error {
			defer close(work)
			for _, e := range entries {
				select {
				case work <- e:
				case <-doing.Done():
					return nil
				}
			}
			return nil
		})
		err := group.Wait()
		close(o.claims)
		<-noting
		return err
	})
}

// carryOut carries the steps of an entry out, one after the other.
func (c *carrier) carryOut(ctx context.Context, e *batch.Entry) (err error) {
	for n := range e.Steps {
		s := &e.Steps[n]
		if s.Do != c.does || s.Result != "" && s.Result != membership.Queued || err != nil || ctx.Err() != nil {
			continue
		}
		if err = c.carry(ctx, c, e, s); s.Result != "" && s.Result != membership.Queued {
			c.advance(1)
		}
	}
	e.Settle()
	c.ended = append(c.ended, resultOf(e))
	return err
}

// noted has what came to its end noted, at the latest when nothing comes any more.
func (c *carrier) noted(ctx context.Context) error {
	if len(c.ended) == 0 {
		return nil
	}
	noted := make(chan error, 1)
	c.claims <- claiming{c.ended, noted}
	c.ended = nil
	return <-noted
}

// end notes what became of an entry.
func (o *outward) end(e *batch.Entry) {
	e.Settle()
	o.results <- resultOf(e)
}

// claim notes that a step is on its way. It is on disk when claim returns, and the work is still
// this worker's.
func (c *carrier) claim(ctx context.Context, e *batch.Entry, s *membership.Step) error {
	before := s.Result
	s.Result = membership.Sending
	noted := make(chan error, 1)
	select {
	case c.claims <- claiming{append(c.ended, resultOf(e)), noted}:
		c.ended = nil
	case <-ctx.Done():
		s.Result = before
		return context.Cause(ctx)
	}
	err := <-noted
	if err == nil {
		err = c.at.May()
	}
	if err != nil {
		s.Result = membership.Queued // it was not begun
	}
	return err
}

// note writes down what is asked for at the same time together.
func (o *outward) note(ctx context.Context) {
	for first := range o.claims {
		group := []claiming{first}
		for more := true; more; {
			select {
			case next, open := <-o.claims:
				if more = open; open {
					group = append(group, next)
				}
			default:
				more = false
			}
		}
		var results []store.Result
		for _, asked := range group {
			results = append(results, asked.results...)
		}
		err := o.settle(ctx, results)
		if err == nil && o.Batch.Secrets != "" {
			err = o.wipe(ctx, results)
		}
		for _, asked := range group {
			asked.noted <- err
		}
	}
}

// readySteps settles what is known of an entry's steps without doing any, and returns how many are
// to be done now, and whether any was settled. What goes out waits for all that comes before it:
// it would say what is not so.
func (o *outward) readySteps(e *batch.Entry) (open int, settled bool) {
	before := func(s membership.Step) bool {
		return s.Within() || o.does == membership.Notify && s.Do == membership.Follow
	}
	failed := e.Proof == batch.Otherwise || e.Part != nil || slices.ContainsFunc(e.Steps, func(s membership.Step) bool {
		return s.Do != o.does && (s.Result == membership.Failed || s.Result == membership.Unclear)
	})
	waits := e.Proof == batch.Unseen || slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return before(s) && s.Waits() })
	for i := range e.Steps {
		s := &e.Steps[i]
		if s.Do != o.does {
			continue
		}
		was := s.Result
		switch {
		case s.Result == membership.Sending: // by a post that was killed
			s.Result = membership.Unclear
			e.FindOf(s, account.Warning, o.code, fmt.Sprintf("%s “%s” (%s) was on its way when a post was cut short: nobody can say whether it came to its end", o.called, s.Name, s.To))
		case s.Result != "" && s.Result != membership.Queued:
		case failed:
			s.Result = membership.Unsent
		case o.does == membership.Notify && o.HoldMails:
			s.Result = membership.Held
		case !waits:
			open++
		}
		settled = settled || s.Result != was
	}
	return open, settled
}

// beginSteps begins to count the steps of the stage.
func (o *outward) beginSteps(ctx context.Context, stage string) error {
	counts, err := o.Ledger.Steps(ctx, o.Batch.ID, o.does)
	if err != nil {
		return ignoreCancel(ctx, err)
	}
	total := 0
	for _, c := range counts {
		if c.Result == "" || c.Result == membership.Queued {
			total += c.N
		}
	}
	o.begin(stage, total)
	return nil
}
