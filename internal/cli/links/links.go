// Package links has the commands about tracked links.
package links

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/document"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/written"
)

// Command works with links.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "links", Short: "Make short links, and see who followed them",
		Long: `Short links: /to/CODE at the public listener redirects at once, and the click is stored as a visit
afterwards. Previews, bots, repetitions and HEAD are left out of statistics, and it is said.`,
		Example: `  eastporch links create /en/tickets --code tickets --name "Posters in the towns"
  eastporch links show tickets
  eastporch links qr tickets --out tickets.svg
  eastporch links edit tickets --limit 500 --until 2026-12-18T20:00:00Z
  eastporch links disable tickets`,
	}
	cmd.AddCommand(create(a), list(a), show(a), edit(a), disable(a), code(a), kind.Saves(a), kind.History(a))
	return cmd
}

// kind is how links are worked with as documents.
var kind = documents.Kind[link.Said, link.Link]{
	Kind: document.Link, Noun: "link", Command: "links", Example: "tickets", Arg: "CODE",
	Read: func(text []byte) (link.Said, error) {
		said := link.Said{Routes: []link.Route{}, HandOn: []string{}, Status: 302}
		return said, written.Read(text, &said)
	},
	Get: func(ctx context.Context, c *client.Client, _, name string) (link.Link, error) {
		return c.Link(ctx, name)
	},
	Said: func(l *link.Link) link.Said { return l.Said },
	Save: func(ctx context.Context, c *client.Client, site, name string, said link.Said) (link.Link, error) {
		var none *client.Problem
		if _, err := c.Link(ctx, name); errors.As(err, &none) && none.Status == http.StatusNotFound {
			return c.CreateLink(ctx, client.NewLink{Code: name, Site: site, Said: said})
		} else if err != nil {
			return link.Link{}, err
		}
		return c.ChangeLink(ctx, name, map[string]any{
			"name": said.Name, "note": said.Note, "destination": said.Destination, "routes": said.Routes, "status": said.Status, "hand_on": said.HandOn, "until": said.Until, "limit": said.Limit,
		})
	},
	Draw: describe,
}

// said are the flags of what is said of a link.
type said struct {
	name, note, until, limit string
	status                   int
	routes, handOn           []string
}

func (s *said) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&s.name, "name", "", "what it is called in lists")
	f.StringVar(&s.note, "note", "", "a note for yourself")
	f.StringVar(&s.until, "until", "", "it ends then, such as 2026-12-18T20:00:00Z; none for no end")
	f.StringVar(&s.limit, "limit", "", "how often it redirects; none for no limit")
	f.IntVar(&s.status, "status", 302, "what a redirect answers: 302, 307, 301 or 308")
	f.StringArrayVar(&s.routes, "route", nil, `another destination for some, the first that fits: "countries=PT,BR:/pt/bilhetes",
"languages=fr:/fr/billets", "variants=offer=club:/club", or several with ; between; none for no routes`)
	f.StringSliceVar(&s.handOn, "hand-on", nil, "query parameters that the destination gets too; * for all")
}

// none takes a value away.
const none = "none"

// changes gives the fields whose flags were given.
func (s *said) changes(cmd *cobra.Command) (map[string]any, error) {
	out := map[string]any{}
	given := func(name string) bool { return cmd.Flags().Changed(name) }
	if given("name") {
		out["name"] = s.name
	}
	if given("note") {
		out["note"] = s.note
	}
	if given("status") {
		out["status"] = s.status
	}
	if given("hand-on") {
		out["hand_on"] = s.handOn
	}
	if given("until") {
		if out["until"] = nil; s.until != none {
			t, err := time.Parse(time.RFC3339, s.until)
			if err != nil {
				return nil, terminal.Usage(fmt.Errorf("--until: %.40q is not a time: write it like 2026-12-18T20:00:00Z", s.until))
			}
			out["until"] = t
		}
	}
	if given("limit") {
		if out["limit"] = nil; s.limit != none {
			n, err := strconv.ParseInt(s.limit, 10, 64)
			if err != nil {
				return nil, terminal.Usage(fmt.Errorf("--limit: %.40q is not a number", s.limit))
			}
			out["limit"] = n
		}
	}
	if given("route") {
		routes := []link.Route{}
		for _, text := range s.routes {
			if text == none && len(s.routes) == 1 {
				break
			}
			r, err := readRoute(text)
			if err != nil {
				return nil, terminal.Usage(fmt.Errorf("--route: %w", err))
			}
			routes = append(routes, r)
		}
		out["routes"] = routes
	}
	return out, nil
}

// readRoute reads countries=PT,BR;languages=pt:/pt/bilhetes.
func readRoute(text string) (link.Route, error) {
	r := link.Route{Countries: []string{}, Languages: []string{}, Variants: []string{}}
	who, to, ok := strings.Cut(text, ":")
	if !ok {
		return r, fmt.Errorf("%.60q has no destination: write countries=PT,BR:/pt/bilhetes", text)
	}
	r.Destination = to
	for _, one := range strings.Split(who, ";") {
		what, values, _ := strings.Cut(one, "=")
		into := map[string]*[]string{"countries": &r.Countries, "languages": &r.Languages, "variants": &r.Variants}[strings.TrimSpace(what)]
		if into == nil || values == "" {
			return r, fmt.Errorf("%.60q says neither countries, languages nor variants: write countries=PT,BR:/pt/bilhetes", one)
		}
		*into = append(*into, strings.Split(values, ",")...)
	}
	return r, nil
}

func create(a *terminal.App) *cobra.Command {
	var s said
	var own, site string
	cmd := &cobra.Command{
		Use: "create DESTINATION", Short: "Make a link", Args: cobra.ExactArgs(1),
		Long: `Makes a link to a path of the site, or to an address whose host is one of link_hosts in the
configuration. Without --code it gets one of five letters and digits.`,
		Example: `  eastporch links create /programme --code programme --name "Printed programme"
  eastporch links create /en/tickets --route "countries=PT,BR:/pt/bilhetes" --route "languages=fr:/fr/billets"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			changes, err := s.changes(cmd)
			if err != nil {
				return err
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			fresh := client.NewLink{Code: own, Site: site, Said: link.Said{Name: s.name, Note: s.note, Destination: args[0], Status: s.status, HandOn: s.handOn}}
			if fresh.Site == "" {
				if fresh.Site, err = a.FirstSite(cmd.Context(), c); err != nil {
					return err
				}
			}
			if routes, ok := changes["routes"].([]link.Route); ok {
				fresh.Routes = routes
			}
			if until, ok := changes["until"].(time.Time); ok {
				fresh.Until = &until
			}
			if limit, ok := changes["limit"].(int64); ok {
				fresh.Limit = &limit
			}
			made, err := c.CreateLink(cmd.Context(), fresh)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []link.Link{made}, true, func() { describe(a.Out, &made) })
		},
	}
	s.add(cmd)
	cmd.Flags().StringVar(&own, "code", "", "your own word: letters a to z, digits and hyphens")
	cmd.Flags().StringVar(&site, "site", "", "the host of the site; the first configured one by default")
	return cmd
}

// describe says what a link is.
func describe(out io.Writer, l *link.Link) {
	fmt.Fprintf(out, "%s\n%s, %s\n", l.URL, cmp.Or(l.Name, "no name"), stands(l, true))
	for _, r := range l.Routes {
		fmt.Fprintf(out, "  %s: %s\n", whom(&r), r.Destination)
	}
	if rest := "everybody"; len(l.Routes) > 0 {
		fmt.Fprintf(out, "  %s else: %s\n", rest, l.Destination)
	} else {
		fmt.Fprintf(out, "  %s: %s\n", rest, l.Destination)
	}
	if len(l.HandOn) > 0 {
		fmt.Fprintf(out, "  hands on: %s\n", strings.Join(l.HandOn, ", "))
	}
	if l.Note != "" {
		fmt.Fprintf(out, "  note: %s\n", l.Note)
	}
}

// whom says who a route is for.
func whom(r *link.Route) string {
	var parts []string
	if len(r.Countries) > 0 {
		parts = append(parts, strings.Join(r.Countries, ", "))
	}
	if len(r.Languages) > 0 {
		parts = append(parts, "reads "+strings.Join(r.Languages, ", "))
	}
	if len(r.Variants) > 0 {
		parts = append(parts, strings.Join(r.Variants, ", "))
	}
	return strings.Join(parts, " and ")
}

// stands says how a link stands.
func stands(l *link.Link, whole bool) string {
	switch l.State {
	case link.Disabled, link.Expired:
		return fmt.Sprintf("%s since %s", l.State, l.Since.Format("2006-01-02 15:04"))
	case link.AtLimit:
		return fmt.Sprintf("at its limit of %s", terminal.Thousands(*l.Limit))
	}
	var parts []string
	if l.Until != nil {
		parts = append(parts, "until "+l.Until.Format("2006-01-02 15:04"))
	} else if whole {
		parts = append(parts, "no end")
	}
	if l.Limit != nil {
		parts = append(parts, fmt.Sprintf("%s of %s left", terminal.Thousands(*l.Limit-l.Used), terminal.Thousands(*l.Limit)))
	} else if whole {
		parts = append(parts, "no limit")
	}
	if whole {
		parts = append(parts, fmt.Sprintf("answers %d", l.Status))
	}
	return strings.Join(append([]string{"active"}, parts...), ", ")
}

func list(a *terminal.App) *cobra.Command {
	var site, state, search string
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List links, with their clicks of seven days", Args: cobra.NoArgs,
		Example: "  eastporch links list\n  eastporch links list --state ended --search ticket",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			if site == "" {
				if site, err = a.FirstSite(cmd.Context(), c); err != nil {
					return err
				}
			}
			query := url.Values{"site": {site}, "limit": {strconv.Itoa(limit)}}
			for name, value := range map[string]string{"state": state, "search": search} {
				if value != "" {
					query.Set(name, value)
				}
			}
			page, err := c.Links(cmd.Context(), query)
			if err != nil {
				return err
			}
			if a.Output == "csv" || a.Output == "ndjson" {
				return terminal.Emit(a, page.Links, false, nil)
			}
			return terminal.Emit(a, []link.Page{page}, true, func() { drawList(a.Out, &page) })
		},
	}
	cmd.Flags().StringVar(&site, "site", "", "the host of the site; the first configured one by default")
	cmd.Flags().StringVar(&state, "state", "", "active or ended")
	cmd.Flags().StringVar(&search, "search", "", "part of the code, name, note or destination")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at most, 1 to 500")
	return cmd
}

func drawList(out io.Writer, p *link.Page) {
	if p.All == 0 {
		fmt.Fprintln(out, "There are no links. Make one: eastporch links create /programme --code programme")
	} else {
		t := terminal.NewTable(out, table.Row{"Link", "Name", "Leads to", "7 days", "Last click", "State"}, "7 days")
		for i := range p.Links {
			r := &p.Links[i]
			last := "none yet"
			if r.Last != nil {
				last = terminal.Shorten(cmp.Or(plain.Value(r.Last.Placeholder), plain.Value(r.Last.Name), r.Last.Place.Level), 16) + " " + r.Last.Time.Format("02 Jan 15:04")
			}
			leads := terminal.Shorten(r.Link.Destination, 24)
			if n := len(r.Link.Routes); n > 0 {
				leads = fmt.Sprintf("%s, %d more", leads, n)
			}
			t.AppendRow(table.Row{r.Link.Code, terminal.Shorten(r.Link.Name, 22), leads, terminal.Thousands(r.Clicks), last, stands(&r.Link, false)})
		}
		t.Render()
		fmt.Fprintf(out, "\n%s, %s active.", terminal.Count(p.All, "link"), terminal.Thousands(p.Active))
		if p.Next != nil {
			fmt.Fprint(out, " There are more than are shown; see --limit and --search.")
		}
		fmt.Fprintln(out)
	}
	if len(p.Asked) > 0 || p.AskedOthers > 0 {
		var parts []string
		for _, one := range p.Asked {
			parts = append(parts, fmt.Sprintf("%s %s", one.Code, terminal.Thousands(one.Requests)))
		}
		if p.AskedOthers > 0 {
			parts = append(parts, "others "+terminal.Thousands(p.AskedOthers))
		}
		fmt.Fprintf(out, "Asked for, but not made: %s.\n", strings.Join(parts, ", "))
	}
}

func edit(a *terminal.App) *cobra.Command {
	var s said
	var to string
	var enable bool
	cmd := &cobra.Command{
		Use: "edit CODE", Short: "Change a link, or enable it again", Args: cobra.ExactArgs(1),
		Example: "  eastporch links edit tickets --to /en/tickets-2027\n  eastporch links edit tickets --until none --enable",
		RunE: func(cmd *cobra.Command, args []string) error {
			changes, err := s.changes(cmd)
			if err != nil {
				return err
			}
			if to != "" {
				changes["destination"] = to
			}
			if enable {
				changes["disabled"] = false
			}
			if len(changes) == 0 {
				return terminal.Usage(errors.New("nothing is to be changed: give --to, --name, --note, --until, --limit, --status, --route, --hand-on or --enable"))
			}
			return change(a, cmd, args[0], changes)
		},
	}
	s.add(cmd)
	cmd.Flags().StringVar(&to, "to", "", "the destination")
	cmd.Flags().BoolVar(&enable, "enable", false, "follow it again after links disable")
	return cmd
}

func disable(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use: "disable CODE", Short: "End a link; who follows it gets your page with 410", Args: cobra.ExactArgs(1),
		Example: "  eastporch links disable tickets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return change(a, cmd, args[0], map[string]any{"disabled": true})
		},
	}
}

func change(a *terminal.App, cmd *cobra.Command, code string, changes map[string]any) error {
	c, err := a.Client()
	if err != nil {
		return err
	}
	after, err := c.ChangeLink(cmd.Context(), code, changes)
	if err != nil {
		return err
	}
	return terminal.Emit(a, []link.Link{after}, true, func() { describe(a.Out, &after) })
}

func code(a *terminal.App) *cobra.Command {
	var file string
	var size int
	cmd := &cobra.Command{
		Use: "qr CODE", Short: "Write a link's QR code, as SVG or PNG", Args: cobra.ExactArgs(1),
		Example: "  eastporch links qr tickets --out tickets.svg\n  eastporch links qr tickets --out tickets.png --size 1200",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			format := "svg"
			switch {
			case strings.HasSuffix(file, ".png"):
				format = "png"
			case file != "-" && !strings.HasSuffix(file, ".svg"):
				return terminal.Usage(errors.New("--out: give a name that ends in .svg or .png, or - for SVG on standard output"))
			}
			if file == "-" {
				return c.LinkQR(cmd.Context(), args[0], format, size, a.Out)
			}
			to, err := os.Create(file)
			if err != nil {
				return err
			}
			err = errors.Join(c.LinkQR(cmd.Context(), args[0], format, size, to), to.Close())
			if err != nil {
				return errors.Join(err, os.Remove(file))
			}
			a.Note("Written to " + file + ".")
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "out", "-", "NAME.svg or NAME.png; - is SVG on standard output")
	cmd.Flags().IntVar(&size, "size", 800, "of a PNG: pixels a side at the most, 100 to 4000")
	return cmd
}
