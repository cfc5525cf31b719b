package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

const namesakesBrief = `brief: Namesakes
match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  userName: {make: 'fold(col["Name"])', unique: number}
`

// benchLinear times what once grew with the square: bytes that are no UTF-8 among
// letters that are, and people of one name whose sign-in names get numbers. Twice as
// much may take twice as long.
func benchLinear(program, dir string) error {
	if err := os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte("ledger: ledger.db\n"), 0o644); err != nil {
		return err
	}
	brief := filepath.Join(dir, "namesakes.yaml")
	if err := os.WriteFile(brief, []byte(namesakesBrief), 0o644); err != nil {
		return err
	}
	for _, kind := range []struct {
		name  string
		sizes [2]int
		make  func(n int) []byte
	}{
		{"MB of broken UTF-8", [2]int{4, 8}, func(n int) []byte {
			line := append([]byte("1,Zoë "), append(bytes.Repeat([]byte{0xff, 'a'}, 40), '\n')...)
			return append([]byte("No,Name\n"), bytes.Repeat(line, n*1_000_000/len(line))...)
		}},
		{"namesakes", [2]int{20_000, 40_000}, func(n int) []byte {
			var text strings.Builder
			text.WriteString("No,Name\n")
			for i := range n {
				fmt.Fprintf(&text, "%d,Ana\n", i)
			}
			return []byte(text.String())
		}},
	} {
		files := [2]string{}
		for i, size := range kind.sizes {
			files[i] = filepath.Join(dir, fmt.Sprintf("linear-%d.csv", i))
			if err := os.WriteFile(files[i], kind.make(size), 0o644); err != nil {
				return err
			}
		}
		check := func(file string) func() *exec.Cmd {
			return func() *exec.Cmd {
				cmd := exec.Command(program, "check", file, "-b", brief, "--offline", "--plain")
				cmd.Dir = dir
				return cmd
			}
		}
		large, small, ratio, err := pairs(3, check(files[1]), check(files[0]))
		if err != nil {
			return err
		}
		fmt.Printf("linear %9d %s: %5.2f s, %4d MB; twice as many %5.2f s; ratio %.2f\n", kind.sizes[0], kind.name, small.wall.Seconds(), small.peak>>20, large.wall.Seconds(), ratio)
	}
	return nil
}
