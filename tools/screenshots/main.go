// Command screenshots takes pictures of the console's pages, as they stand in
// docs/screenshots, from a running demo.
//
//	go run ./tools/screenshots --link http://127.0.0.1:8081/sign-in#… --out docs/screenshots [name …]
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"eastporch/internal/testkit/browser"
)

// shot is one picture: a page at a size, in a mode, after a click where one is
// named.
type shot struct {
	name, path, mode string
	width, height    int64
	ready, click     string // CSS selectors
	types            string // into the page's textarea, before the click
}

// from is one picture of the regatta's own page, as it is seen from somewhere.
type from struct {
	name, address, languages string
	width, height            int64
}

var regatta = []from{
	{"regatta-japan", "198.19.141.9", "ja", 1280, 800},
	{"regatta-portugal", "198.18.3.40", "pt-PT,pt;q=0.9", 1280, 800},
	{"regatta-brazil", "198.19.45.7", "pt-BR,pt;q=0.9", 1280, 800},
	{"regatta-canada", "198.18.41.12", "fr-CA,fr;q=0.9,en;q=0.5", 1280, 800},
	{"regatta-norway", "2001:db8:5e1:40::1f", "nb", 1280, 800},
	{"regatta-phone", "198.18.3.40", "pt-PT", 390, 1500},
	{"regatta-switch", "198.18.3.40", "pt-PT", 390, 844}, // of the English page
}

var shots = []shot{
	{"today-light", "/today", "light", 1280, 800, ".chart .bar", "", ""},
	{"today-dark", "/today", "dark", 1280, 800, ".chart .bar", "", ""},
	{"today-phone", "/today", "light", 390, 844, ".chart .bar", "", ""},
	{"visits-light", "/visits", "light", 1280, 800, ".visits-table tbody tr", ".visits-table tbody tr:nth-child(5)", ""},
	{"visits-dark", "/visits", "dark", 1280, 800, ".visits-table tbody tr", "", ""},
	{"visits-tablet", "/visits", "light", 768, 1024, ".visits-table tbody tr", "", ""},
	{"visits-phone", "/visits", "light", 390, 844, ".phone-list li", "", ""},
	{"map-light", "/map", "light", 1280, 800, ".places tbody tr", "", ""},
	{"map-share", "/map", "light", 1280, 800, ".timebar .bar", ".map-top .ant-segmented-item:nth-child(2)", ""},
	{"map-dark", "/map", "dark", 1280, 800, ".places tbody tr", ".map-zoom button:last-child", ""},
	{"map-phone", "/map", "light", 390, 844, ".worldmap [role=button]", "", ""},
	{"links-light", "/links?link=tickets", "light", 1280, 800, ".link-map circle", "", ""},
	{"links-dark", "/links?link=tickets", "dark", 1280, 800, ".link-map circle", "", ""},
	{"links-tablet", "/links", "light", 768, 1024, ".links-table tbody tr", "", ""},
	{"links-phone", "/links", "light", 390, 844, ".links-table tbody tr", "", ""},
	{"link-phone", "/links?link=tickets", "light", 390, 1900, ".link-map circle", "", ""},
	{"links-new", "/links", "light", 1280, 800, ".links-table tbody tr", ".links-new", ""},
	{"companions-light", "/companions?companion=weather", "light", 1280, 800, ".companion-places .chip", "", ""},
	{"companions-dark", "/companions?companion=weather", "dark", 1280, 800, ".companion-places .chip", "", ""},
	{"companions-tablet", "/companions?companion=weather", "light", 768, 1024, ".companion-places .chip", "", ""},
	{"companions-phone", "/companions?companion=weather", "light", 390, 2400, ".companion-places .chip", "", ""},
	{"companions-new", "/companions?companion=%2B", "light", 1280, 800, ".companion-editor", "", ""},
	{"notices-light", "/notices?notice=first-visit", "light", 1280, 800, ".preview-subject", "", ""},
	{"notices-dark", "/notices?notice=where-is", "dark", 1280, 800, ".preview-subject", "", ""},
	{"notices-tablet", "/notices?notice=first-visit", "light", 768, 1024, ".preview-subject", "", ""},
	{"notices-phone", "/notices?notice=first-visit", "light", 390, 844, ".preview-subject", "", ""},
	{"notices-long", "/notices?notice=first-visit", "dark", 390, 2900, ".preview-subject", "", ""},
	{"notices-html", "/notices?notice=where-is", "light", 1280, 800, ".preview-subject", ".notice-layout .ant-segmented-item:nth-child(2)", ""},
	{"notices-new", "/notices?notice=%2B", "light", 1280, 800, ".preview-subject", ".sentence-choice", ""},
	{"gate-light", "/gate", "light", 1280, 800, ".gate-table tbody tr", ".gate-rules > li:nth-child(3) .gate-open", ""},
	{"gate-dark", "/gate", "dark", 1280, 800, ".gate-table tbody tr", "", ""},
	{"gate-tablet", "/gate", "light", 768, 1024, ".gate-table tbody tr", "", ""},
	{"gate-phone", "/gate", "light", 390, 844, ".gate-table tbody tr", "", ""},
	{"rehearse-light", "/rehearse?from=PT&from=CA&from=GR&from=NZ&path=/early/eights", "light", 1280, 800, ".rehearse-table .ring", "", ""},
	{"rehearse-dark", "/rehearse?from=PT&from=JP&from=unknown&from=label:office&path=/early/eights&page=1", "dark", 1280, 800, ".rehearse-table .ring", "", ""},
	{"rehearse-phone", "/rehearse?from=PT&from=NZ&path=/early/eights", "light", 390, 844, ".rehearse-table .ring", "", ""},
	{"lookup-light", "/lookup?address=198.18.3.40", "light", 1280, 800, ".placemap .ring", "", ""},
	{"lookup-dark", "/lookup?address=198.19.140.7", "dark", 1280, 800, ".placemap .ring", "", ""},
	{"lookup-phone", "/lookup?address=198.18.3.40", "light", 390, 844, ".placemap .ring", "", ""},
	{"setup-light", "/setup", "light", 1280, 800, ".snippet-answer .bytes", "", ""},
	{"setup-dark", "/setup", "dark", 1280, 800, ".snippet-answer .bytes", ".snippet-answer .textlink", ""},
	{"setup-variants", "/setup", "light", 1280, 800, ".local-set", ".local-head button", ""},
	{"trail-light", "/trail", "light", 1280, 800, ".bighops li", "", ""},
	{"trail-phone", "/trail", "dark", 390, 844, ".bighops li", "", ""},
	{"setup-phone", "/setup", "light", 390, 844, ".keys-table tbody tr", "", ""},
	{"presentation-dark", "/lookup?address=198.18.7.114", "dark", 1280, 800, ".placemap .ring", ".bar .ant-switch", ""},
	{"sign-in-light", "/sign-in", "light", 1280, 800, "#admin-key", "", ""},
	{"sign-in-phone", "/sign-in", "dark", 390, 844, "#admin-key", "", ""},
	{"atlas-light", "/atlas", "light", 1280, 1560, ".known tbody tr", ".known .ant-segmented-item:nth-child(2)", ""},
	{"atlas-dark", "/atlas", "dark", 1280, 800, ".accuracy-table tbody tr", ".coverage-head .ant-segmented-item:first-child", ""},
	{"atlas-feeds", "/atlas", "light", 1280, 1500, ".feeds tbody tr", "", ""},
	{"atlas-feeds-phone", "/atlas", "dark", 390, 3000, ".feeds tbody tr", "", ""},
	{"lookup-empty", "/lookup", "light", 1280, 800, ".no-ranges", "", ""},
	{"atlas-known-phone", "/atlas", "dark", 390, 5200, ".known tbody tr", ".known .ant-segmented-item:nth-child(3)", ""},
	{"atlas-phone", "/atlas", "light", 390, 844, ".activate-sentence", "", ""},
	{"atlas-changes", "/atlas", "light", 1280, 800, ".activate-sentence", ".activate-actions button:nth-child(2)", ""},
	{"lookup-many", "/lookup/many", "light", 1280, 800, ".many-choose", ".many-choose .ant-btn-primary", many},
	{"lookup-empty", "/lookup", "light", 1280, 800, ".state", "", ""},
	{"lookup-json", "/lookup?address=198.51.100.7", "light", 1280, 800, ".placemap .ring", ".tools .ant-segmented-item:nth-child(2)", ""},
}

// many are addresses in the spellings that are met in the field.
const many = "198.18.3.40\n[2001:db8:5e1:40::1f]:443\n40.100.51.198.in-addr.arpa\n3323069224\n3fff:1a0:7::9\n198.19.44.6\n300.1.1.1\n" +
	"::ffff:198.18.90.12\n203.0.113.201\n198.18.41.9\n198.018.4.2\n2001:db8:77:2::a4\n198.18.112.61\n198.19.140.8\n198.51.100.140:51234\n10.1.2.3\n198.18.7.114"

func main() {
	link := flag.String("link", "", "the one-time link that the running demo printed")
	site := flag.String("site", "http://127.0.0.1:8082", "where the demo serves the regatta's own page")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	flag.Parse()
	if err := run(*link, *site, *out, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

func run(link, site, out string, names []string) error {
	admin, _, ok := strings.Cut(link, "/sign-in#")
	if !ok {
		return errors.New("--link is missing: give the one-time link that eastporch demo printed")
	}
	ctx, stop, err := browser.Start(context.Background())
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(ctx, chromedp.Navigate(link), chromedp.WaitVisible(chromedp.CSS(".list"))); err != nil {
		return err
	}
	for _, f := range regatta { // the companions' pages show what visitors had asked
		if err := visit(ctx, site, f); err != nil {
			return err
		}
	}
	if _, err := chromedp.Call(ctx, network.SetExtraHTTPHeaders, network.SetExtraHTTPHeadersParams{Headers: network.Headers{}}); err != nil {
		return err
	}
	for _, s := range shots {
		if len(names) > 0 && !slices.Contains(names, s.name) {
			continue
		}
		actions := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(s.width, s.height, chromedp.EmulateScale(1)),
			chromedp.Navigate(admin + "/readyz"),
			chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
				_, err := chromedp.Evaluate[any](fmt.Sprintf(`localStorage.setItem("ep-mode", %q); localStorage.removeItem("ep-presenting")`, s.mode))(ctx, t)
				return err
			}),
			chromedp.Navigate(admin + s.path),
			chromedp.WaitVisible(chromedp.CSS(s.ready)),
		}
		if s.types != "" {
			actions = append(actions, chromedp.SendKeys(chromedp.CSS("textarea"), s.types))
		}
		if s.click != "" {
			actions = append(actions, chromedp.Click(chromedp.CSS(s.click)))
		}
		actions = append(actions, chromedp.Sleep(1200*time.Millisecond))
		within, cancel := context.WithTimeout(ctx, longest)
		err := chromedp.Do(within, actions...)
		cancel()
		if err != nil {
			return fmt.Errorf("%s waits for %s: %w", s.name, s.ready, err)
		}
		if err := save(ctx, out, s.name); err != nil {
			return err
		}
	}
	for _, f := range regatta {
		if len(names) > 0 && !slices.Contains(names, f.name) {
			continue
		}
		if err := visit(ctx, site, f); err != nil {
			return err
		}
		if err := save(ctx, out, f.name); err != nil {
			return err
		}
	}
	return nil
}

// longest is how long a page may take.
const longest = time.Minute

// visit opens the regatta's own page as somebody elsewhere.
func visit(ctx context.Context, site string, f from) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	path := "/"
	if f.name == "regatta-switch" {
		path = "/en/"
	}
	seen := network.SetExtraHTTPHeadersParams{Headers: network.Headers{"X-Forwarded-For": f.address, "Accept-Language": f.languages}}
	if _, err := chromedp.Call(ctx, network.SetExtraHTTPHeaders, seen); err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	if err := chromedp.Do(ctx,
		chromedp.EmulateViewport(f.width, f.height, chromedp.EmulateScale(1)),
		chromedp.Navigate(site+path), chromedp.WaitVisible(chromedp.CSS(`[data-porch="location.names.city"][data-porch-state="ready"]`)),
		chromedp.Sleep(500*time.Millisecond),
	); err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	return nil
}

func save(ctx context.Context, out, name string) error {
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	file := filepath.Join(out, name+".png")
	if err := os.WriteFile(file, png, 0o644); err != nil {
		return err
	}
	fmt.Println(file)
	return nil
}
