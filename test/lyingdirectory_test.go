package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// A part is one element of a message in BER (X.690), of the kinds that LDAP has.
type part struct {
	tag  byte
	in   []*part // if it is made of others
	text []byte  // else
}

func parts(data []byte) (all []*part) {
	for len(data) > 1 {
		p, size, at := &part{tag: data[0]}, int(data[1]), 2
		if size > 0x7f {
			n := size & 0x7f
			size = 0
			for _, b := range data[2 : 2+n] {
				size = size<<8 | int(b)
			}
			at += n
		}
		if p.text = data[at : at+size]; p.tag&0x20 != 0 {
			p.in, p.text = parts(p.text), nil
		}
		all, data = append(all, p), data[at+size:]
	}
	return all
}

func (p *part) bytes() []byte {
	text := p.text
	for _, inner := range p.in {
		text = append(text, inner.bytes()...)
	}
	head := []byte{p.tag, byte(len(text))}
	if len(text) > 0x7f {
		head = []byte{p.tag, 0x84, byte(len(text) >> 24), byte(len(text) >> 16), byte(len(text) >> 8), byte(len(text))}
	}
	return append(head, text...)
}

func message(r *bufio.Reader) ([]byte, error) {
	head, err := r.Peek(2)
	if err != nil {
		return nil, err
	}
	at, size := 2, int(head[1])
	if size > 0x7f {
		n := size & 0x7f
		if head, err = r.Peek(2 + n); err != nil {
			return nil, err
		}
		size, at = 0, 2+n
		for _, b := range head[2:] {
			size = size<<8 | int(b)
		}
	}
	data := make([]byte, at+size)
	_, err = io.ReadFull(r, data)
	return data, err
}

// A lyingDirectory stands before a real one and, while it lies, answers now and then what is not so: entries are left out, said twice or
// otherwise, ends are others or never come, and connections break.
type lyingDirectory struct {
	mu   sync.Mutex
	dice *rand.Rand
	lies atomic.Bool
}

// answer returns what goes to the client instead of a message, and whether the connection is cut after it.
func (l *lyingDirectory) answer(data []byte) (out []byte, cut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.lies.Load() || l.dice.IntN(8) > 0 {
		return data, false
	}
	m := parts(data)[0]
	if len(m.in) < 2 {
		return data, false
	}
	op := m.in[1]
	pick := func(from ...string) []byte { return []byte(from[l.dice.IntN(len(from))]) }
	switch {
	case op.tag == 0x61: // bind
		if l.dice.IntN(6) == 0 {
			return nil, true
		}
	case op.tag == 0x64 && len(op.in) > 1: // an entry
		attributes := op.in[1]
		switch n := len(attributes.in); l.dice.IntN(9) {
		case 0:
			return nil, false
		case 1:
			return append(append([]byte{}, data...), data...), false
		case 2:
			op.in[0].text = pick("", "x", "\xff,") // that it is somebody else's would have to be believed
		case 3, 4:
			if n > 0 {
				i := l.dice.IntN(n)
				attributes.in = append(attributes.in[:i:i], attributes.in[i+1:]...)
			}
		case 5:
			if n > 0 {
				attributes.in = append(attributes.in, attributes.in[l.dice.IntN(n)])
			}
		default:
			if n > 0 {
				a := attributes.in[l.dice.IntN(n)]
				if len(a.in) > 1 && len(a.in[1].in) > 0 {
					if values := a.in[1]; l.dice.IntN(4) == 0 {
						values.in = nil
					} else {
						values.in[l.dice.IntN(len(values.in))].text = pick("", "x", "5001", "TRUE", "\xff\xfe", "20260101000000Z", "uid=nobody,ou=people,dc=brindlesound,dc=example", strings.Repeat("y", 3000))
					}
				}
			}
		}
	case len(op.in) > 2: // how it ended
		switch l.dice.IntN(14) {
		case 0:
			return nil, true
		case 1:
			return append(data[:len(data)/2:len(data)/2], 0xff, 0x30), true
		case 2:
			if l.dice.IntN(3) == 0 {
				return nil, false // for ever
			}
		case 3:
			m.in[0].text = []byte{0x7f}
		case 4, 5:
			m.in = m.in[:2]
		default:
			op.in[0].text = []byte{[]byte{0, 0, 1, 3, 4, 10, 11, 16, 20, 32, 32, 50, 51, 52, 53, 68, 80}[l.dice.IntN(17)]}
		}
	}
	return m.bytes(), false
}

func (l *lyingDirectory) serve(listener net.Listener, to string) {
	for {
		client, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			server, err := net.Dial("unix", to)
			if err != nil {
				return
			}
			defer server.Close()
			defer client.Close()
			go func() { _, _ = io.Copy(server, client); _ = server.Close() }()
			r := bufio.NewReaderSize(server, 1<<20)
			for {
				data, err := message(r)
				if err != nil {
					return
				}
				out, cut := l.answer(data)
				if _, err := client.Write(out); err != nil || cut {
					return
				}
			}
		}()
	}
}

// others is all that a directory has of people who are not ours, and who else is in groups.
func others(t *testing.T, url string) map[string]string {
	conn, err := ldap.DialURL(url)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.ExternalBind())
	all := map[string]string{}
	found, err := conn.SearchWithPaging(ldap.NewSearchRequest("ou=people,dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, "(&(uid=*)(!(employeeNumber=5*)))", []string{"*", "pwdAccountLockedTime", "entryUUID", "modifyTimestamp"}, nil), 200)
	require.NoError(t, err)
	for _, e := range found.Entries {
		var lines []string
		for _, a := range e.Attributes {
			lines = append(lines, a.Name+"="+strings.Join(a.Values, "|"))
		}
		slices.Sort(lines)
		all[e.DN] = strings.Join(lines, "\n")
	}
	found, err = conn.SearchWithPaging(ldap.NewSearchRequest("ou=groups,dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, "(member=*)", []string{"cn", "member"}, nil), 200)
	require.NoError(t, err)
	for _, e := range found.Entries {
		var members []string
		for _, m := range e.GetAttributeValues("member") {
			if strings.HasPrefix(m, "uid=") && !strings.HasPrefix(m, "uid=ana") {
				members = append(members, m)
			}
		}
		slices.Sort(members)
		if len(members) > 0 {
			all[e.DN] = strings.Join(members, "|")
		}
	}
	return all
}

// Whatever a directory answers while people are made, moved, suspended, put into groups and removed again: by its own word nobody is there
// twice, what is told as done is so, others are left as they were, and posts come to an end once it tells the truth.
func TestDirectoryThatLies(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	overlays := []string{"memberof refint unique ppolicy", "ppolicy", ""}
	for round := range uint64(len(overlays)) {
		t.Run(fmt.Sprint("seed ", seed+round), func(t *testing.T) {
			t.Parallel()
			locks := strings.Contains(overlays[round], "ppolicy")
			f, truth := inHarbour(t, "OVERLAYS="+overlays[round])
			at, err := url.PathUnescape(strings.TrimPrefix(truth, "ldapi://"))
			require.NoError(t, err)
			dir, err := os.MkdirTemp("", "lie")
			require.NoError(t, err)
			defer os.RemoveAll(dir)
			listener, err := net.Listen("unix", filepath.Join(dir, "s"))
			require.NoError(t, err)
			defer listener.Close()
			l := &lyingDirectory{dice: rand.New(rand.NewPCG(seed+round, 1))}
			go l.serve(listener, at)
			text := f.read("evenledger.yaml")
			f.write("evenledger.yaml", strings.Replace(strings.ReplaceAll(text, strings.ReplaceAll(at, "/", "%2F"), strings.ReplaceAll(dir, "/", "%2F")+"%2Fs"), "settle: 500ms", "settle: 100ms, timeout: 1s", 1))
			active := map[bool]string{true: "  active: {from: Signs in}\n"}[locks]
			f.write("briefs/crew.yaml", strings.Replace(strings.Replace(f.read("briefs/crew.yaml"), "groups:", active+"  manager: {from: Boss, refers: employeeNumber}\ngroups:", 1), "Groups, make_missing: true}", "Groups, split: \";\", make_missing: true, mode: exact}", 1))
			const people = 9
			no := func(row int) string { return fmt.Sprint(5000 + row - 2) }
			type wants struct {
				place, title, boss string
				closed             bool
				groups             []string
			}
			want := map[string]wants{}
			sheet := func(name string, n int, salt int) {
				var csv strings.Builder
				csv.WriteString("No,First,Last,Position,Signs in,Place,Boss,Groups\n")
				for i := range n {
					w := wants{place: []string{"Deck", "Engine", "Quay/North", "Ashore"}[(i+salt)%4], title: []string{"Mate", "Bosun", "Cook"}[(i+salt)%3], boss: fmt.Sprint(5000 + (i+1)%people), closed: (i+salt)%3 == 0, groups: [][]string{{"Watch"}, {"Stay", "Watch"}, {"Night", "Watch"}, {"Stay"}}[(i+salt)%4]}
					fmt.Fprintf(&csv, "%d,Ana%d,Reyes,%s,%s,%s,%s,%s\n", 5000+i, i, w.title, map[bool]string{true: "no", false: "yes"}[w.closed], w.place, w.boss, strings.Join(w.groups, ";"))
					want[fmt.Sprint(5000+i)] = w
				}
				f.write(name, csv.String())
			}
			testserver.Soon(t, func() bool {
				conn, err := ldap.DialURL(truth)
				if err == nil {
					_ = conn.Close()
				}
				return err == nil
			})
			before, deceived := others(t, truth), false
			// settle posts until all is clear, and sees that what is told is there.
			settle := func(undone bool) {
				code, out, errOut := 3, "", ""
				for tries := 0; code == 3 && tries < 8; tries++ {
					code, out, errOut = f.run("post", "last", "--yes")
				}
				assert.Contains(t, []int{0, 1}, code, out+errOut)
				_, out, _ = f.run("show", "last", "--json")
				var told struct {
					Entries []struct {
						Row     int
						Outcome string
					}
				}
				require.NoError(t, json.Unmarshal([]byte(out), &told))
				s := look(t, truth)
				in := map[string][]string{}
				for g, members := range s.groups {
					for _, m := range members {
						in[m] = append(in[m], g)
					}
				}
				for _, e := range told.Entries {
					n := no(e.Row)
					w := want[n]
					dn, there := s.people[n]
					switch e.Outcome {
					case "created", "updated", "unchanged", "suspended", "resumed":
						if undone { // nothing was there to be undone
							continue
						}
						assert.True(t, there, "row %d told as %s", e.Row, e.Outcome)
						last := w.place[strings.LastIndex(w.place, "/")+1:]
						assert.Contains(t, dn, ",ou="+last+",", "row %d told as %s", e.Row, e.Outcome)
						if locks {
							assert.Equal(t, w.closed, s.closed[n], "row %d told as %s", e.Row, e.Outcome)
						}
						if slices.Sort(in[n]); !deceived { // else it may not have been drafted that groups are left
							assert.Equal(t, w.groups, in[n], "row %d told as %s", e.Row, e.Outcome)
						}
					case "removed":
						assert.False(t, there, "row %d told as %s", e.Row, e.Outcome)
					case "failed", "refused":
					default:
						t.Errorf("row %d is left %s", e.Row, e.Outcome)
					}
				}
				assert.Equal(t, before, others(t, truth), "others are as they were")
			}
			run := func(args ...string) {
				l.lies.Store(l.dice.IntN(3) == 0)
				code, out, errOut := f.run(args...)
				assert.NotContains(t, errOut, "goroutine ")
				if l.lies.Load() && code > 1 {
					l.lies.Store(false)
					code, out, errOut = f.run(args...)
				}
				require.Contains(t, []int{0, 1}, code, out+errOut)
				deceived = l.lies.Swap(true)
				code, _, errOut = f.run("post", "last", "--yes")
				assert.NotContains(t, errOut, "goroutine ", code)
				l.lies.Store(false)
			}
			sheet("crew.csv", people, 0)
			run("draft", "crew.csv", "-b", "crew")
			settle(false)
			sheet("moves.csv", people-2, 1)
			run("draft", "moves.csv", "-b", "crew")
			settle(false)
			run("reverse", "1", "--remove")
			settle(true)
		})
	}
}
