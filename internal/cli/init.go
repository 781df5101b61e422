package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/shelf"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/config"
	"eastporch/internal/core/snippet"
	"eastporch/internal/server/access"
)

// fronts are what may stand in front of the service.
var fronts = []string{"nginx", "haproxy", "apache", "none"}

// initAnswers are what init was told, by flags or answers.
type initAnswers struct {
	file, site, ranges, proxy, dataDir string
	origins                            []string
}

func initCommand(a *terminal.App) *cobra.Command {
	var told initAnswers
	cmd := &cobra.Command{
		Use:   "init",
		Short: "Write a first configuration, and make a key for your pages",
		Long: `Asks for your site, a file of range data and the proxy in front, or takes them from
flags. It writes a small configuration, makes a page key that the service takes over
when it starts, and prints what to put into your proxy and your pages.

Run again it changes what its flags say and nothing else: your other keys, their order
and your comments stay, and the configuration of before is kept beside it.`,
		Example: `  eastporch init
  eastporch init --site heronlake.example --ranges harbour-net.csv --proxy nginx
  eastporch init --ranges better.csv        # later: one source more
  eastporch init --ranges open              # what is published openly`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			before, err := os.ReadFile(told.file)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			if isNew := err != nil; isNew {
				if err := ask(a, cmd, &told); err != nil {
					return err
				}
			}
			return initialise(a, &told, before)
		},
	}
	cmd.Flags().StringVar(&told.file, "config", "eastporch.yaml", "the configuration file to write")
	cmd.Flags().StringVar(&told.site, "site", "", "the host of your site, such as heronlake.example")
	cmd.Flags().StringVar(&told.ranges, "ranges", "", "a file of range data, or open for what is published openly")
	cmd.Flags().StringVar(&told.proxy, "proxy", "", "what stands in front: nginx, haproxy, apache or none")
	cmd.Flags().StringVar(&told.dataDir, "data-dir", "", "where the service keeps its data")
	cmd.Flags().StringSliceVar(&told.origins, "origin", nil, "where your pages are, such as https://heronlake.example, which is the default")
	return cmd
}

// openData is what stands for the range data that is published openly.
const openData = "open"

// ask asks for what no flag says.
func ask(a *terminal.App, cmd *cobra.Command, told *initAnswers) error {
	lines := bufio.NewReader(a.In)
	for _, q := range []struct {
		flag, question string
		to             *string
		check          func(string) error
	}{
		{"site", "The host of your site (such as heronlake.example):", &told.site, checkHost},
		{"ranges", "A file of range data, or open for what is published openly (empty for none yet):", &told.ranges, checkRanges},
		{"proxy", "What stands in front: nginx, haproxy, apache or none (empty for nginx):", &told.proxy, func(text string) error {
			if text == "" {
				told.proxy = "nginx"
				return nil
			}
			return checkFront(text)
		}},
	} {
		for !cmd.Flags().Changed(q.flag) {
			fmt.Fprint(a.Err, q.question+" ")
			line, err := lines.ReadString('\n')
			*q.to = strings.TrimSpace(line)
			if err != nil && (!errors.Is(err, io.EOF) || *q.to == "") {
				fmt.Fprintln(a.Err)
				return terminal.Usage(fmt.Errorf("nobody answers: give --site, --ranges (may be empty) and --proxy"))
			}
			if err := q.check(*q.to); err != nil {
				a.Note(err.Error())
				continue
			}
			break
		}
	}
	return nil
}

func checkRanges(file string) error {
	if file == openData {
		return nil
	}
	return shelf.CheckSource(file)
}

func checkHost(host string) error {
	if host == "" || strings.Trim(host, "abcdefghijklmnopqrstuvwxyz0123456789.-") != "" || strings.HasPrefix(host, ".") || strings.HasSuffix(host, ".") {
		return fmt.Errorf("%.80q is not a host: write it like heronlake.example, in small letters and without https://", host)
	}
	return nil
}

func checkFront(proxy string) error {
	if !slices.Contains(fronts, proxy) {
		return fmt.Errorf("%.40q is none of %s", proxy, strings.Join(fronts, ", "))
	}
	return nil
}

// initialise writes what was told, and says what comes next.
func initialise(a *terminal.App, told *initAnswers, before []byte) error {
	first := config.First{DataDir: told.dataDir, Site: told.site}
	if told.site != "" {
		if err := checkHost(told.site); err != nil {
			return terminal.Usage(fmt.Errorf("--site: %w", err))
		}
		if zone := time.Local.String(); zone != "Local" && zone != "UTC" && zone != "" && len(before) == 0 {
			first.Zone = zone
		}
	}
	if told.proxy != "" {
		if err := checkFront(told.proxy); err != nil {
			return terminal.Usage(fmt.Errorf("--proxy: %w", err))
		}
		if told.proxy != "none" {
			first.Proxies = []string{netip.MustParsePrefix("127.0.0.1/32").String(), "::1/128"}
		}
	}
	for _, origin := range told.origins {
		if err := access.CheckOrigin(origin); err != nil {
			return terminal.Usage(fmt.Errorf("--origin: %w", err))
		}
	}
	var err error
	if told.ranges != "" && told.ranges != openData {
		if first.Source, err = shelf.AsSource(a, told.ranges); err != nil {
			return err
		}
	}
	text, err := config.Edit(before, first)
	if err != nil {
		return fmt.Errorf("%s: %w: mend it first, it is left as it stands", told.file, err)
	}
	if told.ranges == openData {
		if text, err = shelf.WithOpenData(a, text); err != nil {
			return err
		}
	}
	cfg, err := shelf.WriteConfig(a, told.file, before, text)
	if err != nil {
		return err
	}
	secret := ""
	if told.site != "" {
		origins := told.origins
		if len(origins) == 0 {
			origins = []string{"https://" + told.site}
		}
		secret, err = access.Wait(cfg.DataDir, access.Key{Name: "pages of " + told.site, Scope: access.Page, Sites: []string{told.site}, Origins: origins}, time.Now())
		if err != nil {
			return fmt.Errorf("the page key: %w", err)
		}
	}
	saysNext(a, told, cfg, secret, len(before) > 0)
	return nil
}

// saysNext prints what to put where, and the next command.
func saysNext(a *terminal.App, told *initAnswers, cfg *config.Config, secret string, again bool) {
	if len(cfg.Atlas.Sources) == 0 {
		fmt.Fprintf(a.Out, "There is no range data yet, so no address will be located: add it with eastporch init --config %s --ranges FILE, or --ranges open for what is published openly.\n", told.file)
	}
	base := "http://" + cfg.Public.Address
	script := base + "/porch.js"
	if told.proxy != "" {
		if part, ok := snippet.Location(told.proxy, base); ok {
			fmt.Fprintf(a.Out, "\nFor %s:\n\n%s", told.proxy, indented(part))
			script = "/porch/porch.js"
		}
	} else if len(cfg.Proxies.Trusted) > 0 {
		script = "/porch/porch.js" // through the proxy of before
	}
	if secret != "" {
		older := ""
		if again {
			older = "; those of before go on working (eastporch keys list)"
		}
		fmt.Fprintf(a.Out, "\nFor your pages; the key is shown once, and any page may show it%s:\n\n%s", older,
			indented(fmt.Sprintf("<script src=%q data-key=%q data-visit defer></script>\n<p>Hello in <b data-porch=\"location.names.city\">your town</b>!</p>\n", script, secret)))
	}
	next := "eastporch serve --config " + told.file + "\n"
	if again {
		next = "eastporch reload    # where the service runs: it takes up the site and the key\n" + next
	}
	fmt.Fprintf(a.Out, "\nNext:\n\n%s", indented(next))
}

func indented(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString("    " + line)
	}
	return b.String()
}
