package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/suggest"
	"nightdrill.dev/internal/core/words"
)

func wordsCommand() *cobra.Command {
	return &cobra.Command{Use: "words [WORD]", Short: "Explain the words that screens and figures use",
		RunE: func(cmd *cobra.Command, args []string) error {
			name := strings.ToLower(strings.Join(args, " "))
			t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 8, 2, ' ', 0)
			found := false
			for _, w := range words.All {
				if name == "" || w.Name == name {
					fmt.Fprintf(t, "%s\t%s\n", w.Name, w.Meaning)
					found = true
				}
			}
			if !found {
				near := ""
				if w := suggest.Word(name, wordNames()); w != "" {
					near = " (did you mean " + w + "?)"
				}
				return wrong(fmt.Errorf("%q is not among the words%s; nightdrill words lists them", name, near))
			}
			return t.Flush()
		}}
}

func wordNames() (out []string) {
	for _, w := range words.All {
		out = append(out, w.Name)
	}
	return out
}
