package cli

import "github.com/spf13/cobra"

func screen(cmd *cobra.Command, dir, drill string) error { return nil }
