package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

func version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			revision, at, changed := "unknown", "", ""
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, s := range info.Settings {
					switch s.Key {
					case "vcs.revision":
						revision = s.Value[:min(len(s.Value), 12)]
					case "vcs.time":
						at = " of " + s.Value
					case "vcs.modified":
						if s.Value == "true" {
							changed = ", changed since"
						}
					}
				}
			}
			fmt.Fprintf(
				cmd.OutOrStdout(),
				"Calm Pigeon %s%s%s, %s %s/%s\n",
				revision,
				at,
				changed,
				runtime.Version(),
				runtime.GOOS,
				runtime.GOARCH,
			)
			return nil
		},
	}
}
