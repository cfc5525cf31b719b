package cli

import (
	"fmt"
	"path/filepath"
	"runtime/debug"

	"github.com/spf13/cobra"

	"evenledger/internal/brief"
	"evenledger/internal/report"
	"evenledger/internal/workspace"
)

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "init [DIR]",
		GroupID: "prepare",
		Short:   "Make a workspace: evenledger.yaml, briefs/ and an example",
		Example: "  evenledger init\n  evenledger init crew-accounts",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			made, err := workspace.Create(dir)
			if err != nil {
				return wrong(err.Error(), "Name another folder.")
			}
			absolute, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(map[string]any{"workspace": absolute, "files": made})
			}
			page := a.page()
			page.Line("A workspace in %s:", absolute)
			for _, file := range made {
				page.Line("  %s", file)
			}
			page.Line("")
			page.Line("Say in evenledger.yaml how your system is reached. To practise without one:")
			page.Next("evenledger standin --token file:crewdesk.token", "evenledger brief check starters")
			return page.Err()
		},
	}
}

func (a *app) briefCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "brief",
		GroupID: "prepare",
		Short:   "Check a brief; print its schema for editors",
		Example: "  evenledger brief check starters\n  evenledger brief schema > brief.schema.json",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(&cobra.Command{
		Use:               "check BRIEF",
		Short:             "Tell every mistake in a brief, with line and column",
		Example:           "  evenledger brief check starters\n  evenledger brief check path/to/brief.yaml",
		Args:              one("a brief's name or file"),
		ValidArgsFunction: a.completeBriefs,
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.workspace()
			if err != nil {
				return err
			}
			b, err := a.loadBrief(w, args[0])
			if err != nil {
				return err
			}
			return a.briefFine(b, args[0])
		},
	}, &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a brief",
		Example: "  evenledger brief schema > brief.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			schema, err := brief.Schema()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "%s\n", schema)
			return err
		},
	})
	return cmd
}

// briefFine tells what a brief without mistakes says.
func (a *app) briefFine(b *brief.Brief, name string) error {
	type field struct {
		Field string `json:"field"`
		Kind  string `json:"kind"`
		From  string `json:"from,omitempty"`
		Make  string `json:"make,omitempty"`
	}
	var fields []field
	for _, f := range b.Fields {
		told := field{Field: f.Name, Kind: f.Kind.String(), From: f.From}
		if f.Make != nil {
			told.Make = f.Make.Source
		}
		fields = append(fields, told)
	}
	if a.json {
		return a.writeJSON(map[string]any{"brief": b.Name, "system": b.System, "match": b.Match, "new": b.New, "known": b.Known, "fields": fields, "checks": len(b.Checks), "problems": []string{}})
	}
	page := a.page()
	page.Line("%s is in order: %d fields, %d checks of its own.", name, len(b.Fields), len(b.Checks))
	page.Line("Fields are worked out in this order:")
	for _, f := range fields {
		var source string
		switch {
		case f.Make != "" && f.From != "":
			source = fmt.Sprintf("“%s”, else %s", f.From, f.Make)
		case f.Make != "":
			source = f.Make
		case f.From != "":
			source = "“" + f.From + "”"
		default:
			source = "its fallback"
		}
		page.Line("  %s %s %s", report.Pad(f.Field, 20), page.Dim(report.Pad(f.Kind, 9)), source)
	}
	page.Next("evenledger check SHEET -b " + name)
	return page.Err()
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		GroupID: "around",
		Short:   "Print the version, the commit it was built from and its date",
		Example: "  evenledger version",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			version, commit, date := "(built from source)", "unknown", "unknown"
			if info, ok := debug.ReadBuildInfo(); ok {
				if info.Main.Version != "" && info.Main.Version != "(devel)" {
					version = info.Main.Version
				}
				for _, s := range info.Settings {
					switch {
					case s.Key == "vcs.revision":
						commit = s.Value
					case s.Key == "vcs.time":
						date = s.Value
					case s.Key == "vcs.modified" && s.Value == "true":
						commit += " with changes"
					}
				}
			}
			if a.json {
				return a.writeJSON(map[string]any{"version": version, "commit": commit, "date": date})
			}
			page := a.page()
			page.Line("evenledger %s", version)
			page.Line("commit %s", commit)
			page.Line("date   %s", date)
			return page.Err()
		},
	}
}
