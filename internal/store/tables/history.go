package tables

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"iter"
	"maps"
	"slices"

	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// The history of a batch is chains of links, each of which holds the hash of the one before: one
// of the draft, entry for entry; one of what became of the batch as a whole; and one for each
// worker, of the results that it noted, which begins with the end of the draft's. When a post ends,
// the chain of the batch notes where those of the workers stand. So nothing of it can be altered,
// added or taken out without all that follows being written anew.

// Names of chains; a worker's is called as the worker is.
const (
	ofDraft = "draft"
	ofBatch = "batch"
)

// linkRows is how many entries a link of the draft's chain holds.
const linkRows = 512

// linksTogether is how many of them are written at once.
const linksTogether = 8

// A marked is a row with the digest of what is noted of it, and that of its sealed password, if
// it was drafted with one: it is wiped when it is not needed any more.
type marked struct {
	Row    int    `json:"r"`
	Digest string `json:"d"`
	Secret string `json:"s,omitempty"`
}

// A link is one of a chain.
type link struct {
	chain, at, what, body, hash string
	n                           int
}

// closes is the hash of a link that follows one with a hash.
func (k *link) closes(before string) string {
	h := sha256.New()
	note(h, before, k.chain, fmt.Sprint(k.n), k.at, k.what, k.body)
	return hex.EncodeToString(h.Sum(nil))
}

// note adds texts to a hash so that where each ends is told.
func note(h hash.Hash, texts ...string) {
	var size [8]byte
	for _, text := range texts {
		binary.BigEndian.PutUint64(size[:], uint64(len(text)))
		h.Write(size[:])
		h.Write([]byte(text))
	}
}

// digested is short for the hash of texts.
func digested(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)[:16]) }

// last returns the newest link of a chain; n is -1 if there is none.
func last(ctx context.Context, q querier, id int, chain string) (n int, hash string, err error) {
	err = one(ctx, q, []any{&n, &hash}, "SELECT n, hash FROM history WHERE batch = ? AND chain = ? ORDER BY n DESC LIMIT 1", id, chain)
	if errors.Is(err, sql.ErrNoRows) {
		return -1, "", nil
	}
	return n, hash, err
}

// add adds a link to a chain.
func add(ctx context.Context, tx Tx, id int, chain, what, body string) (hash string, err error) {
	n, before, err := last(ctx, tx, id, chain)
	if err != nil {
		return "", err
	}
	if n < 0 && chain != ofDraft {
		if _, before, err = last(ctx, tx, id, ofDraft); err != nil {
			return "", err
		}
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return "", err
	}
	k := link{chain: chain, n: n + 1, at: now.UTC().Format(moment), what: what, body: body}
	k.hash = k.closes(before)
	if _, err := tx.Exec(ctx, "INSERT INTO history (batch, chain, n, at, what, body, hash) VALUES (?, ?, ?, ?, ?, ?, ?)", id, k.chain, k.n, k.at, k.what, k.body, k.hash); err != nil || chain != ofBatch {
		return k.hash, err
	}
	_, err = tx.Exec(ctx, "UPDATE batches SET head = ? WHERE id = ?", k.hash, id) // what is taken away from the end is missed
	return k.hash, err
}

// draftOf stands for a draft as it is stored, word for word.
func draftOf(id int, text string) string {
	h := sha256.New()
	note(h, fmt.Sprint(id), text)
	return hex.EncodeToString(h.Sum(nil))
}

// Seal implements store.Drafting.
func (l *draft) Seal(ctx context.Context, b *batch.Batch) error {
	drafted := l.making.take(b.ID)
	if err := l.Write(ctx, func(tx Tx) (err error) {
		var seal string
		if err := one(ctx, tx, []any{&seal}, "SELECT seal FROM batches WHERE id = ?", b.ID); err != nil {
			return err
		}
		if seal != "" {
			return fmt.Errorf("batch %d is sealed already", b.ID)
		}
		if _, err := tx.Exec(ctx, "DELETE FROM history WHERE batch = ?", b.ID); err != nil {
			return err
		}
		b.Seal, err = add(ctx, tx, b.ID, ofDraft, "batch", draftOf(b.ID, jsonText(b.Draft)))
		return err
	}); err != nil {
		return err
	}
	all := l.marked(ctx, b.ID)
	if drafted != nil && drafted.n == b.Rows+b.Unlisted { // else this process did not write all of them
		all = drafted.marks(ctx, l.Ledger, b.ID, linksTogether*linkRows)
	}
	for marks, err := range all {
		if err != nil {
			return err
		}
		if err := l.Note(ctx, func(tx Tx) (err error) {
			for some := range slices.Chunk(marks, linkRows) {
				if b.Seal, err = add(ctx, tx, b.ID, ofDraft, "entries", jsonText(some)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// marked yields the marks of all entries as they are stored, some at a time.
func (l *Ledger) marked(ctx context.Context, id int) iter.Seq2[[]marked, error] {
	return func(yield func([]marked, error) bool) {
		for after := 0; ; {
			marks, err := l.marks(ctx, id, after, linksTogether*linkRows)
			if err == nil && len(marks) == 0 || !yield(marks, err) || err != nil {
				return
			}
			after = marks[len(marks)-1].Row
		}
	}
}

// marks are those of the next entries as they were drafted.
func (l *Ledger) marks(ctx context.Context, id, after, limit int) (all []marked, err error) {
	err = l.Read(ctx, func(tx Tx) (err error) {
		all, err = marksIn(ctx, tx, id, "row > ? ORDER BY row LIMIT ?", after, limit)
		return err
	})
	return all, err
}

// marksIn are those of the entries that a condition picks, in the order of their rows.
func marksIn(ctx context.Context, tx Tx, id int, which string, args ...any) (all []marked, err error) {
	hashes, secrets := map[int]hash.Hash{}, map[int]string{}
	err = func() error {
		if err := each(ctx, tx, func(rows *sql.Rows) error {
			var row int
			texts := make([]string, 9)
			into := []any{&row}
			for i := range texts {
				into = append(into, &texts[i])
			}
			if err := rows.Scan(into...); err != nil {
				return err
			}
			h := sha256.New()
			note(h, texts...)
			hashes[row] = h
			all = append(all, marked{Row: row})
			return nil
		}, "SELECT row, key, intent, outcome, account, version, changes, known, findings, cells FROM entries WHERE batch = ? AND "+which, append([]any{id}, args...)...); err != nil || len(all) == 0 {
			return err
		}
		low, high := all[0].Row, all[len(all)-1].Row
		if err := each(ctx, tx, func(rows *sql.Rows) error {
			var row, n, target, made int
			var was sql.NullString
			var texts [7]string
			if err := rows.Scan(&row, &n, &texts[0], &texts[1], &texts[2], &texts[3], &texts[4], &texts[5], &texts[6], &was, &target, &made); err != nil {
				return err
			}
			if h := hashes[row]; h != nil {
				noteStep(h, texts, n, was, target, made)
			}
			return nil
		}, `SELECT row, n, "do", kind, thing, name, role, section, result, was, target, made FROM steps WHERE batch = ? AND row BETWEEN ? AND ? ORDER BY row, n`, id, low, high); err != nil {
			return err
		}
		if err := each(ctx, tx, func(rows *sql.Rows) error {
			var row int
			var name, about string
			err := rows.Scan(&row, &name, &about)
			if h := hashes[row]; h != nil {
				note(h, name, about)
			}
			return err
		}, "SELECT row, name, about FROM outgoing WHERE batch = ? AND row BETWEEN ? AND ? ORDER BY row, name", id, low, high); err != nil {
			return err
		}
		return each(ctx, tx, func(rows *sql.Rows) error {
			var row int
			var sealed string
			err := rows.Scan(&row, &sealed)
			secrets[row] = secretMark(sealed)
			return err
		}, "SELECT row, sealed FROM secrets WHERE batch = ? AND row BETWEEN ? AND ?", id, low, high)
	}()
	for i := range all {
		all[i].Digest, all[i].Secret = digested(hashes[all[i].Row]), secrets[all[i].Row]
	}
	return all, err
}

// markOf is that of what became of an entry, and of when, as it is kept; with claims that of an earlier version, which
// took that a step was on its way for something that became of it.
func markOf(e *batch.Entry, ended string, claims bool, kept func(string) string) marked {
	h := sha256.New()
	note(h, ended, string(e.Outcome), kept(e.Account), kept(e.Version), jsonText(e.Findings), string(e.Did), partText(e.Part))
	if e.Place != nil {
		note(h, placeText(e.Place))
	}
	for n, s := range e.Steps {
		if s.Result != "" && (s.Result != membership.Sending || claims) {
			note(h, fmt.Sprint(n), string(s.Result))
		}
		if s.Made && s.Thing != "" {
			note(h, fmt.Sprint(n), kept(s.Thing))
		}
	}
	return marked{Row: e.Row, Digest: digested(h)}
}

// noteResults adds results to the history.
func noteResults(ctx context.Context, tx Tx, id int, worker store.Worker, results []store.Result, ended string, kept func(string) string) error {
	marks := make([]marked, len(results))
	of := map[batch.Proof][]int{}
	for i := range results {
		marks[i] = markOf(&results[i].Entry, ended, false, kept)
		if e := &results[i].Entry; e.Proof != "" {
			of[e.Proof] = append(of[e.Proof], e.Row)
		}
	}
	if _, err := add(ctx, tx, id, worker.Name, "results", jsonText(marks)); err != nil || len(of) == 0 {
		return err
	}
	var all proofs
	for _, proof := range slices.Sorted(maps.Keys(of)) {
		all = append(all, proved{proof, rangesOf(of[proof])})
	}
	_, err := add(ctx, tx, id, worker.Name, "proof", jsonText(all))
	return err
}

// Proofs say of rows how they were proven; each row that a link of results has begins without.
type proofs []proved

type proved struct {
	Proof batch.Proof `json:"proof"`
	Rows  [][2]int    `json:"rows"` // ranges, both ends included
}

// rangesOf puts rows that follow each other together.
func rangesOf(rows []int) (ranges [][2]int) {
	rows = slices.Sorted(slices.Values(rows))
	for _, row := range rows {
		if n := len(ranges); n > 0 && ranges[n-1][1] == row-1 {
			ranges[n-1][1] = row
		} else {
			ranges = append(ranges, [2]int{row, row})
		}
	}
	return ranges
}

// A whole is what the chain of the batch says of it.
type whole struct {
	Progress json.RawMessage   `json:"progress"`        // as it is stored
	Heads    map[string]string `json:"heads,omitempty"` // where the chains of the workers stand
}

// noteProgress adds what became of a batch to the history.
func noteProgress(ctx context.Context, tx Tx, b *batch.Batch, progress string) error {
	if b.Seal == "" {
		return nil // it is being made, or broke off
	}
	w := whole{Progress: json.RawMessage(progress)}
	if b.State == batch.Posted || b.State == batch.Stopped || b.State == batch.Reversed {
		var err error
		if w.Heads, err = heads(ctx, tx, b.ID); err != nil {
			return err
		}
	}
	_, err := add(ctx, tx, b.ID, ofBatch, "progress", jsonText(w))
	return err
}

// heads are the newest hashes of the workers' chains.
func heads(ctx context.Context, q querier, id int) (map[string]string, error) {
	all := map[string]string{}
	err := each(ctx, q, func(rows *sql.Rows) error {
		var chain, hash string
		err := rows.Scan(&chain, &hash)
		all[chain] = hash
		return err
	}, `SELECT h.chain, h.hash FROM history h JOIN (SELECT chain, max(n) AS n FROM history WHERE batch = ?1 AND chain NOT IN (?2, ?3) GROUP BY chain) newest
		ON newest.chain = h.chain AND newest.n = h.n WHERE h.batch = ?1`, id, ofDraft, ofBatch)
	return all, err
}

// Problems implements store.History. Others may be at the batch meanwhile: all is read as it is at one moment.
func (l *history) Problems(ctx context.Context) (problems []string, err error) {
	err = l.Read(ctx, func(tx Tx) error {
		p := &proof{tx: tx, kept: l.Kept, say: func(format string, args ...any) {
			problems = append(problems, fmt.Sprintf("batch %d: ", l.id)+fmt.Sprintf(format, args...))
		}, noted: map[int]noted{}, proved: map[int]provenNoted{}, chains: map[string]link{}, secrets: map[int]string{}, wiped: map[int]bool{}}
		return errors.Join(tx.Lasting(ctx), p.all(ctx, l.id, &problems))
	})
	return problems, err
}

// A proof is on its way.
type proof struct {
	tx     Tx
	kept   func(string) string // a text as the engine keeps it
	b      batch.Batch
	say    func(format string, args ...any)
	after  int           // the row up to which the draft was seen
	noted  map[int]noted // row → the newest that was noted of it
	proved map[int]provenNoted
	chains map[string]link // the newest link of each
	last   whole           // of the batch's progress
	heads  map[string]string

	draft, progress string         // as they are stored
	secrets         map[int]string // row → the digest of its sealed password, as drafted
	wiped           map[int]bool   // rows whose password was wiped
}

type noted struct{ chain, at, digest string }

// A provenNoted is how a row was proven, as it was noted last.
type provenNoted struct {
	chain, at string
	proof     batch.Proof
}

// all goes on until something is found.
func (p *proof) all(ctx context.Context, id int, problems *[]string) (err error) {
	if err := each(ctx, p.tx, func(rows *sql.Rows) (err error) {
		p.b, err = scanBatch(rows)
		return err
	}, "SELECT "+batchColumns+" FROM batches WHERE id = ?", id); err != nil {
		return err
	}
	if p.b.Seal == "" {
		if p.b.State != batch.Unmade {
			p.say("it has no seal: it was taken away")
		}
		return nil
	}
	if p.draft, p.progress, err = stored(ctx, p.tx, id); err != nil {
		return err
	}
	for _, look := range []func(context.Context) error{p.links, p.results, p.sealed, p.whole} {
		if err := look(ctx); err != nil || len(*problems) > 0 {
			return err
		}
	}
	return nil
}

// linksAtOnce is how many links are held at a time.
const linksAtOnce = 32

// links goes through all chains: that of the draft first, as the others begin with its end.
func (p *proof) links(ctx context.Context) error {
	for _, first := range []bool{true, false} {
		condition := "chain = ?"
		if !first {
			condition = "chain <> ?"
		}
		for chain, n := "", -1; ; {
			var page []link
			if err := each(ctx, p.tx, func(rows *sql.Rows) error {
				var k link
				err := rows.Scan(&k.chain, &k.n, &k.at, &k.what, &k.body, &k.hash)
				page = append(page, k)
				return err
			}, "SELECT chain, n, at, what, body, hash FROM history WHERE batch = ? AND "+condition+" AND (chain > ? OR chain = ? AND n > ?) ORDER BY chain, n LIMIT ?", p.b.ID, ofDraft, chain, chain, n, linksAtOnce); err != nil {
				return err
			}
			for i := range page {
				if !p.link(ctx, &page[i]) {
					return nil
				}
			}
			if len(page) < linksAtOnce {
				break
			}
			chain, n = page[len(page)-1].chain, page[len(page)-1].n
		}
		if first {
			if end := p.chains[ofDraft]; end.hash != p.b.Seal {
				p.say("its draft does not end with the seal of the batch, %.12s: something was taken out or written anew", p.b.Seal)
				return nil
			}
			if more, err := marksIn(ctx, p.tx, p.b.ID, "row > ? ORDER BY row LIMIT ?", p.after, 1); err != nil {
				return err
			} else if len(more) > 0 {
				p.say("%s was added since it was drafted", batch.RowName(more[0].Row))
				return nil
			}
		}
	}
	return nil
}

// link sees one link, and reports whether it is as it should be.
func (p *proof) link(ctx context.Context, k *link) bool {
	before, has := p.chains[k.chain]
	if !has && k.chain != ofDraft {
		before = link{n: -1, hash: p.b.Seal}
	} else if !has {
		before.n = -1
	}
	if k.n != before.n+1 || k.closes(before.hash) != k.hash {
		p.say("its history was altered, or something was taken out of it, at %s (%s, link %d)", k.at, k.chain, k.n)
		return false
	}
	p.chains[k.chain] = *k
	switch k.what {
	case "batch":
		if k.body != draftOf(p.b.ID, p.draft) {
			p.say("what it says of the batch as a whole was altered since it was drafted")
			return false
		}
	case "entries":
		return p.entries(ctx, k)
	case "results":
		var marks []marked
		if json.Unmarshal([]byte(k.body), &marks) != nil {
			p.say("a link of its history cannot be read")
			return false
		}
		for _, m := range marks {
			// A chain is in order by itself; of two workers, the later had the row when it was done.
			if was := p.noted[m.Row]; was.chain == k.chain || was.at <= k.at {
				p.noted[m.Row] = noted{k.chain, k.at, m.Digest}
			}
			if was := p.proved[m.Row]; was.chain == k.chain || was.at < k.at { // what was done anew is not proven yet
				p.proved[m.Row] = provenNoted{k.chain, k.at, ""}
			}
		}
	case "proof":
		var all proofs
		if json.Unmarshal([]byte(k.body), &all) != nil {
			p.say("a link of its history cannot be read")
			return false
		}
		p.proofs(k, all)
	case "progress":
		p.last = whole{}
		if json.Unmarshal([]byte(k.body), &p.last) != nil {
			p.say("a link of its history cannot be read")
			return false
		}
		if p.last.Heads != nil {
			p.heads = p.last.Heads
		}
	case "wiped":
		var ranges [][2]int
		if json.Unmarshal([]byte(k.body), &ranges) != nil {
			p.say("a link of its history cannot be read")
			return false
		}
		for _, r := range ranges {
			for row := range p.secrets {
				if row >= r[0] && row <= r[1] {
					p.wiped[row] = true
				}
			}
		}
	}
	return true
}

// proofs takes in how rows were proven.
func (p *proof) proofs(k *link, all proofs) {
	for _, of := range all {
		for _, r := range of.Rows {
			for row := r[0]; row <= r[1]; row++ {
				if was := p.proved[row]; was.chain == k.chain || was.at <= k.at {
					p.proved[row] = provenNoted{k.chain, k.at, of.Proof}
				}
			}
		}
	}
}

// entries holds a link of the draft against the entries that are there.
func (p *proof) entries(ctx context.Context, k *link) bool {
	var was []marked
	if json.Unmarshal([]byte(k.body), &was) != nil || len(was) == 0 {
		p.say("a link of its history cannot be read")
		return false
	}
	is, err := marksIn(ctx, p.tx, p.b.ID, "row > ? ORDER BY row LIMIT ?", p.after, len(was))
	if err != nil {
		p.say("its entries cannot be read: %s", err)
		return false
	}
	for i, m := range was {
		switch {
		case i >= len(is) || is[i].Row > m.Row:
			p.say("%s was taken out since it was drafted", batch.RowName(m.Row))
			return false
		case is[i].Row < m.Row:
			p.say("%s was added since it was drafted", batch.RowName(is[i].Row))
			return false
		case is[i].Digest != m.Digest:
			p.say("%s was altered since it was drafted", batch.RowName(m.Row))
			return false
		}
		if m.Secret != "" {
			p.secrets[m.Row] = m.Secret
		}
	}
	p.after = was[len(was)-1].Row
	return true
}

// results holds what is noted of each row against what became of it.
func (p *proof) results(ctx context.Context) error {
	seen, ended := 0, map[int]string{} // by row that has a result
	if err := each(ctx, p.tx, func(rows *sql.Rows) error {
		var row int
		var at string
		err := rows.Scan(&row, &at)
		ended[row] = at
		return err
	}, "SELECT row, ended FROM results WHERE batch = ?", p.b.ID); err != nil {
		return err
	}
	for e, err := range entriesIn(ctx, p.tx, p.b.ID) {
		if err != nil {
			return err
		}
		was, has := p.noted[e.Row]
		at, posted := ended[e.Row]
		ahead := func(s membership.Step) bool {
			return s.Result != "" && s.Result != membership.Goes && s.Result != membership.Sending || s.Made && s.Thing != ""
		}
		switch {
		case !has && slices.ContainsFunc(e.Steps, ahead):
			p.say("a step of %s is marked as done, and nobody noted it", batch.RowName(e.Row))
			return nil
		case !has && posted:
			p.say("what became of %s was added, and nobody noted it", batch.RowName(e.Row))
			return nil
		case has && !posted:
			p.say("what became of %s was taken out", batch.RowName(e.Row))
			return nil
		case has && markOf(&e, at, false, p.kept).Digest != was.digest && markOf(&e, at, true, p.kept).Digest != was.digest:
			p.say("what became of %s was altered", batch.RowName(e.Row))
			return nil
		case has && e.Proof != p.proved[e.Row].proof:
			p.say("how %s was proven was altered", batch.RowName(e.Row))
			return nil
		}
		if has {
			seen++
		}
	}
	if seen < len(p.noted) {
		p.say("entries were taken out that something was noted of")
	}
	return nil
}

// sealed sees whether the passwords are those that were drafted: each is there until it is wiped.
func (p *proof) sealed(ctx context.Context) error {
	is := map[int]string{}
	if err := each(ctx, p.tx, func(rows *sql.Rows) error {
		var row int
		var sealed string
		err := rows.Scan(&row, &sealed)
		is[row] = secretMark(sealed)
		return err
	}, "SELECT row, sealed FROM secrets WHERE batch = ?", p.b.ID); err != nil {
		return err
	}
	for _, row := range slices.Sorted(maps.Keys(p.secrets)) {
		switch was, there := is[row]; {
		case !there && !p.wiped[row]:
			p.say("the password of %s was taken out", batch.RowName(row))
			return nil
		case there && was != p.secrets[row]:
			p.say("the password of %s was exchanged", batch.RowName(row))
			return nil
		}
	}
	for _, row := range slices.Sorted(maps.Keys(is)) {
		if p.secrets[row] == "" || p.wiped[row] {
			p.say("a password of %s was added since it was drafted", batch.RowName(row))
			return nil
		}
	}
	return nil
}

// whole sees whether the batch as a whole is where its chain says.
func (p *proof) whole(ctx context.Context) error {
	var state batch.State // it and the system stand there by themselves as well
	var system, head string
	if err := one(ctx, p.tx, []any{&state, &system, &head}, "SELECT state, system, head FROM batches WHERE id = ?", p.b.ID); err != nil {
		return err
	}
	k, has := p.chains[ofBatch]
	switch {
	case !has:
		p.say("the history of what became of it was taken out")
	case head != k.hash:
		p.say("something was taken away from the end of its history, after %s", k.at)
	case string(p.last.Progress) != p.progress, state != p.b.State, system != p.b.System:
		p.say("what became of it as a whole was altered: it is not as its history says (%s)", k.at)
	}
	for _, chain := range slices.Sorted(maps.Keys(p.heads)) {
		if _, has := p.chains[chain]; !has {
			p.say("what worker %s noted was taken out", chain)
		}
	}
	return nil
}

// wipedRows notes that the passwords of rows were wiped.
func wipedRows(ctx context.Context, tx Tx, id int, ranges [][2]int) error {
	_, err := add(ctx, tx, id, ofBatch, "wiped", jsonText(ranges))
	return err
}
