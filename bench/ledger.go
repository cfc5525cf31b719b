package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the engine "pgx"
	_ "modernc.org/sqlite"             // the engine "sqlite"
)

// Sizes of what is posted and kept.
const (
	shared  = 20_000    // creates that workers share
	aMuch   = 1_000_000 // rows of one batch
	oneLook = 10_000    // entries of the batch that is looked at
	oneFill = 100_000   // entries of each batch around it
	fills   = 100       // such batches: ten million entries
	apart   = 20 * time.Millisecond
)

// A keep is a workspace with a ledger in one of the engines.
type keep struct {
	program, dir string
	engine, at   string // its name for people, and the ledger's address or file
	url          string // of the system
}

func (k *keep) write() error {
	ledger := k.at
	if strings.Contains(ledger, "://") {
		ledger = "env:BENCH_LEDGER" // it may have a password in it
	}
	config := fmt.Sprintf("ledger: %s\nsystems:\n  bench: {url: %q, token: env:BENCH_TOKEN}\n", ledger, k.url)
	return os.WriteFile(filepath.Join(k.dir, "evenledger.yaml"), []byte(config), 0o644)
}

func (k *keep) run(args ...string) (usage, error) {
	cmd := exec.Command(k.program, args...)
	cmd.Dir, cmd.Env = k.dir, append(os.Environ(), "BENCH_TOKEN="+token, "BENCH_LEDGER="+k.at)
	return measure(cmd)
}

// keeps are a fresh ledger of each engine, each in a workspace of its own; of PostgreSQL only if
// the machine has it.
func keeps(program, dir, name string) (all []*keep, stop func(), err error) {
	at, stop, err := database()
	if err != nil {
		return nil, nil, err
	}
	all = []*keep{{engine: "SQLite", at: "ledger.db"}}
	if at == "" {
		stop = func() {}
	} else {
		all = append(all, &keep{engine: "PostgreSQL", at: at + "&search_path=" + name})
	}
	for _, k := range all {
		k.program, k.dir = program, filepath.Join(dir, name+k.engine)
		if err := os.MkdirAll(k.dir, 0o755); err != nil {
			stop()
			return nil, nil, err
		}
	}
	return all, stop, nil
}

// fresh gives the workspace a ledger with nothing in it.
func (k *keep) fresh(n int) error {
	if at, _, is := strings.Cut(k.at, "&search_path="); is {
		k.at = fmt.Sprintf("%s&search_path=fresh%d", at, n)
	} else {
		k.at = fmt.Sprintf("ledger%d.db", n)
	}
	return k.write()
}

// drafted has a workspace draft a sheet against a stand-in that is fresh, hands it over with the
// batch to be posted, and stops the stand-in.
func (k *keep) drafted(n int, sheet string, delay time.Duration, bulk int, do func(draft usage) error) (err error) {
	url, stop, err := practice(k.program, k.dir, delay, bulk)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	k.url = url
	if err := k.fresh(n); err != nil {
		return err
	}
	draft, err := k.run("draft", sheet, "-b", filepath.Join(filepath.Dir(sheet), "post.yaml"))
	if err != nil {
		return err
	}
	return do(draft)
}

// posted readies a sheet with its brief.
func posted(dir, name string, rows int) (sheet string, err error) {
	sheet = filepath.Join(dir, name)
	return sheet, errors.Join(generate(sheet, rows), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(postBrief), 0o644))
}

// benchTeam times one worker against four that share a batch, and the engines against each other.
func benchTeam(program, dir string) error {
	all, stop, err := keeps(program, dir, "team")
	if err != nil {
		return err
	}
	defer stop()
	n := 0
	sheet, err := posted(dir, "shared.csv", shared)
	if err != nil {
		return err
	}
	for _, k := range all {
		var took []float64
		for _, workers := range []string{"1", "4"} {
			n++
			if err := k.drafted(n, sheet, apart, 0, func(usage) error {
				post, err := k.run("post", "1", "--yes", "--workers", workers)
				took = append(took, post.wall.Seconds())
				return err
			}); err != nil {
				return err
			}
		}
		fmt.Printf("team   %9d creates at %v a request, ledger in %s: one worker %6.1f s, four %5.1f s; %.2f times as fast\n", shared, apart, k.engine, took[0], took[1], took[0]/took[1])
	}
	if len(all) < 2 {
		return nil
	}
	if sheet, err = posted(dir, "post.csv", creates); err != nil {
		return err
	}
	for _, delay := range []time.Duration{0, 2 * time.Millisecond, apart} {
		took := map[string][]float64{}
		for range 3 {
			for _, k := range all {
				n++
				if err := k.drafted(n, sheet, delay, 0, func(usage) error {
					post, err := k.run("post", "1", "--yes")
					took[k.engine] = append(took[k.engine], post.wall.Seconds())
					return err
				}); err != nil {
					return err
				}
			}
		}
		var ratios []float64
		for i, s := range took[all[0].engine] {
			ratios = append(ratios, s/took[all[1].engine][i])
		}
		slices.Sort(ratios)
		fmt.Printf("team   %9d creates one by one, answers after %v, one worker: ledger in SQLite %5.2f s; PostgreSQL on this machine %5.2f s; %.2f of its creates/s (from %.2f to %.2f)\n", creates, delay, slices.Sorted(slices.Values(took[all[0].engine]))[1], slices.Sorted(slices.Values(took[all[1].engine]))[1], ratios[1], ratios[0], ratios[2])
	}
	return nil
}

// benchMillion times drafting new rows, and posting them, with a ledger of each engine. Drafts are held against a check of the same
// sheet and a bare insert of as many bytes as the ledger takes.
func benchMillion(program, dir string) error {
	all, stop, err := keeps(program, dir, "million")
	if err != nil {
		return err
	}
	defer stop()
	for n, rows := range []int{aMuch / 5, aMuch} {
		sheet, err := posted(dir, "million.csv", rows)
		if err != nil {
			return err
		}
		for _, k := range all {
			if err := k.drafted(n, sheet, 0, 100, func(draft usage) error {
				fmt.Printf("million %8d new rows, ledger in %s: draft %6.1f s, %d MB", rows, k.engine, draft.wall.Seconds(), draft.peak>>20)
				if err := k.holdAgainst(draft, sheet, rows); err != nil || rows < aMuch {
					return err
				}
				post, err := k.run("post", "1", "--yes")
				fmt.Printf("million %8d creates in bulk, server answers at once from the same cores, ledger in %s: post %6.1f s, %d MB\n", rows, k.engine, post.wall.Seconds(), post.peak>>20)
				return err
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// holdAgainst holds a draft against a check of its sheet and a bare insert of as many bytes, where the ledger is a file.
func (k *keep) holdAgainst(draft usage, sheet string, rows int) error {
	ledger, err := os.Stat(filepath.Join(k.dir, k.at))
	if err != nil {
		fmt.Println()
		return nil
	}
	check, err := k.run("check", sheet, "-b", filepath.Join(filepath.Dir(sheet), "post.yaml"), "--offline")
	if err != nil {
		return err
	}
	insert, err := measure(self("insert", filepath.Join(k.dir, "bare.db"), fmt.Sprint(rows), fmt.Sprint(int(ledger.Size())/rows)))
	if err != nil {
		return err
	}
	floor := check.wall + insert.wall
	fmt.Printf("; check %5.1f s, bare insert of %d MB %5.1f s; %.1f times as long\n", check.wall.Seconds(), ledger.Size()>>20, insert.wall.Seconds(), draft.wall.Seconds()/floor.Seconds())
	return nil
}

// bareInsert puts rows of so many bytes into a new file of SQLite, a thousand in a transaction that is on disk when it ends.
func bareInsert(path string, rows, size int) (err error) {
	old, _ := filepath.Glob(path + "*")
	for _, file := range old {
		err = errors.Join(err, os.Remove(file))
	}
	db, opened := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err = errors.Join(err, opened); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err := db.Exec("CREATE TABLE rows (batch INTEGER, row INTEGER, body TEXT, PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID"); err != nil {
		return err
	}
	body := strings.Repeat("x", size)
	for row := 0; row < rows; {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		insert, err := tx.Prepare("INSERT INTO rows VALUES (1, ?, ?)")
		if err != nil {
			return err
		}
		for until := min(rows, row+1000); row < until; row++ {
			if _, err := insert.Exec(row, body); err != nil {
				return err
			}
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

const narrowBrief = "match: [userName]\nfields:\n  userName: {from: Login, required: true}\n  familyName: {from: Surname}\n"

// benchFull times looks at one batch when there is nothing else in the ledger, and when there are
// ten million entries.
func benchFull(program, dir string) error {
	all, stop, err := keeps(program, dir, "full")
	if err != nil {
		return err
	}
	defer stop()
	for _, k := range all {
		if err := k.full(); err != nil {
			return err
		}
	}
	return nil
}

func (k *keep) full() (err error) {
	url, stop, err := practice(k.program, k.dir, 0, 100)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	k.url = url
	if err := errors.Join(k.fresh(0), os.WriteFile(filepath.Join(k.dir, "narrow.yaml"), []byte(narrowBrief), 0o644), k.narrow("look.csv", "a", oneLook), k.narrow("fill.csv", "b", oneFill)); err != nil {
		return err
	}
	for i, sheet := range []string{"look.csv", "fill.csv"} {
		if _, err := k.run("draft", sheet, "-b", "narrow.yaml"); err != nil {
			return err
		}
		if _, err := k.run("post", fmt.Sprint(i+1), "--yes"); err != nil {
			return err
		}
		if i > 0 {
			break
		}
		if err := k.look("alone"); err != nil {
			return err
		}
	}
	if err := k.fill(); err != nil {
		return err
	}
	return k.look(fmt.Sprintf("among %d entries", oneLook+oneFill*fills))
}

// narrow writes a sheet of which every tenth row has to be fixed.
func (k *keep) narrow(name, prefix string, rows int) error {
	var text strings.Builder
	text.WriteString("Login,Surname\n")
	for i := range rows {
		if i%10 == 0 {
			fmt.Fprintf(&text, ",Mensah %d\n", i)
		} else {
			fmt.Fprintf(&text, "%s%d,Reyes %d\n", prefix, i, i)
		}
	}
	return os.WriteFile(filepath.Join(k.dir, name), []byte(text.String()), 0o644)
}

// look times what people look at a batch with.
func (k *keep) look(where string) error {
	for _, args := range [][]string{{"show", "1"}, {"batches"}, {"fixes", "1", "-o", "fixes.csv"}} {
		var took []float64
		for range 7 {
			if err := os.RemoveAll(filepath.Join(k.dir, "fixes.csv")); err != nil {
				return err
			}
			u, err := k.run(args...)
			if err != nil {
				return err
			}
			took = append(took, u.wall.Seconds())
		}
		slices.Sort(took)
		fmt.Printf("full   %-10s %-8s of one batch of %d, %s: %5.0f ms\n", k.engine, args[0], oneLook, where, 1000*took[3])
	}
	return nil
}

// fill copies the second batch until the ledger is full, as the program would have written it.
func (k *keep) fill() error {
	ctx := context.Background()
	driver, at, batch := "sqlite", filepath.Join(k.dir, k.at), "replace(about, '\"batch\":2', '\"batch\":' || ?)"
	if k.engine == "PostgreSQL" {
		driver, at, batch = "pgx", k.at, "replace(about, '\"batch\":2', '\"batch\":' || $1)"
	}
	db, err := sql.Open(driver, at)
	if err != nil {
		return err
	}
	defer db.Close()
	mark := "?"
	if driver == "pgx" {
		mark = "$1::integer"
		batch = strings.Replace(batch, "$1", "$1::text", 1)
	}
	for id := 3; id < 2+fills; id++ {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		for _, statement := range []string{
			"INSERT INTO entries SELECT " + mark + ", row, key, intent, outcome, account, version, changes, known, findings, cells, wanted FROM entries WHERE batch = 2",
			"INSERT INTO results SELECT " + mark + ", row, claim, outcome, account, version, findings, ended, did FROM results WHERE batch = 2",
			"INSERT INTO history SELECT " + mark + ", chain, n, at, what, body, hash FROM history WHERE batch = 2",
			"INSERT INTO batches SELECT " + mark + ", state, made, posted, system, rows, " + batch + ", revision, counts FROM batches WHERE id = 2",
		} {
			args := []any{id}
			if driver == "sqlite" && strings.Contains(statement, "INTO batches") {
				args = append(args, id)
			}
			if driver == "pgx" && strings.Contains(statement, "INTO batches") {
				statement = strings.ReplaceAll(statement, "$1::text", fmt.Sprint("'", id, "'"))
			}
			if _, err := tx.ExecContext(ctx, statement, args...); err != nil {
				return errors.Join(fmt.Errorf("%s: %w", statement, err), tx.Rollback())
			}
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	if driver == "pgx" {
		_, err = db.ExecContext(ctx, "ANALYZE")
	}
	return err
}
