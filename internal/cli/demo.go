package cli

import "github.com/spf13/cobra"

func (p *program) demo() *cobra.Command { return &cobra.Command{Use: "demo"} }
