package addresses

import (
	"context"
	"errors"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// kindAnswer is what kind says of an address.
type kindAnswer struct {
	Address   string        `json:"address"`
	Written   addr.Spelling `json:"written"`
	Kind      addr.Kind     `json:"kind"`
	Block     *string       `json:"block"` // nil where no registered block holds it
	Name      *string       `json:"name"`
	Reference *string       `json:"reference"`
	Reachable *bool         `json:"globally_reachable"` // nil where the registry says neither
}

// KindCommand says what addresses are good for.
func KindCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "kind ADDRESS… | -",
		Short: "Classify addresses: public, private, loopback and so on",
		Long: `Tells the kind of each address after the IANA special-purpose registries
(RFC 6890), with the block and the RFC behind it. Works offline.`,
		Example: `  eastporch kind 10.1.2.3 ::1 198.18.3.40
  eastporch kind 192.168.0.1 --output json`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 && args[0] == "-" {
				w := widths{39, 12, 20, 20, 40}
				return stream(cmd.Context(), a, eachOf(func(_ context.Context, in string) (kindAnswer, error) { return kindOf(in) }), layout[kindAnswer]{
					data: func(k kindAnswer) any { return k }, head: w.row("Address", "Written", "Kind", "Block", "Name", "Reference"),
					line: func(k kindAnswer) string {
						return w.row(k.Address, string(k.Written), k.Kind.String(), plain.Value(k.Block), plain.Value(k.Name), plain.Value(k.Reference))
					},
				})
			}
			var answers []kindAnswer
			var failed []error
			for _, in := range args {
				answer, err := kindOf(in)
				if err != nil {
					failed = append(failed, err)
					continue
				}
				answers = append(answers, answer)
			}
			err := terminal.Emit(a, answers, len(args) == 1, func() {
				if len(answers) == 0 {
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Address", "Written", "Kind", "Block", "Name", "Reference"})
				for _, k := range answers {
					block := plain.Value(k.Block)
					if block == "" {
						block = "–"
					}
					t.AppendRow(table.Row{k.Address, k.Written, k.Kind.String(), block, plain.Value(k.Name), plain.Value(k.Reference)})
				}
				t.Render()
			})
			return errors.Join(append(failed, err)...)
		},
	}
}

// kindOf says what an address in any spelling is good for.
func kindOf(in string) (kindAnswer, error) {
	ip, spelling, err := addr.Read(in)
	if err != nil {
		return kindAnswer{}, err
	}
	answer := kindAnswer{Address: ip.String(), Written: spelling, Kind: addr.KindOf(ip)}
	if b, ok := addr.BlockOf(ip); ok {
		prefix := b.Prefix.String()
		answer.Block, answer.Name, answer.Reference, answer.Reachable = &prefix, &b.Name, &b.Reference, b.Reachable
	}
	return answer, nil
}
