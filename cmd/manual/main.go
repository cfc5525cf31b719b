// Command manual writes what comes beside the program: a page of the manual for each command (man, section 1), and what shells
// complete command lines with.
//
//	go run ./cmd/manual FOLDER      (SOURCE_DATE_EPOCH is the day that stands in the pages)
package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"evenledger/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go run ./cmd/manual FOLDER")
		os.Exit(2)
	}
	if err := write(cli.Commands(), os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

// write makes FOLDER/man and FOLDER/completions.
func write(root *cobra.Command, folder string) error {
	root.DisableAutoGenTag = true // no day of making stands in what is the same each time
	pages, shells := filepath.Join(folder, "man"), filepath.Join(folder, "completions")
	if err := errors.Join(os.MkdirAll(pages, 0o755), os.MkdirAll(shells, 0o755)); err != nil {
		return err
	}
	return errors.Join(
		doc.GenManTree(root, &doc.GenManHeader{Title: "EVENLEDGER", Section: "1", Source: "Even Ledger"}, pages),
		root.GenBashCompletionFileV2(filepath.Join(shells, "evenledger.bash"), true),
		root.GenZshCompletionFile(filepath.Join(shells, "_evenledger")),
		root.GenFishCompletionFile(filepath.Join(shells, "evenledger.fish"), true),
		root.GenPowerShellCompletionFileWithDesc(filepath.Join(shells, "evenledger.ps1")),
	)
}
