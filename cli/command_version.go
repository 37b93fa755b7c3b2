package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// Version is set when a release is built.
var Version = "0.1.0-dev"

func newVersion(s *streams) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Say which version this is, and what it was built from",
		Example: "  undertide version",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			revision := "no revision"
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, kv := range info.Settings {
					if kv.Key == "vcs.revision" && len(kv.Value) >= 12 {
						revision = kv.Value[:12]
					}
				}
			}
			_, err := fmt.Fprintf(s.out, "undertide %s (%s, %s, %s/%s)\ndocument format 1\n", Version, revision, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
}
