package cli

import (
	"fmt"
	"runtime"

	"github.com/spf13/cobra"

	"calmpigeon.example/internal/buildinfo"
)

func version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			fmt.Fprintf(cmd.OutOrStdout(), "Calm Pigeon %s, %s %s/%s\n", buildinfo.Version(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
		},
	}
}
