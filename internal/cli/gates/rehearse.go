package gates

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/rehearsal"
)

// rehearsed is what rehearse was asked.
type rehearsed struct {
	*terminal.App
	from, paths   []string
	languages, at string
	choice        string
	site, expect  string
	save          string
	draft, page   bool
}

// RehearseCommand tries visits from anywhere.
func RehearseCommand(a *terminal.App) *cobra.Command {
	o := &rehearsed{App: a}
	cmd := &cobra.Command{
		Use: "rehearse", Short: "Try what visitors from anywhere get", Args: cobra.NoArgs,
		Long: `Makes up visits and runs them through the same pipeline as real ones: where they are,
language, clock, money, variants and gates. Nothing is stored or counted. A place is a
country, a region (PT-11), a town, a network (AS64500), label:office, a prefix, an
address, "unknown" or "not-found". With several paths it draws a matrix.

--expect FILE holds every visit of a file against what is expected of it, and fails where
something is not met: for a build server. --save writes such a file.`,
		Example: `  eastporch rehearse --from PT --from JP --from NZ --from unknown --path /tickets
  eastporch rehearse --from DE,JP --path /tickets,/early/eights       # a matrix
  eastporch rehearse --from JP --path /tickets --page                 # asks the site itself
  eastporch rehearse --from DE --path /tickets --save expected.yaml
  eastporch rehearse --expect expected.yaml`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.expect != "" {
				return o.hold(cmd)
			}
			if len(o.from) == 0 {
				return terminal.Usage(errors.New("--from: name at least one place, such as JP; or give --expect FILE"))
			}
			return o.run(cmd)
		},
	}
	f := cmd.Flags()
	f.StringSliceVar(&o.from, "from", nil, "where visitors come from; may be repeated")
	f.StringSliceVar(&o.paths, "path", []string{"/"}, "what they ask for; may be repeated")
	f.StringVar(&o.languages, "accept-language", "", "what they ask for, as a header; what is likely there by default")
	f.StringVar(&o.choice, "choice", "", "the language that they chose before (BCP 47)")
	f.StringVar(&o.at, "at", "", "when they come (RFC 3339); now by default")
	f.StringVar(&o.site, "site", "", "the host of the site; the first configured one by default")
	f.BoolVar(&o.draft, "draft", false, "decide by the draft of the gates")
	f.BoolVar(&o.page, "page", false, "ask the site itself for each page")
	f.StringVar(&o.expect, "expect", "", "hold the visits of this file against what it expects (- is standard input)")
	f.StringVar(&o.save, "save", "", "write what came as a file for --expect")
	cmd.MarkFlagsMutuallyExclusive("expect", "from")
	cmd.MarkFlagsMutuallyExclusive("expect", "save")
	return cmd
}

func (o *rehearsed) open(cmd *cobra.Command, site string) (*client.Client, string, error) {
	c, err := o.Client()
	if err != nil || site != "" {
		return c, site, err
	}
	site, err = o.FirstSite(cmd.Context(), c)
	return c, site, err
}

func (o *rehearsed) run(cmd *cobra.Command) error {
	c, site, err := o.open(cmd, o.site)
	if err != nil {
		return err
	}
	req := api.RehearsalRequest{Site: site, Paths: o.paths, Draft: o.draft, Fetch: o.page}
	for _, from := range o.from {
		req.Visitors = append(req.Visitors, api.RehearsalVisitor{From: from, AcceptLanguage: o.languages, Choice: o.choice, At: o.at})
	}
	r, err := c.Rehearse(cmd.Context(), req)
	if err != nil {
		return err
	}
	if o.save != "" {
		if err := o.write(site, &r); err != nil {
			return err
		}
	}
	err = terminal.Emit(o.App, r.Results, false, func() {
		if len(o.paths) > 1 {
			o.matrix(&r)
		} else {
			o.table(&r)
		}
		fmt.Fprintf(o.Out, "Ran in %.0f ms. Nothing was stored.\n", r.TookMs)
	})
	return errors.Join(err, without(&r))
}

// without is the error of places that nobody could be made up from.
func without(r *api.Rehearsal) error {
	var missed []string
	for _, one := range r.Results {
		if one.Problem != nil && !slices.Contains(missed, one.From) {
			missed = append(missed, one.From)
		}
	}
	if len(missed) == 0 {
		return nil
	}
	return fmt.Errorf("nobody could be made up from %s", strings.Join(missed, ", "))
}

func (o *rehearsed) write(site string, r *api.Rehearsal) error {
	whole := rehearsal.Expectations{Site: site}
	for _, one := range r.Results {
		if one.Expectation != nil {
			whole.Expect = append(whole.Expect, *one.Expectation)
		}
	}
	text, err := yaml.Marshal(whole)
	if err == nil {
		err = os.WriteFile(o.save, text, 0o644)
	}
	return err
}

func (o *rehearsed) table(r *api.Rehearsal) {
	head := table.Row{"From", "Address", "Location", "Local time", "Language", "Money", "Gate", "Why"}
	if o.page {
		head = append(head, "Page")
	}
	t := terminal.NewTable(o.Out, head)
	for i := range r.Results {
		one := &r.Results[i]
		if one.Problem != nil {
			t.AppendRow(table.Row{one.From, "-", *one.Problem})
			continue
		}
		c := one.Card
		where := terminal.Join(", ", plain.Value(c.Location.Names.City), plain.Value(c.Location.Names.Region), plain.Value(c.Location.Names.Country))
		if where == "" {
			where = "none"
		}
		clock, money := "none", "none"
		if !c.Clock.LocalTime.IsZero() {
			clock = c.Clock.LocalTime.Format("Mon 15:04") + " " + plain.Value(c.Clock.UTCOffset)
		}
		if c.Money.CurrencyCode != nil {
			money = *c.Money.CurrencyCode
		}
		address := c.Address.Text.String()
		if !c.Address.Text.IsValid() {
			address = "none"
		}
		row := table.Row{one.From, address, where, clock, c.Locale.Language, money, outcome(c.Gate), c.Gate.Reason}
		if o.page {
			row = append(row, o.pageWord(one.Page))
		}
		t.AppendRow(row)
	}
	t.Render()
}

func (o *rehearsed) pageWord(p *api.RehearsedPage) string {
	switch {
	case p == nil:
		return "-"
	case p.Problem != nil:
		return terminal.Shorten(*p.Problem, 60)
	case !p.Honoured:
		return fmt.Sprintf("%d, not as the visitor: the site does not honour rehearsals", p.Status)
	}
	return strings.TrimSpace(fmt.Sprintf("%d %s %s", p.Status, p.Language, terminal.Shorten(p.Title, 40)))
}

func outcome(d *gate.Decision) string {
	if d.Outcome != d.Would {
		return gate.WouldRefuse
	}
	return string(d.Outcome)
}

func (o *rehearsed) matrix(r *api.Rehearsal) {
	head := table.Row{"From"}
	for _, path := range o.paths {
		head = append(head, path)
	}
	t := terminal.NewTable(o.Out, head)
	for i := 0; i < len(r.Results); i += len(o.paths) {
		row := table.Row{r.Results[i].From}
		for n := range o.paths {
			switch one := &r.Results[i+n]; {
			case one.Problem != nil:
				row = append(row, "none there")
			case one.Page != nil:
				row = append(row, outcome(one.Card.Gate)+" "+status(one.Page))
			default:
				row = append(row, outcome(one.Card.Gate))
			}
		}
		t.AppendRow(row)
	}
	t.Render()
}

// held is an expectation and what came of it.
type held struct {
	From  string   `json:"from"`
	Path  string   `json:"path"`
	Unmet []string `json:"unmet"`
}

// hold rehearses every visit of a file. The error says how many did not meet what is expected.
func (o *rehearsed) hold(cmd *cobra.Command) error {
	text, err := o.file()
	if err != nil {
		return err
	}
	e, err := rehearsal.ReadExpectations(text)
	if err != nil {
		return err
	}
	if o.site != "" {
		e.Site = o.site
	}
	c, site, err := o.open(cmd, e.Site)
	if err != nil {
		return err
	}
	var list []held
	failed := 0
	for i := range e.Expect {
		one := &e.Expect[i]
		r, err := c.Rehearse(cmd.Context(), api.RehearsalRequest{Site: site, Paths: []string{one.Path}, Draft: o.draft, Fetch: o.page || one.Status != 0, Visitors: []api.RehearsalVisitor{
			{From: one.From, AcceptLanguage: one.Languages, Choice: one.Choice, At: one.At},
		}})
		if err != nil {
			return fmt.Errorf("expect.%d: %w", i, err)
		}
		h := held{From: one.From, Path: one.Path, Unmet: []string{}}
		switch got := &r.Results[0]; {
		case got.Problem != nil:
			h.Unmet = append(h.Unmet, *got.Problem)
		default:
			status := 0
			if got.Page != nil {
				if status = got.Page.Status; got.Page.Problem != nil {
					h.Unmet = append(h.Unmet, *got.Page.Problem)
				} else if !got.Page.Honoured {
					h.Unmet = append(h.Unmet, "the page was not answered as if the visitor asked")
				}
			}
			h.Unmet = append(h.Unmet, one.Unmet(got.Card, status)...)
		}
		if len(h.Unmet) > 0 {
			failed++
		}
		list = append(list, h)
	}
	err = terminal.Emit(o.App, list, false, func() {
		for _, h := range list {
			if len(h.Unmet) == 0 {
				fmt.Fprintf(o.Out, "met      %s %s\n", h.From, h.Path)
			}
			for _, line := range h.Unmet {
				fmt.Fprintf(o.Out, "NOT MET  %s %s  %s\n", h.From, h.Path, line)
			}
		}
	})
	if err == nil && failed > 0 {
		err = fmt.Errorf("%d of %d expectations are not met", failed, len(list))
	}
	return err
}

func (o *rehearsed) file() ([]byte, error) {
	if o.expect == "-" {
		return io.ReadAll(io.LimitReader(o.In, gate.MaxFile))
	}
	return os.ReadFile(o.expect)
}
