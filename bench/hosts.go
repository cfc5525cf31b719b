package main

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

const (
	newHands = 1000                  // accounts on one real host
	each     = 300                   // on each of several that are played
	far      = 10 * time.Millisecond // to a host that is played, and as long back
	toolTime = "0.015"               // seconds that its tools take
)

// playedUseradd is a tool that takes its time and little of this machine.
const playedUseradd = `#!/bin/sh
sleep ` + toolTime + `
while [ $# -gt 1 ]; do case $1 in -u) u=$2;; -c) c=$2;; -d) d=$2;; esac; shift; done
echo "$1:x:$u:100:$c:$d:/bin/sh" >>/etc/passwd
echo "$1:!:20000:0:99999:7:::" >>/etc/shadow
`

// benchHosts holds making accounts on a real host against a bare script of the same commands in
// one session, and on four hosts at once against one after the other.
func benchHosts(program, dir string) error {
	if _, err := os.Stat("/usr/sbin/sshd"); err != nil || os.Getuid() != 0 {
		fmt.Println("hosts  skipped: they take root, and OpenSSH's server")
		return nil
	}
	// In memory: how long the disk of the machine takes is not what is measured.
	if memory, err := os.MkdirTemp("/dev/shm", "evenledger-bench-"); err == nil {
		defer os.RemoveAll(memory)
		dir = memory
	}
	what := []string{"made", "changed"}
	ratios, ours, bare := make([][]float64, len(what)), make([][]float64, len(what)), make([][]float64, len(what))
	for range 3 {
		took, err := oneHost(program, dir)
		if err != nil {
			return err
		}
		for i, t := range took {
			ours[i], bare[i], ratios[i] = append(ours[i], t[0]), append(bare[i], t[1]), append(ratios[i], t[1]/t[0])
		}
	}
	for i, done := range what {
		fmt.Printf("hosts  %d accounts %s on one host: %5.2f s; a bare script of the same commands %5.2f s; accounts/s against the script %.2f (from %.2f to %.2f)\n", newHands, done, middle(ours[i]), middle(bare[i]), middle(ratios[i]), least(ratios[i]), most(ratios[i]))
	}
	return manyHosts(program, dir)
}

func writeHands(path, called string, n int) error {
	var rows strings.Builder
	rows.WriteString("User name,Display name,Unix UID\n")
	for i := range n {
		fmt.Fprintf(&rows, "hand%04d,%s %d,%d\n", i, called, i, 20000+i)
	}
	return os.WriteFile(path, []byte(rows.String()), 0o644)
}

// oneHost makes accounts on a host and changes them, by posts and then, on another, by scripts.
func oneHost(program, dir string) (took [2][2]float64, err error) {
	sheet := filepath.Join(dir, "hands.csv")
	for i := range 2 {
		h, err := startHost(dir, "")
		if err != nil {
			return took, err
		}
		config := "systems:\n" + h.config("quay", h.port, "")
		if err := errors.Join(os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644), removeLedger(dir)); err != nil {
			return took, errors.Join(err, h.stop())
		}
		for n, c := range []struct{ called, command string }{{"Deck Hand", "useradd -c 'Deck Hand %[1]d' -u $((20000 + %[1]d)) -d /home/hand%04[1]d -m -- hand%04[1]d\n"}, {"Able Hand", "usermod -c 'Able Hand %[1]d' -- hand%04[1]d\n"}} {
			var cmd *exec.Cmd
			if i == 0 {
				err = writeHands(sheet, c.called, newHands)
				if err == nil {
					_, err = measure(in(dir, program, "draft", sheet))
				}
				cmd = in(dir, program, "post", strconv.Itoa(n+1), "--yes")
			} else {
				var script strings.Builder
				for n := range newHands {
					fmt.Fprintf(&script, c.command, n)
				}
				cmd = exec.Command("ssh", "-q", "-i", h.dir+"/key", "-o", "UserKnownHostsFile="+h.dir+"/known_hosts", "-p", strconv.Itoa(h.port), "root@127.0.0.1", "sh")
				cmd.Stdin = strings.NewReader(script.String())
			}
			var used usage
			if err == nil {
				used, err = measure(cmd)
			}
			if err != nil {
				return took, errors.Join(err, h.stop())
			}
			took[n][i] = used.wall.Seconds()
		}
		if err := h.stop(); err != nil {
			return took, err
		}
	}
	return took, nil
}

// manyHosts posts to four hosts that are played, one after the other and together.
func manyHosts(program, dir string) error {
	sheet := filepath.Join(dir, "each.csv")
	if err := writeHands(sheet, "Deck Hand", each); err != nil {
		return err
	}
	var took [2]float64
	for i, batches := range [][]string{{"1", "2", "3", "4"}, {"1-4"}} {
		config, set := "systems:\n", ""
		var stops []func() error
		for n := range 4 {
			h, err := startHost(dir, playedUseradd)
			if err != nil {
				return err
			}
			port, done, err := delayed(h.port)
			if err != nil {
				return err
			}
			stops = append(stops, h.stop, done)
			config += h.config(fmt.Sprintf("quay%d", n), port, ", homes: {make: false}")
			set += fmt.Sprintf("quay%d, ", n)
		}
		config += "sets: {quays: [" + strings.TrimSuffix(set, ", ") + "]}\n"
		err := errors.Join(os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644), removeLedger(dir))
		if err == nil {
			_, err = measure(in(dir, program, "draft", sheet, "--system", "quays"))
		}
		for _, batch := range batches {
			var used usage
			if err == nil {
				used, err = measure(in(dir, program, "post", batch, "--yes"))
			}
			took[i] += used.wall.Seconds()
		}
		for _, stop := range stops {
			err = errors.Join(err, stop())
		}
		if err != nil {
			return err
		}
	}
	fmt.Printf("hosts  %d accounts on each of four hosts (%s to each and back, tools that take %s s): one after the other %5.2f s, together %5.2f s; %.2f times as fast\n", each, 2*far, toolTime, took[0], took[1], took[0]/took[1])
	return nil
}

func in(dir, program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	return cmd
}

func removeLedger(dir string) error {
	paths, err := filepath.Glob(filepath.Join(dir, "ledger.db*"))
	for _, path := range paths {
		err = errors.Join(err, os.RemoveAll(path))
	}
	return err
}

// A runningHost is one of scripts/host.sh.
type runningHost struct {
	dir  string
	port int
	cmd  *exec.Cmd
}

// startHost starts a host; with useradd, that stands for the host's own tool.
func startHost(within, useradd string) (*runningHost, error) {
	dir, err := os.MkdirTemp(within, "host")
	if err != nil {
		return nil, err
	}
	if useradd != "" {
		if err := errors.Join(os.Mkdir(filepath.Join(dir, "tools"), 0o755), os.WriteFile(filepath.Join(dir, "tools/useradd"), []byte(useradd), 0o755)); err != nil {
			return nil, err
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	h := &runningHost{dir: dir, port: listener.Addr().(*net.TCPAddr).Port}
	if err := listener.Close(); err != nil {
		return nil, err
	}
	h.cmd = exec.Command("scripts/host.sh", dir, strconv.Itoa(h.port))
	if err := h.cmd.Start(); err != nil {
		return nil, err
	}
	for range 400 {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", h.port))
		if err == nil {
			return h, conn.Close()
		}
		time.Sleep(25 * time.Millisecond)
	}
	return nil, errors.Join(errors.New("the host did not start"), h.stop())
}

func (h *runningHost) stop() error {
	err := h.cmd.Process.Signal(syscall.SIGTERM)
	_ = h.cmd.Wait() // it says that it was told to end
	return err
}

// config is the host's part of evenledger.yaml, reached at a port.
func (h *runningHost) config(name string, port int, more string) string {
	known := fmt.Sprintf("%s/known-%d", h.dir, port)
	if key, err := os.ReadFile(h.dir + "/host.pub"); err == nil {
		_ = os.WriteFile(known, fmt.Appendf(nil, "[127.0.0.1]:%d %s", port, key), 0o600) // a host that is not known is told
	}
	return fmt.Sprintf("  %s: {kind: host, url: \"ssh://root@127.0.0.1:%d\", key: \"file:%s/key\", known_hosts: \"%s\"%s}\n", name, port, h.dir, known, more)
}

// delayed listens for connections to a port, and lets what is said arrive later, each way.
func delayed(to int) (port int, stop func() error, err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			farther, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to))
			if err != nil {
				_ = near.Close()
				continue
			}
			go late(near, farther)
			go late(farther, near)
		}
	}()
	return listener.Addr().(*net.TCPAddr).Port, listener.Close, nil
}

type said struct {
	data []byte
	due  time.Time
}

func late(to net.Conn, from net.Conn) {
	waiting := make(chan said, 10_000)
	go func() {
		defer to.Close()
		for s := range waiting {
			time.Sleep(time.Until(s.due))
			if _, err := to.Write(s.data); err != nil {
				_, _ = io.Copy(io.Discard, from)
			}
		}
	}()
	defer close(waiting)
	for {
		data := make([]byte, 32<<10)
		n, err := from.Read(data)
		if err != nil {
			return
		}
		waiting <- said{data[:n], time.Now().Add(far)}
	}
}

func sorted(list []float64) []float64 {
	list = slices.Clone(list)
	slices.Sort(list)
	return list
}

func least(list []float64) float64  { return sorted(list)[0] }
func middle(list []float64) float64 { return sorted(list)[len(list)/2] }
func most(list []float64) float64   { return sorted(list)[len(list)-1] }
