package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	gomail "github.com/wneessen/go-mail"

	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/feed/sqlfeed"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/standin"
	"evenledger/internal/yamldoc"
)

const (
	hands     = 1_000_000 // rows of the database that a feed brings
	mailCount = 5_000
)

const handsQuery = `select * from hands order by c1`

// benchFeeds holds a feed out of PostgreSQL, brought and read as a sheet, against a bare read of
// its rows.
func benchFeeds(_, dir string) error {
	at, stop, err := database()
	if err != nil || at == "" {
		return err
	}
	defer stop()
	conn, err := pgx.Connect(context.Background(), at)
	if err != nil {
		return err
	}
	var columns []string
	for i := range 12 {
		columns = append(columns, fmt.Sprintf("'value ' || (n %% %d) as c%d", 100+i, i+2))
	}
	if _, err := conn.Exec(context.Background(), fmt.Sprintf("create table hands as select n as c1, %s, date '2027-01-01' + (n %% 300)::int as c14, n %% 2 = 0 as c15 from generate_series(1, %d) n", strings.Join(columns, ", "), hands)); err != nil {
		return err
	}
	if err := conn.Close(context.Background()); err != nil {
		return err
	}
	ours, bare, ratio, err := pairs(3, func() *exec.Cmd { return self("feed-bring", at, dir) }, func() *exec.Cmd { return self("feed-bare", at, dir) })
	if err != nil {
		return err
	}
	fmt.Printf("feeds      %d rows × 15 out of PostgreSQL, brought and read as a sheet: %5.2f s, %d MB; bare read %5.2f s, %d MB; %.2f of its rows/s\n", hands, ours.wall.Seconds(), ours.peak>>20, bare.wall.Seconds(), bare.peak>>20, 1/ratio)
	return nil
}

// database starts a PostgreSQL of its own, whose commits wait for the disk, and returns its address;
// empty: there is none on this machine.
func database() (at string, stop func(), err error) {
	if _, err := os.Stat("/usr/lib/postgresql"); err != nil {
		fmt.Println("skipped: there is no PostgreSQL on this machine")
		return "", nil, nil
	}
	folder, err := os.MkdirTemp("", "bench") // a socket's path is short
	if err != nil {
		return "", nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	port := listener.Addr().(*net.TCPAddr).Port
	if err := listener.Close(); err != nil {
		return "", nil, err
	}
	server := exec.Command("scripts/postgres.sh", folder, strconv.Itoa(port))
	server.Env = append(os.Environ(), "DURABLE=yes")
	if err := server.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		_ = server.Process.Signal(syscall.SIGINT)
		_, _ = server.Process.Wait()
		_ = os.RemoveAll(folder)
	}
	at = fmt.Sprintf("postgres://ferries@/postgres?host=%s&port=%d", folder, port)
	for range 200 {
		var conn *pgx.Conn
		if conn, err = pgx.Connect(context.Background(), at); err == nil {
			return at, stop, conn.Close(context.Background())
		}
		time.Sleep(100 * time.Millisecond)
	}
	stop()
	return "", nil, err
}

// feedBring is what a feed costs up to the mapping.
func feedBring(at, dir string) error {
	config := fmt.Sprintf("hands:\n  url: %q\n  query: %s\n", at, handsQuery)
	doc, err := yamldoc.Parse("bench.yaml", []byte(config))
	if err != nil {
		return err
	}
	pair := doc.Root().Pairs()[0]
	source := sqlfeed.Kind().Read(reach.Part{Name: "hands", Dir: dir, At: pair.At}, pair.Value)
	if err := doc.Err(); err != nil {
		return err
	}
	spool, err := feed.NewSpool(filepath.Join(dir, "spool"), feed.Most)
	if err != nil {
		return err
	}
	defer spool.Close()
	d, err := source.Bring(context.Background(), spool, feed.Last{}, feed.Work{Mask: secret.NewMask(), Clock: clock.Real(), Timeout: time.Minute})
	if err != nil {
		return err
	}
	s, err := sheet.Open(d.Path, nil, sheet.Options{})
	if err != nil {
		return err
	}
	rows := 0
	for _, err := range s.Rows() {
		if err != nil {
			return err
		}
		rows++
	}
	if rows != hands {
		return fmt.Errorf("%d rows were read", rows)
	}
	return s.Close()
}

// feedBare reads the same rows and does nothing with them.
func feedBare(at string) error {
	conn, err := pgx.Connect(context.Background(), at)
	if err != nil {
		return err
	}
	rows, err := conn.Query(context.Background(), handsQuery)
	if err != nil {
		return err
	}
	for rows.Next() {
		if _, err := rows.Values(); err != nil {
			return err
		}
	}
	return errors.Join(rows.Err(), conn.Close(context.Background()))
}

// benchMails holds the mails of a post against a bare loop of the same library, with a server that
// takes each at once and with one that takes its time.
func benchMails(program, dir string) error {
	for _, delay := range []time.Duration{0, 2 * time.Millisecond} {
		if err := benchMailsTo(program, dir, delay); err != nil {
			return err
		}
	}
	return nil
}

func benchMailsTo(program, dir string, delay time.Duration) error {
	box, err := standin.NewMailbox("127.0.0.1:0", "")
	if err != nil {
		return err
	}
	defer box.Close()
	box.Delay = delay
	url, stop, err := practice(program, dir, 0, 100)
	if err != nil {
		return err
	}
	defer func() { _ = stop() }()
	sheetPath, brief := filepath.Join(dir, "mails.csv"), filepath.Join(dir, "mails.yaml")
	config := fmt.Sprintf("systems:\n  bench: {url: %q, token: env:BENCH_TOKEN, together: 4}\nmail: {server: \"smtp://%s\", from: office@brindlesound.example}\n", url, box.Address)
	old, _ := filepath.Glob(filepath.Join(dir, "ledger.db*"))
	for _, path := range old {
		_ = os.RemoveAll(path)
	}
	if err := errors.Join(generate(sheetPath, mailCount), os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644), os.WriteFile(brief, []byte(mailBrief), 0o644)); err != nil {
		return err
	}
	run := func(args ...string) (usage, error) {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN="+token)
		return measure(cmd)
	}
	for _, args := range [][]string{{"draft", sheetPath, "-b", brief}, {"post", "1", "--yes", "--hold-notices"}} {
		if _, err := run(args...); err != nil {
			return err
		}
	}
	ours, err := run("notices", "1", "--send", "--yes")
	if err != nil {
		return err
	}
	bare, err := measure(self("mail-bare", box.Address, strconv.Itoa(mailCount)))
	if err != nil {
		return err
	}
	fmt.Printf("mails      %d mails over 4 connections, taken after %v: %5.2f s; bare loop %5.2f s; %.2f of its mails/s\n", mailCount, delay, ours.wall.Seconds(), bare.wall.Seconds(), bare.wall.Seconds()/ours.wall.Seconds())
	return nil
}

const mailBrief = `match: [employeeNumber]
fields:
  employeeNumber: {from: Staff no}
  givenName: {from: First name}
  familyName: {from: Surname}
  userName: {make: 'fold(givenName) + "." + fold(familyName) + "." + employeeNumber'}
  email: {make: 'userName + "@brindlesound.example"'}
notices:
  welcome:
    on: created
    to: email
    subject: 'Welcome, {givenName}'
    text: 'You sign in as {userName}. Fair winds, the crewing office.'
`

// mailBare sends as many mails over as many connections and does nothing else.
func mailBare(at string, n int) error {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	var sending sync.WaitGroup
	failed := make(chan error, together)
	for c := range together {
		sending.Go(func() {
			client, err := gomail.NewClient(host, gomail.WithPort(number), gomail.WithTLSPolicy(gomail.NoTLS), gomail.WithoutNoop(), gomail.WithoutRset())
			if err == nil {
				err = client.DialWithContext(context.Background())
			}
			for i := c; i < n && err == nil; i += together {
				m := gomail.NewMsg()
				m.SetMessageID()
				m.SetDate()
				m.Subject("Welcome")
				m.SetBodyString(gomail.TypeTextPlain, "You sign in as siobhan.wisniewski."+strconv.Itoa(i)+". Fair winds, the crewing office.")
				if err = errors.Join(m.From("office@brindlesound.example"), m.To(fmt.Sprintf("crew.%d@brindlesound.example", i))); err == nil {
					err = client.Send(m)
				}
			}
			if err != nil {
				failed <- err
			}
		})
	}
	sending.Wait()
	close(failed)
	return <-failed
}
