package cli

import (
	"runtime/debug"

	"evenledger/internal/answer"

	"github.com/spf13/cobra"
)

func (a *front) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		GroupID: "around",
		Short:   "Print the version, the commit it was built from and its date",
		Example: "  evenledger version",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
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
			return a.tell(cmd.Context(), answer.Done{
				Holds: map[string]any{"version": version, "commit": commit, "date": date},
				Lines: []string{"evenledger " + version, "commit " + commit, "date   " + date},
			})
		},
	}
}
