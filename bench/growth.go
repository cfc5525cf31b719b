package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// benchGrowth tells how the time and the memory of each command grow with the sheet: ten times the rows may take ten times as long.
func benchGrowth(program, dir string) error {
	all, stop, err := keeps(program, dir, "growth")
	if err != nil {
		return err
	}
	defer stop()
	commands := []string{"check", "draft", "post", "show", "reconcile", "report"}
	sizes := []int{10_000, 100_000, aMuch}
	for _, k := range all {
		took := map[string][]usage{}
		for n, rows := range sizes {
			sheet, err := posted(dir, "growth.csv", rows)
			if err != nil {
				return err
			}
			brief := filepath.Join(dir, "post.yaml")
			if err := k.drafted(n, sheet, 0, 100, func(draft usage) error {
				page := filepath.Join(k.dir, "page.csv")
				for _, command := range [][]string{{"check", sheet, "-b", brief, "--offline"}, {"draft"}, {"post", "1", "--yes"}, {"show", "1"}, {"reconcile", sheet, "-b", brief}, {"report", "1", "-o", page, "--overwrite"}} {
					used, err := draft, error(nil)
					if command[0] != "draft" {
						used, err = k.run(command...)
					}
					if err != nil {
						return err
					}
					took[command[0]] = append(took[command[0]], used)
				}
				return os.Remove(page)
			}); err != nil {
				return err
			}
		}
		fmt.Printf("\nledger in %s:\n\n| rows | %s |\n|---|%s\n", k.engine, strings.Join(commands, " | "), strings.Repeat("---|", len(commands)))
		for i, rows := range sizes {
			fmt.Printf("| %d |", rows)
			for _, command := range commands {
				u := took[command][i]
				fmt.Printf(" %.1f s, %d MB", u.wall.Seconds(), u.peak>>20)
				if i > 0 {
					fmt.Printf(" (×%.1f)", u.wall.Seconds()/took[command][i-1].wall.Seconds())
				}
				fmt.Print(" |")
			}
			fmt.Println()
		}
	}
	return nil
}
