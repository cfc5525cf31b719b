package main

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/engines"
)

// benchScale tells how long a million accounts take with systems, limits, numbers of workers and
// ledgers of many kinds. Nobody has them all, so a simulation of the way that rows go through
// workers and the ledger is run, of what was measured here, and held against two real posts.
func benchScale(program, dir string) error {
	all, stop, err := keeps(program, dir, "scale")
	if err != nil {
		return err
	}
	defer stop()
	if len(all) < 2 {
		return nil
	}
	k := all[1]
	m, err := measured(k.at)
	if err != nil {
		return err
	}
	sheet, err := posted(dir, "scale.csv", shared)
	if err != nil {
		return err
	}
	m.row = 0.12 // a post's own processor time, on a core that nobody fights for
	fmt.Printf("scale  a worker's processor %.2f ms a row; the ledger's server %.2f ms a trip and %.1f ms to be on disk, %.0f rows a second at most\n", m.row, m.trip, m.disk, m.most)
	for i, p := range []place{{answers: 20, workers: 1}, {answers: 20, workers: 4}, {answers: 5, workers: 1}, {answers: 5, workers: 1, away: 20}, {answers: 20, workers: 4, away: 20}} {
		near, told := k.at, p.answers
		if p.answers, err = k.answers(time.Duration(told) * time.Millisecond); err != nil {
			return err
		}
		if p.away > 0 {
			if k.at, err = farther(near, time.Duration(p.away/2)*time.Millisecond); err != nil {
				return err
			}
		}
		if err := k.drafted(i, sheet, time.Duration(told)*time.Millisecond, 0, func(usage) error {
			post, err := k.run("post", "1", "--yes", "--workers", fmt.Sprint(p.workers))
			fmt.Printf("scale  %9d creates, a system of %.0f ms (%.1f ms for a bare loop), the ledger %.0f ms away, %d workers: %6.1f s measured, %6.1f s simulated\n", shared, told, p.answers, p.away, p.workers, post.wall.Seconds(), shared/simulated(m, p).perSecond)
			return err
		}); err != nil {
			return err
		}
		k.at = near
	}
	tell(m)
	return nil
}

// tell prints how long a million accounts take.
func tell(m machine) {
	for _, away := range []float64{0, 20} {
		fmt.Printf("\nthe ledger %.0f ms away:\n\n| the system answers after | and lets pass | 1 worker | 4 workers | 16 | 64 |\n|---|---|---|---|---|---|\n", away)
		for _, answers := range []float64{5, 50, 500} {
			for _, passes := range []float64{10, 100, 1000, 0} {
				limit := "any number"
				if passes > 0 {
					limit = fmt.Sprintf("%.0f/s", passes)
				}
				fmt.Printf("| %.0f ms | %s |", answers, limit)
				for _, workers := range []int{1, 4, 16, 64} {
					s := simulated(m, place{answers: answers, passes: passes, workers: workers, away: away})
					fmt.Printf(" %s, %s |", s.million(), s.by)
				}
				fmt.Println()
			}
		}
	}
}

// answers is how many ms a bare loop waits for each request to a system that takes so long.
func (k *keep) answers(delay time.Duration) (ms float64, err error) {
	url, stop, err := practice(k.program, k.dir, delay, 0)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	const some = 2000
	took, err := measure(self("send", url, fmt.Sprint(some), fmt.Sprint(handsEach)))
	return 1000 * took.wall.Seconds() * handsEach / some, err
}

// farther is the address of a ledger that is so much farther away, each way.
func farther(at string, by time.Duration) (string, error) {
	address, err := url.Parse(at)
	if err != nil {
		return "", err
	}
	folder, port := address.Query().Get("host"), address.Query().Get("port")
	password, err := os.ReadFile(filepath.Join(folder, "password"))
	if err != nil {
		return "", err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", "127.0.0.1:"+port)
			if err != nil {
				_ = near.Close()
				continue
			}
			go carry(near, far, by)
			go carry(far, near, by)
		}
	}()
	return fmt.Sprintf("postgres://ferries:%s@%s/postgres?sslmode=disable&search_path=%s", strings.TrimSpace(string(password)), listener.Addr(), address.Query().Get("search_path")), nil
}

// carry hands over what comes, each piece so much later.
func carry(from, to net.Conn, later time.Duration) {
	type piece struct {
		at   time.Time
		data []byte
	}
	pieces := make(chan piece, 1000)
	go func() {
		defer to.Close()
		for p := range pieces {
			time.Sleep(time.Until(p.at))
			if _, err := to.Write(p.data); err != nil {
				return
			}
		}
	}()
	defer close(pieces)
	for {
		data := make([]byte, 64<<10)
		n, err := from.Read(data)
		if n > 0 {
			pieces <- piece{time.Now().Add(later), data[:n]}
		}
		if err != nil {
			return
		}
	}
}

// A machine is what was measured of it; times are in ms.
type machine struct {
	row  float64 // of a worker's processor, for a row
	trip float64 // to the ledger's server and back, and for a statement there
	disk float64 // until something is on its disk
	most float64 // rows a second that the server takes in claims and results, from many at once
}

// measured asks a ledger how fast it is.
func measured(at string) (m machine, err error) {
	ctx := context.Background()
	l, err := engines.Open(ctx, at, false)
	if err != nil {
		return m, err
	}
	defer l.Close()
	b := &batch.Batch{Draft: batch.Draft{Made: time.Now(), System: "bench"}}
	drafter := store.Worker{Name: "drafter", Who: "drafter", Term: time.Hour}
	if err := l.Begin(ctx, drafter, b); err != nil {
		return m, err
	}
	const hands, each, block = 8, 20, 512
	var entries []batch.Entry
	for row := range hands * each * block {
		entries = append(entries, batch.Entry{Row: row + 1, Key: fmt.Sprint("p", row), Intent: account.Create, Outcome: account.Waiting})
	}
	for i := 0; i < len(entries); i += 5000 {
		if err := l.Drafting(b.ID).Add(ctx, entries[i:min(i+5000, len(entries))]); err != nil {
			return m, err
		}
	}
	var workers []store.Worker
	for i := range hands {
		workers = append(workers, store.Worker{Name: fmt.Sprint("w", i), Who: "w", Term: time.Hour})
		if _, err := l.Lease(b.ID, workers[i]).Join(ctx); err != nil {
			return m, err
		}
	}
	// One row at a time tells the way there, many at once the most that it takes.
	const few = 200
	begun := time.Now()
	for range few {
		if _, err := l.Lease(b.ID, workers[0]).Renew(ctx); err != nil { // seven trips, none waits for the disk
			return m, err
		}
	}
	m.trip = 1000 * time.Since(begun).Seconds() / few / 7
	begun = time.Now()
	for i := range few {
		if _, err := l.Lease(b.ID, workers[0]).Claim(ctx, entries[i:i+1], time.Now()); err != nil {
			return m, err
		}
	}
	m.disk = max(0, 1000*time.Since(begun).Seconds()/few-claimTrips*m.trip)
	var failed atomic.Value
	var all sync.WaitGroup
	begun = time.Now()
	for i, worker := range workers {
		all.Go(func() {
			for n := range each {
				some := entries[(i*each+n)*block:][:block]
				claim, err := l.Lease(b.ID, worker).Claim(ctx, some, time.Now())
				var results []store.Result
				for _, e := range some {
					e.Outcome, e.Did, e.Account = account.Created, account.Created, "id-"+e.Key
					results = append(results, store.Result{Entry: e, Claim: claim})
				}
				if err = cmp.Or(err, l.Lease(b.ID, worker).Settle(ctx, results, time.Now())); err != nil {
					failed.Store(err)
					return
				}
			}
		})
	}
	all.Wait()
	if err, is := failed.Load().(error); is {
		return m, err
	}
	m.most = float64(len(entries)) / time.Since(begun).Seconds()
	return m, nil
}

// How rows go through a worker and the ledger (internal/posting, internal/store/tables).
const (
	handsEach    = 4                  // requests of a worker that are under way
	claimTrips   = 6                  // to the ledger and back, for a block
	settleTrips  = 8                  // for results
	takeTrips    = 11                 // for a part
	partTrips    = 13                 // besides, to end one and read the next
	leastBlock   = 64                 // rows
	mostBlock    = 512                // rows, of blocks and of results
	resultsAfter = 25                 // ms
	warm, until  = 20_000.0, 80_000.0 // ms: what is counted
)

// A place is what a simulation is of; times are in ms.
type place struct {
	answers float64 // until the system answers
	passes  float64 // requests a second; 0: any number
	workers int
	away    float64 // the ledger, there and back
}

// An answer is what came of a simulation.
type simulation struct {
	perSecond float64
	by        string // what limits it: the system's time to answer or its limit, the ledger's server or the way there, or the processor
}

// million is how long a million accounts take.
func (s simulation) million() string {
	switch took := time.Duration(1e6 / s.perSecond * float64(time.Second)); {
	case took < 5*time.Minute:
		return fmt.Sprintf("%.0f s", took.Seconds())
	case took < 100*time.Minute:
		return fmt.Sprintf("%.0f min", took.Minutes())
	case took < 72*time.Hour:
		return fmt.Sprintf("%.1f h", took.Hours())
	default:
		return fmt.Sprintf("%.1f days", took.Hours()/24)
	}
}

// A worker of a simulation.
type simWorker struct {
	part, parts    int     // rows of the part that are not claimed yet, and those of all of it
	began          float64 // the part
	ready, waiting int     // rows claimed and not begun; hands that have nothing to do
	claiming       bool    // a block is on its way to the ledger
	size           int     // of the next block
	fed            float64 // when the last block was asked for
	results        int     // that are not written yet
	writing        bool
	free           float64 // when its processor is free
	idle           float64 // ms for which hands waited for the ledger
	since          float64 // when the count of waiting hands changed last
}

// An event is something that happens at a time.
type event struct {
	at float64
	do func()
}

type events []event

func (e events) Len() int           { return len(e) }
func (e events) Less(i, j int) bool { return e[i].at < e[j].at }
func (e events) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)        { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// A sim is a simulation under way.
type sim struct {
	machine
	place
	now     float64
	queue   events
	next    float64 // when the system lets the next request pass
	server  float64 // until when the ledger's server has work
	served  float64 // ms for which it had
	busy    float64 // ms of the workers' processors
	settled int     // rows
	all     []*simWorker
}

func (s *sim) at(t float64, do func()) { heap.Push(&s.queue, event{t, do}) }

func (s *sim) counts() bool { return s.now >= warm }

// ledger has the server do something for so many rows, which takes so many trips.
func (s *sim) ledger(rows int, trips float64, then func()) {
	work := float64(rows) * 1000 / s.most / 2 // a row is claimed and settled
	s.server = max(s.server, s.now) + work
	if s.counts() {
		s.served += work
	}
	s.at(s.server+trips*(s.trip+s.away)+s.disk, then)
}

// claim asks for the next block, if there is room for it.
func (s *sim) claim(w *simWorker) {
	if w.claiming || w.ready > leastBlock || w.part == 0 {
		return
	}
	w.claiming = true
	asked, size := s.now, min(w.size, w.part)
	w.part -= size
	s.ledger(size, claimTrips, func() {
		took, lasts := s.now-w.fed, max(50, 4*(s.now-asked))
		if took < lasts/2 {
			w.size = min(2*w.size, mostBlock)
		} else if took > 2*lasts {
			w.size = max(w.size/2, leastBlock)
		}
		w.fed = s.now
		w.claiming = false
		w.ready += size
		for w.waiting > 0 && w.ready > 0 {
			s.waits(w, -1)
			s.send(w)
		}
		s.claim(w)
	})
}

// waits counts hands that wait for the ledger.
func (s *sim) waits(w *simWorker, more int) {
	if s.counts() {
		w.idle += float64(w.waiting) * (s.now - max(w.since, warm))
	}
	w.since, w.waiting = s.now, w.waiting+more
}

// send has a hand send its next request.
func (s *sim) send(w *simWorker) {
	if w.ready == 0 || w.results > 2*mostBlock {
		s.waits(w, 1)
		s.claim(w)
		s.ended(w)
		return
	}
	w.ready--
	s.claim(w)
	w.free = max(w.free, s.now) + s.row
	if s.counts() {
		s.busy += s.row
	}
	at := w.free
	if s.passes > 0 {
		at = max(at, s.next)
		s.next = at + 1000/s.passes
	}
	s.at(at+s.answers, func() {
		w.results++
		s.write(w)
		s.send(w)
	})
}

// ended has a worker that is through with its part get the next.
func (s *sim) ended(w *simWorker) {
	if w.part > 0 || w.ready > 0 || w.claiming || w.waiting < handsEach || w.results > 0 || w.writing {
		return
	}
	take := takeTrips * (s.trip + s.away)
	lasts := 15_000.0
	if s.workers > 1 {
		lasts = max(3000, 24*take)
	}
	rows := int(min(20_000, float64(w.parts)*lasts/max(1, s.now-w.began)))
	w.began = s.now
	s.at(s.now+take+partTrips*(s.trip+s.away), func() {
		w.part, w.parts = rows, rows
		s.claim(w)
	})
}

// write writes results a moment after they come.
func (s *sim) write(w *simWorker) {
	if w.writing {
		return
	}
	w.writing = true
	s.at(s.now+resultsAfter, func() {
		n := min(w.results, mostBlock)
		s.ledger(n, settleTrips, func() {
			w.results -= n
			w.writing = false
			if s.counts() {
				s.settled += n
			}
			if w.results > 0 {
				s.write(w)
			}
			s.ended(w)
			for w.waiting > 0 && w.ready > 0 && w.results <= 2*mostBlock {
				s.waits(w, -1)
				s.send(w)
			}
		})
	})
}

// simulated lets workers post for a while.
func simulated(m machine, p place) simulation {
	s := &sim{machine: m, place: p}
	for range p.workers {
		w := &simWorker{size: leastBlock, waiting: handsEach, part: 4 * leastBlock, parts: 4 * leastBlock}
		s.all = append(s.all, w)
		s.claim(w)
	}
	for len(s.queue) > 0 && s.now < until {
		e := heap.Pop(&s.queue).(event)
		s.now = e.at
		e.do()
	}
	lasted := until - warm
	idle := 0.0
	for _, w := range s.all {
		s.waits(w, 0)
		idle += w.idle / lasted / handsEach / float64(p.workers)
	}
	r := simulation{perSecond: float64(s.settled) / lasted * 1000}
	switch {
	case p.passes > 0 && r.perSecond > 0.9*p.passes:
		r.by = "limit"
	case s.served/lasted > 0.9:
		r.by = "server"
	case s.busy/lasted/float64(p.workers) > 0.9:
		r.by = "processor"
	case idle > 0.1:
		r.by = "way"
	default:
		r.by = "time"
	}
	r.perSecond = math.Max(r.perSecond, 1e-9)
	return r
}
