// Package addresses has the commands about addresses and places, most of which also work offline:
// resolve, kind, find, trail, ranges, near, areas, countries, locale, convert and rates.
package addresses

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/plain"
)

// ResolveCommand says where addresses are, and why.
func ResolveCommand(a *terminal.App) *cobra.Command {
	var file string
	var open []string
	var why bool
	var language, link string
	cmd := &cobra.Command{
		Use:   "resolve ADDRESS… | -",
		Short: "Locate addresses, and show the evidence",
		Long: `Gives the card of each address: location, network, clock, money and the
evidence for them; with --why, every range of every source that holds the address
and which fact came from which. Asks the service, or works offline with --atlas on
an edition, or on a source such as a geofeed. With - the addresses are read from
standard input, one a line, and answered as they come, however many they are: a
line each, or with --output as a list, as CSV without reasons. An address that
cannot be read is reported, the others are answered, and the exit code is 1.`,
		Example: `  eastporch resolve 198.18.3.40
  eastporch resolve --why 198.18.3.40
  eastporch resolve --map-link='https://map.example/?at={latitude},{longitude}' 198.18.3.40
  eastporch resolve --language pt 198.18.3.40
  eastporch resolve --atlas harbour-net.csv --open 198.18.0.0/15 198.18.3.40
  cut -f1 addresses.txt | eastporch resolve - --output ndjson`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return terminal.Usage(errors.New("which address? Type eastporch resolve 198.18.3.40, several of them, or - to read them from standard input"))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, in := range args {
				if r, err := addr.ParseRange(in); err == nil && r.First != r.Last {
					return terminal.Usage(fmt.Errorf("%s is a range: eastporch ranges %s shows the places that it spans", r, in))
				}
			}
			one, many, err := resolver(a, file, open, question{language, why})
			if err != nil {
				return err
			}
			if link, err = mapLink(a, cmd, link, file == ""); err != nil {
				return err
			}
			if len(args) == 1 && args[0] == "-" {
				return stream(cmd.Context(), a, many, cardLayout(link))
			}
			var cards []card.Card
			var failed []error
			for _, in := range args {
				card, err := one(cmd.Context(), in)
				if err != nil {
					failed = append(failed, err)
					continue
				}
				cards = append(cards, card)
			}
			if len(cards) > 0 { // else the errors say all that there is to say
				err = emitCards(a, cards, link, len(args) == 1)
			}
			return errors.Join(append(failed, err)...)
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&link, "map-link", "", "add a link to a map outside: a template with {latitude} and {longitude}, or without one that of the service's map_link")
	cmd.Flags().Lookup("map-link").NoOptDefVal = fromService
	cmd.Flags().StringVar(&language, "language", "en", "names of places in this language (BCP 47)")
	cmd.Flags().BoolVar(&why, "why", false, "list every range that holds the address")
	cmd.Flags().StringSliceVar(&open, "open", nil, "offline: resolve these prefixes although they are special")
	return cmd
}

// fromService stands for the template of the service's configuration.
const fromService = "the service's"

// mapLink gives the template of links to a map, "" for none.
func mapLink(a *terminal.App, cmd *cobra.Command, template string, hasService bool) (string, error) {
	switch {
	case template == fromService && !hasService:
		return "", terminal.Usage(errors.New("--map-link: offline there is no service whose map_link could be taken: give a template"))
	case template == fromService:
		c, err := a.Client()
		if err != nil {
			return "", err
		}
		if template, err = c.MapLink(cmd.Context()); err == nil && template == "" {
			err = errors.New("--map-link: the configuration of the service has no map_link: give a template here, or set it there")
		}
		return template, err
	case template != "" && !(strings.Contains(template, "{latitude}") && strings.Contains(template, "{longitude}")):
		return "", terminal.Usage(fmt.Errorf("--map-link: %q has no {latitude} and {longitude}", template))
	}
	return template, nil
}

// linkTo fills the template of a link with where a card is, "" where that is not known.
func linkTo(template string, c card.Card) string {
	w := c.Location
	if template == "" || w.Latitude == nil || w.Longitude == nil {
		return ""
	}
	return strings.NewReplacer("{latitude}", plain.Decimal(*w.Latitude), "{longitude}", plain.Decimal(*w.Longitude)).Replace(template)
}

// emitCards writes cards, each with its link where there is a template of links.
func emitCards(a *terminal.App, cards []card.Card, template string, single bool) error {
	draw := func() {
		drawCards(a, cards)
		for _, c := range cards {
			if to := linkTo(template, c); to != "" {
				fmt.Fprintf(a.Out, "Map  %s\n", to)
			}
		}
	}
	if template == "" {
		return terminal.Emit(a, cards, single, draw)
	}
	with := make([]any, len(cards))
	for i, c := range cards {
		with[i] = linked(c, template)
	}
	return terminal.Emit(a, with, single, draw)
}

// linked gives a card with its link, where there is a template of links.
func linked(c card.Card, template string) any {
	if template == "" {
		return c
	}
	text, _ := json.Marshal(c) // which was read from JSON, or can be written as it
	var with map[string]any
	_ = json.Unmarshal(text, &with)
	with["map_link"] = plain.Optional(linkTo(template, c))
	return with
}

// A question is how cards are asked for.
type question struct {
	language string // of names, BCP 47
	why      bool
}

// resolver gives what answers for one address, and for many: the service or a file.
func resolver(a *terminal.App, file string, open []string, q question) (one func(context.Context, string) (card.Card, error), many answerer[card.Card], err error) {
	if file == "" {
		if len(open) > 0 {
			return nil, nil, terminal.Usage(errors.New("--open goes with --atlas: the service has its own policy"))
		}
		c, err := a.Client()
		if err != nil {
			return nil, nil, err
		}
		if q.why {
			one = func(ctx context.Context, in string) (card.Card, error) {
				made, err := c.Why(ctx, in)
				return made.In(q.language), err
			}
			return one, eachOf(one), nil
		}
		one = func(ctx context.Context, in string) (card.Card, error) {
			made, err := c.Address(ctx, in)
			return made.In(q.language), err
		}
		return one, func(ctx context.Context, list []string) ([]answered[card.Card], error) {
			asked, err := c.Addresses(ctx, list)
			all := make([]answered[card.Card], len(asked))
			for i, got := range asked {
				if got.Card == nil {
					all[i].err = errors.New(plain.Value(got.Problem))
					continue
				}
				all[i].of = got.Card.In(q.language)
			}
			return all, err
		}, nil
	}
	var rules []addr.Rule
	for _, text := range open {
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return nil, nil, terminal.Usage(fmt.Errorf("--open: %w", err))
		}
		rules = append(rules, addr.Rule{Prefix: p, Action: addr.Resolve})
	}
	edition, err := terminal.OpenAtlas(a, file)
	if err != nil {
		return nil, nil, err
	}
	a.Note("Offline: the owner's corrections are not in an edition file.")
	pipeline := card.Pipeline{Policy: addr.NewPolicy(rules...), Atlas: edition}
	one = func(ctx context.Context, in string) (card.Card, error) {
		ip, _, err := addr.Read(in)
		if err != nil && isHostName(in) {
			a.Note(in + " is asked of this machine's resolver.")
			var found []netip.Addr
			if found, err = net.DefaultResolver.LookupNetIP(ctx, "ip", in); err == nil {
				ip = addr.Canonical(found[0])
			}
		}
		if err != nil {
			return card.Card{}, err
		}
		if q.why {
			return pipeline.Why(ip, card.RequestContext{}, time.Now()).In(q.language), nil
		}
		return pipeline.Card(ip, caller.ObtainedGiven, card.RequestContext{}, time.Now()).In(q.language), nil
	}
	return one, eachOf(one), nil
}

// isHostName says whether a text can be one: labels of letters, digits and dashes, the last
// with a letter, and a dot or the name localhost.
func isHostName(text string) bool {
	name := strings.TrimSuffix(text, ".")
	last := name[strings.LastIndexByte(name, '.')+1:]
	return strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789.-") == "" && strings.ContainsFunc(last, unicode.IsLetter) && (strings.Contains(text, ".") || name == "localhost")
}

func drawCards(a *terminal.App, cards []card.Card) {
	if len(cards) == 1 {
		drawCard(a, cards[0])
		return
	}
	t := terminal.NewTable(a.Out, table.Row{"Address", "Level", "Place", "Country", "Within", "Time zone", "Kind"}, "Within")
	for _, c := range cards {
		w := c.Location
		within := ""
		if w.RadiusKm != nil {
			within = plain.Decimal(*w.RadiusKm) + " km"
		}
		kind := ""
		if c.Address.Kind != nil && *c.Address.Kind != addr.Public {
			kind = c.Address.Kind.String()
		}
		if c.Address.Skipped {
			kind += ", skipped"
		}
		t.AppendRow(table.Row{c.Address.Text, w.Level, terminal.Place(w), terminal.Join(" ", plain.Value(w.Names.Country), plain.Value(w.CountryCode)), within, plain.Value(w.TimeZone), kind})
	}
	t.Render()
}

func drawCard(a *terminal.App, c card.Card) {
	w := c.Location
	fmt.Fprintf(a.Out, "%s\n", terminal.Place(w))
	if path := terminal.Join(" / ", plain.Value(w.Names.Region), plain.Value(w.Names.Country), plain.Value(w.Names.Continent)); path != "" {
		fmt.Fprintln(a.Out, path)
	}
	switch {
	case w.Latitude != nil:
		fmt.Fprintf(a.Out, "Somewhere within %s km of %s.\n", plain.Decimal(*w.RadiusKm), terminal.Coordinates(w.Latitude, w.Longitude))
	case c.Address.Reason != nil:
		fmt.Fprintln(a.Out, *c.Address.Reason)
	}
	fmt.Fprintln(a.Out)
	t := terminal.NewTable(a.Out, nil)
	kind := ""
	if k := c.Address.Kind; k != nil && *k != addr.Public {
		kind = k.String()
	}
	t.AppendRow(table.Row{"Address", terminal.Join("  ", c.Address.Text.String(), fmt.Sprintf("IPv%d, %s", *c.Address.Family, c.Address.Obtained), kind)})
	if c.Address.Embedded.IsValid() {
		t.AppendRow(table.Row{"Embedded", c.Address.Embedded})
	}
	level := string(w.Level)
	if w.Missing["level"] != "" {
		level += fmt.Sprintf(", for %s is not in the gazetteer", plain.Value(w.City))
	}
	t.AppendRow(table.Row{"Level", level})
	if c.Network.Range.IsValid() {
		whose := plain.Value(c.Network.Operator)
		if c.Network.ASNumber != nil {
			whose = terminal.Join(" ", fmt.Sprintf("AS%d", *c.Network.ASNumber), whose)
		}
		t.AppendRow(table.Row{"Network", terminal.Join("  ", c.Network.Range.String(), whose)})
	} else {
		t.AppendRow(table.Row{"Network", terminal.Missing("none", c.Network.Missing["range"])})
	}
	fuller := map[string]string{
		"country_code": terminal.Join(" ", plain.Value(w.Names.Country), plain.Value(w.CountryCode)),
		"region_code":  terminal.Join(" ", plain.Value(w.Names.Region), plain.Value(w.RegionCode)),
		"city":         plain.Value(w.Names.City),
		"time_zone":    terminal.Join("  ", plain.Value(w.TimeZone), c.Clock.LocalTime.String()),
	}
	for i := range atlas.Facts {
		if f := &atlas.Facts[i]; f.Title != "" {
			says := cmp.Or(fuller[f.Name], f.Text(&w, &c.Network), terminal.Missing("none", f.Reason(&w, &c.Network)))
			t.AppendRow(table.Row{f.Title, says})
		}
	}
	if c.Money.CurrencyCode != nil {
		t.AppendRow(table.Row{"Money", terminal.Join(" ", *c.Money.CurrencyCode, plain.Value(c.Money.Symbol))})
	}
	t.AppendRow(table.Row{"Edition", c.Edition.Name})
	t.Render()
	if len(c.Evidence) > 0 {
		fmt.Fprintln(a.Out)
		drawEvidence(a, c.Evidence)
	}
}

func drawEvidence(a *terminal.App, evidence []atlas.Evidence) {
	t := terminal.NewTable(a.Out, table.Row{"Evidence", "Says"})
	for _, e := range evidence {
		says, why := []string{}, string(e.Basis)
		for _, fact := range e.Facts {
			says = append(says, e.Values[fact])
		}
		if e.Rank != nil {
			why += fmt.Sprintf(", rank %d, %s", *e.Rank, e.Range)
		}
		if !e.Used {
			why += "; not used: " + plain.Value(e.Reason)
		} else if e.Reason != nil {
			why += ", " + *e.Reason
		}
		t.AppendRow(table.Row{e.Source, strings.Join(says, ", ") + "\n" + why})
	}
	t.Render()
}
