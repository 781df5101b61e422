package addresses

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"net/textproto"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/plain"
)

// TrailCommand explains how the visitor of a request is found.
func TrailCommand(a *terminal.App) *cobra.Command {
	var peer, file, believed string
	var headers, trusted []string
	var hops int
	cmd := &cobra.Command{
		Use:   "trail --peer ADDRESS [--header 'Name: value']…",
		Short: "Explain how the visitor of a request is found",
		Long: `Walks the hops of a request from the peer to the visitor and says of each
whether it was believed, and why. Asks the service under its own settings, or
works offline under the trust given with --trust. The headers come from --header,
or with --file from a file or standard input: a block of header lines, the output
of curl -v, or a HAR file.`,
		Example: `  curl -sv https://heronlake.example 2>&1 | eastporch trail --peer 203.0.113.4 --file -
  eastporch trail --peer 203.0.113.4 -H 'Forwarded: for=198.18.7.114' --trust 203.0.113.4 --believe Forwarded
  eastporch trail --peer 203.0.113.4 -H 'X-Forwarded-For: 192.0.2.10, 198.18.7.114, 203.0.113.10'
  eastporch trail --peer 203.0.113.4 -H 'X-Forwarded-For: 198.18.7.114' --trust 203.0.113.0/28`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if peer == "" {
				return terminal.Usage(errors.New("--peer is missing: give the address of the other end of the connection"))
			}
			header, err := parseHeaders(headers)
			if err != nil {
				return terminal.Usage(err)
			}
			if file != "" {
				if header, err = pasted(a, file); err != nil {
					return err
				}
			}
			var trail caller.Trail
			if cmd.Flags().Changed("trust") {
				trail, err = offlineTrail(peer, header, trusted, believed, hops)
			} else {
				trail, err = askTrail(a, cmd, peer, header)
			}
			if err != nil {
				return err
			}
			return terminal.Emit(a, []caller.Trail{trail}, true, func() { drawTrail(a, trail) })
		},
	}
	cmd.Flags().StringVar(&peer, "peer", "", "the other end of the connection")
	cmd.Flags().StringArrayVarP(&headers, "header", "H", nil, "a header line; may be repeated")
	cmd.Flags().StringVar(&file, "file", "", "read the headers from a file; - for standard input")
	cmd.Flags().StringVar(&believed, "believe", caller.ForwardedFor, "with --trust: the header that is believed")
	cmd.Flags().IntVar(&hops, "hops", 0, "with --trust: how many proxies of yours a request passes, the peer included")
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

// maxPasted bounds what is read of a pasted request.
const maxPasted = 64 << 20

func pasted(a *terminal.App, file string) (map[string][]string, error) {
	in := a.In
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, maxPasted))
	if err != nil {
		return nil, err
	}
	return caller.ParsePasted(string(text))
}

// offlineTrail explains a request under settings from the command line.
func offlineTrail(peer string, header map[string][]string, trusted []string, believed string, hops int) (caller.Trail, error) {
	var from netip.Addr
	if peer != "unix" {
		var err error
		if from, err = addr.Parse(peer); err != nil {
			return caller.Trail{}, fmt.Errorf("--peer: %w", err)
		}
	}
	s := caller.Settings{Header: believed, Hops: hops}
	for _, text := range trusted {
		if text == "unix" {
			s.Unix = true
			continue
		}
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return caller.Trail{}, terminal.Usage(fmt.Errorf("--trust: %w", err))
		}
		s.Trusted = append(s.Trusted, caller.TrustedRange{Prefix: p})
	}
	finder, err := caller.New(s)
	if err != nil {
		return caller.Trail{}, terminal.Usage(err)
	}
	return finder.Find(from, header), nil
}

func askTrail(a *terminal.App, cmd *cobra.Command, peer string, header map[string][]string) (caller.Trail, error) {
	c, err := a.Client()
	if err != nil {
		return caller.Trail{}, err
	}
	return c.Trail(cmd.Context(), api.TrailRequest{Peer: plain.Optional(peer), Headers: header})
}

func drawTrail(a *terminal.App, t caller.Trail) {
	if t.Visitor.IsValid() {
		fmt.Fprintf(a.Out, "The visitor is %s.\n", t.Visitor)
	} else {
		fmt.Fprintln(a.Out, "The visitor was not found.")
	}
	fmt.Fprintf(a.Out, "%s\n\n", t.Reason)
	w := terminal.NewTable(a.Out, table.Row{"Hop", "Address", "Kind", "Verdict", "Why"})
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
