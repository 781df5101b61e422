package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"net/textproto"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/client"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
)

func (a *app) trail() *cobra.Command {
	var peer string
	var headers, trusted []string
	cmd := &cobra.Command{
		Use:   "trail --peer ADDRESS [--header 'Name: value']…",
		Short: "Explain how the visitor of a request is found",
		Long: `Walks the hops of a request from the peer to the visitor and says of each
whether it was believed, and why. Asks the service under its own settings, or
works offline under the trust given with --trust.`,
		Example: `  eastporch trail --peer 203.0.113.4 -H 'X-Forwarded-For: 192.0.2.10, 198.18.7.114, 203.0.113.10'
  eastporch trail --peer 203.0.113.4 -H 'X-Forwarded-For: 198.18.7.114' --trust 203.0.113.0/28`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if peer == "" {
				return usageError{errors.New("--peer is missing: give the address of the other end of the connection")}
			}
			header, err := parseHeaders(headers)
			if err != nil {
				return usageError{err}
			}
			var trail caller.Trail
			if cmd.Flags().Changed("trust") {
				trail, err = offlineTrail(peer, header, trusted)
			} else {
				trail, err = a.askTrail(cmd, peer, header)
			}
			if err != nil {
				return err
			}
			return emit(a, []caller.Trail{trail}, true, func() { a.drawTrail(trail) })
		},
	}
	cmd.Flags().StringVar(&peer, "peer", "", "the other end of the connection")
	cmd.Flags().StringArrayVarP(&headers, "header", "H", nil, "a header line; may be repeated")
	cmd.Flags().StringSliceVar(&trusted, "trust", nil, "work offline and trust proxies in these prefixes")
	return cmd
}

func parseHeaders(lines []string) (map[string][]string, error) {
	header := map[string][]string{}
	for _, line := range lines {
		name, value, ok := strings.Cut(line, ":")
		if !ok || name == "" {
			return nil, fmt.Errorf("--header %q: write it like 'X-Forwarded-For: 198.18.7.114'", line)
		}
		key := textproto.CanonicalMIMEHeaderKey(strings.TrimSpace(name))
		header[key] = append(header[key], strings.TrimSpace(value))
	}
	return header, nil
}

func offlineTrail(peer string, header map[string][]string, trusted []string) (caller.Trail, error) {
	from, err := addr.Parse(peer)
	if err != nil {
		return caller.Trail{}, fmt.Errorf("--peer: %w", err)
	}
	var prefixes []netip.Prefix
	for _, text := range trusted {
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return caller.Trail{}, usageError{fmt.Errorf("--trust: %w", err)}
		}
		prefixes = append(prefixes, p)
	}
	return caller.Trusting(prefixes...).Find(from, header), nil
}

func (a *app) askTrail(cmd *cobra.Command, peer string, header map[string][]string) (caller.Trail, error) {
	c, err := a.client()
	if err != nil {
		return caller.Trail{}, err
	}
	return c.Trail(cmd.Context(), client.Seen{Peer: peer, Headers: header})
}

func (a *app) drawTrail(t caller.Trail) {
	if t.Visitor.IsValid() {
		fmt.Fprintf(a.Out, "The visitor is %s.\n", t.Visitor)
	} else {
		fmt.Fprintln(a.Out, "The visitor was not found.")
	}
	fmt.Fprintf(a.Out, "%s\n\n", t.Reason)
	w := newTable(a.Out, table.Row{"Hop", "Address", "Kind", "Verdict", "Why"})
	for _, h := range t.Hops {
		where, kind := h.Source, "–"
		if h.Of > 0 {
			where = fmt.Sprintf("%s, %d of %d", h.Source, h.Index, h.Of)
		}
		if h.Kind != nil {
			kind = h.Kind.String()
		}
		w.AppendRow(table.Row{where, h.Text, kind, h.Verdict, h.Reason})
	}
	w.Render()
	if t.Omitted > 0 {
		fmt.Fprintf(a.Out, "… and %d more hops.\n", t.Omitted)
	}
	for _, n := range t.Notes {
		fmt.Fprintf(a.Out, "\nNote: %s\n", n)
	}
}
