package httpdial_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
)

// A gangway is a way to sign in of a service's own: a word that is good until it is turned away.
type gangway struct{ words []string }

func (g *gangway) Sign(_ context.Context, r *http.Request) error {
	if len(g.words) == 0 {
		return &reach.Unavailable{Message: "no word is left", Remedy: "Ask the harbour master."}
	}
	r.Header.Set("X-Word", g.words[0])
	return nil
}

func (g *gangway) Renew(*http.Request) bool {
	g.words = g.words[1:]
	return len(g.words) > 0
}

func (g *gangway) Remedy() string { return "Ask the harbour master for another word." }
func (g *gangway) Close() error   { return nil }

// A kind over HTTP says what an answer means. Waiting, repeating, signing in anew, and that a change of which no answer came
// is unclear, come with the client.
func ExampleClient() {
	busy := true
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Header.Get("X-Word") != "spring tide":
			w.WriteHeader(http.StatusUnauthorized)
		case busy:
			busy = false
			w.WriteHeader(http.StatusTooManyRequests)
		case r.Method == http.MethodPost:
			panic(http.ErrAbortHandler) // nobody knows what became of it
		default:
			fmt.Fprint(w, `["ana", "zoe"]`)
		}
	}))
	defer server.Close()
	service, err := httpdial.New(httpdial.Config{URL: server.URL, Credential: &gangway{[]string{"neap tide", "spring tide"}}, Tries: 3, Pause: time.Millisecond})
	if err != nil {
		fmt.Println(err)
		return
	}
	judge := func(got *httpdial.Answer) error {
		switch {
		case got.Status == http.StatusTooManyRequests:
			return &httpdial.Again{Err: errors.New("busy"), Unsent: true, Answered: true, Busy: true}
		case got.Status != http.StatusOK:
			return fmt.Errorf("answered %d", got.Status)
		}
		return nil
	}
	got, err := service.Do(context.Background(), httpdial.Request{Method: http.MethodGet, Path: "/people", Safe: true}, judge)
	fmt.Println(string(got.Body), err)
	_, err = service.Do(context.Background(), httpdial.Request{Method: http.MethodPost, Path: "/people"}, judge)
	var unclear *reach.Unclear
	fmt.Println("unclear:", errors.As(err, &unclear))
	_, err = service.Do(context.Background(), httpdial.Request{Method: http.MethodPost, Path: "/people", May: func() error { return errors.New("others have the work") }}, judge)
	fmt.Println(err)
	// Output:
	// ["ana", "zoe"] <nil>
	// unclear: true
	// others have the work
}
