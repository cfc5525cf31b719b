// Command bench measures whole processes against a floor taken in the same run,
// and prints ratios, as single times say little on a busy machine.
//
//	go run ./bench check     check of 100,000 and 1,000,000 rows against a bare read of the file
//	go run ./bench post      5,000 creates against a bare loop of the same requests
//	go run ./bench proof     posts that read back what they did against posts that do not
//	go run ./bench limited   750 creates at a server that answers 429 at 25 requests a second
//	go run ./bench ties      5,000 creates with memberships against a bare loop of the least requests
//	go run ./bench draft     10,000 rows against 200,000 accounts against bare paging through them
//	go run ./bench sheets    workbooks of 200,000 rows, and peek at 1,000,000 rows, against bare reads
//	go run ./bench hosts     1,000 accounts on a host against a bare script, and four hosts together
//	go run ./bench linear    what once grew with the square of the sheet, at twice the size
//	go run ./bench growth    every command on 10,000, 100,000 and 1,000,000 rows
//	go run ./bench start     the time to print the help against a program that prints a line
//	go run ./bench all
//	go run ./bench generate FILE ROWS
package main

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"
)

func main() {
	log.SetFlags(0)
	if err := run(os.Args[1:]); err != nil {
		log.Fatal("bench: ", err)
	}
}

func run(args []string) error {
	if len(args) == 0 {
		return errors.New("say what to measure: check, sheets, post, changes, limited, ties, draft, directory, hosts, feeds, mails, proof, web, linear, start, team, million, full, growth, scale, watch or all")
	}
	if len(args) == 3 && args[0] == "generate" {
		n, err := strconv.Atoi(args[2])
		return errors.Join(err, generate(args[1], n))
	}
	// The floors run as processes of their own, by this program.
	if len(args) == 2 && args[0] == "read" {
		return bareRead(args[1])
	}
	if floor, ok := map[string]func(string) error{"rows": readRows, "workbook": bareWorkbook, "tokens": bareTokens}[args[0]]; ok && len(args) == 2 {
		return floor(args[1])
	}
	if len(args) == 2 && args[0] == "page" {
		return barePaging(args[1])
	}
	if len(args) == 4 && args[0] == "insert" {
		rows, err := strconv.Atoi(args[2])
		size, notSize := strconv.Atoi(args[3])
		if err := errors.Join(err, notSize); err != nil {
			return err
		}
		return bareInsert(args[1], rows, size)
	}
	if len(args) == 4 && args[0] == "ties" {
		return bareTies(args[1], args[2], args[3])
	}
	if len(args) == 4 && args[0] == "send" {
		return bareSend(sendOne, args[1], args[2], args[3])
	}
	if len(args) == 4 && args[0] == "patch" {
		return bareSend(patchOne, args[1], args[2], args[3])
	}
	if slices.Contains([]string{"directory-add", "directory-find", "directory-page", "directory-join"}, args[0]) {
		return bareDirectory(args[0], args[1:])
	}
	switch {
	case args[0] == "feed-bring" && len(args) == 3:
		return feedBring(args[1], args[2])
	case args[0] == "feed-bare" && len(args) == 3:
		return feedBare(args[1])
	case args[0] == "mail-bare" && len(args) == 3:
		n, err := strconv.Atoi(args[2])
		return errors.Join(err, mailBare(args[1], n))
	}
	if len(args) != 1 {
		return errors.New("say what to measure: check, sheets, post, changes, limited, ties, draft, directory, hosts, feeds, mails, proof, web, linear, start, team, million, full, growth, scale, watch or all")
	}
	dir, err := os.MkdirTemp("", "evenledger-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, "evenledger")
	build := exec.Command("go", "build", "-o", program, "./cmd/evenledger")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	measures := map[string]func(program, dir string) error{"check": benchCheck, "sheets": benchSheets, "post": benchPost, "changes": benchChanges, "ties": benchTies, "draft": benchDraft, "directory": benchDirectory, "hosts": benchHosts, "feeds": benchFeeds, "mails": benchMails, "proof": benchProof, "web": benchWeb, "linear": benchLinear, "limited": benchLimited, "start": benchStart, "team": benchTeam, "million": benchMillion, "full": benchFull, "growth": benchGrowth, "scale": benchScale, "watch": benchWatch}
	if args[0] == "all" {
		return errors.Join(benchStart(program, dir), benchCheck(program, dir), benchSheets(program, dir), benchPost(program, dir), benchChanges(program, dir), benchTies(program, dir), benchDraft(program, dir), benchDirectory(program, dir), benchHosts(program, dir), benchFeeds(program, dir), benchMails(program, dir), benchProof(program, dir), benchWeb(program, dir), benchLinear(program, dir), benchLimited(program, dir), benchTeam(program, dir), benchMillion(program, dir), benchFull(program, dir), benchGrowth(program, dir), benchScale(program, dir))
	}
	measure, ok := measures[args[0]]
	if !ok {
		return fmt.Errorf("there is no measure %q", args[0])
	}
	return measure(program, dir)
}

// usage is what one run of a process took.
type usage struct {
	wall time.Duration
	peak int64 // bytes
}

// measure runs a command; an exit code of 1 is fine, as it tells of rows.
func measure(cmd *exec.Cmd) (usage, error) {
	begun := time.Now()
	out, err := cmd.Output()
	took := time.Since(begun)
	var exit *exec.ExitError
	posts := len(cmd.Args) > 1 && cmd.Args[1] == "post" // which has not done all of its work when it ends with 1
	if err != nil && (posts || !errors.As(err, &exit) || exit.ExitCode() != 1) {
		if errors.As(err, &exit) {
			out = append(out, exit.Stderr...)
		}
		return usage{}, fmt.Errorf("%v: %w\n%s", cmd.Args, err, out)
	}
	peak := cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
	return usage{took, peak}, nil
}

// pairs runs two commands in turn and returns the usage of each with the median
// wall time, and the median ratio of a's to b's.
func pairs(n int, a, b func() *exec.Cmd) (ua, ub usage, ratio float64, err error) {
	var as, bs []usage
	var ratios []float64
	for range n {
		x, err := measure(a())
		if err != nil {
			return ua, ub, 0, err
		}
		y, err := measure(b())
		if err != nil {
			return ua, ub, 0, err
		}
		as, bs, ratios = append(as, x), append(bs, y), append(ratios, x.wall.Seconds()/y.wall.Seconds())
	}
	byWall := func(x, y usage) int { return int(x.wall - y.wall) }
	slices.SortFunc(as, byWall)
	slices.SortFunc(bs, byWall)
	slices.Sort(ratios)
	return as[n/2], bs[n/2], ratios[n/2], nil
}

func self(args ...string) *exec.Cmd {
	program, err := os.Executable()
	if err != nil {
		log.Fatal(err)
	}
	return exec.Command(program, args...)
}

// bareRead is the floor of reading: every record, nothing done with it.
func bareRead(path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	r := csv.NewReader(file)
	r.ReuseRecord = true
	for {
		if _, err := r.Read(); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

func benchCheck(program, dir string) error {
	for _, rows := range []int{100_000, 1_000_000} {
		check, read, ratio, err := checkAndRead(program, dir, rows)
		if err != nil {
			return err
		}
		fmt.Printf("check  %9d rows: %6.2f s, %4d MB; bare read %5.2f s; rows/s against the bare read %.3f\n",
			rows, check.wall.Seconds(), check.peak>>20, read.wall.Seconds(), 1/ratio)
	}
	return nil
}

// checkAndRead times a check of so many rows, and a bare read of them.
func checkAndRead(program, dir string, rows int) (check, read usage, ratio float64, err error) {
	sheet, brief := filepath.Join(dir, "sheet.csv"), filepath.Join(dir, "bench.yaml")
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte("ledger: ledger.db\n"), 0o644), os.WriteFile(brief, []byte(checkBrief), 0o644), generate(sheet, rows)); err != nil {
		return check, read, 0, err
	}
	return pairs(3,
		func() *exec.Cmd {
			cmd := exec.Command(program, "check", sheet, "-b", brief, "--offline", "--plain")
			cmd.Dir = dir
			return cmd
		},
		func() *exec.Cmd { return self("read", sheet) })
}

// Ratios that docs/performance.md has, and which part of one has to be left for nothing to be said: machines are noisy.
const (
	checkedOf = 0.21
	postedOf  = 0.49
	enough    = 0.7
)

// benchWatch looks at two ratios in a few seconds, and says so where one is lost.
func benchWatch(program, dir string) error {
	_, _, ratio, err := checkAndRead(program, dir, 100_000)
	if err != nil {
		return err
	}
	watched("check against a bare read", 1/ratio, checkedOf)
	sheet := filepath.Join(dir, "post.csv")
	if err := errors.Join(generate(sheet, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(postBrief), 0o644)); err != nil {
		return err
	}
	best := 0.0
	for range 2 {
		ours, err := timePost(program, dir, sheet, 0, 0)
		if err != nil {
			return err
		}
		bare, err := timeBare(program, dir, 0, 0)
		if err != nil {
			return err
		}
		best = max(best, bare/ours)
	}
	watched("creates one by one against a bare loop", best, postedOf)
	return nil
}

func watched(what string, ratio, was float64) {
	if ratio < enough*was {
		fmt.Printf("watch  NOTE: %s: %.2f of its rows a second, where docs/performance.md has %.2f: is something lost?\n", what, ratio, was)
		return
	}
	fmt.Printf("watch  %s: %.2f (%.2f)\n", what, ratio, was)
}

func benchStart(program, dir string) error {
	source := filepath.Join(dir, "hello.go")
	if err := os.WriteFile(source, []byte("package main\n\nimport \"fmt\"\n\nfunc main() { fmt.Println(\"hello\") }\n"), 0o644); err != nil {
		return err
	}
	hello := filepath.Join(dir, "hello")
	build := exec.Command("go", "build", "-o", hello, source)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	for _, args := range [][]string{{"version"}, {"--help"}} {
		ours, theirs, ratio, err := pairs(101, func() *exec.Cmd { return exec.Command(program, args...) }, func() *exec.Cmd { return exec.Command(hello) })
		if err != nil {
			return err
		}
		fmt.Printf("start  %-9s %5.2f ms; a program that prints a line %5.2f ms; ratio %.2f\n", args[0], 1000*ours.wall.Seconds(), 1000*theirs.wall.Seconds(), ratio)
	}
	return nil
}
