package live

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/dom"
	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/browser"
)

// A Page is a browser tab that watches for console errors, uncaught exceptions
// and requests to other hosts.
type Page struct {
	t   *testing.T
	Ctx context.Context

	mu     sync.Mutex
	wrong  []string
	wanted []string
}

// Expected names paths whose answers may be problems.
func (p *Page) Expected(paths ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wanted = append(p.wanted, paths...)
}

func (p *Page) isExpected(url string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.ContainsFunc(p.wanted, func(path string) bool { return strings.Contains(url, path) })
}

// OpenPage signs in to the console of a service, in a window of 1280x800. Requests to other hosts,
// answers that are problems and anything that the page complains of fail the test: see
// [Page.NothingWrong].
func OpenPage(t *testing.T, s *Service) *Page {
	t.Helper()
	admin := s.AdminURL
	tab, closeTab, err := browser.Tab()
	require.NoError(t, err)
	t.Cleanup(closeTab)
	ctx, cancel := context.WithTimeout(tab, hangs)
	t.Cleanup(cancel)
	p := &Page{t: t, Ctx: ctx, wanted: []string{"/v1/addresses/"}}
	host, err := url.Parse(admin)
	require.NoError(t, err)
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			if e.Type == "error" || e.Type == "warning" {
				p.report("console %s: %v", e.Type, e.Args)
			}
		case *runtime.EventExceptionThrown:
			p.report("exception: %+v", e.ExceptionDetails)
		case *cdplog.EventEntryAdded:
			if e.Entry.Source == "security" || strings.Contains(e.Entry.Text, "Content Security Policy") {
				p.report("policy: %s", e.Entry.Text)
			}
		case *network.EventRequestWillBeSent:
			u, err := url.Parse(e.Request.URL)
			if err != nil || u.Host != host.Host && u.Scheme != "data" && u.Scheme != "blob" {
				p.report("request to another host: %s", e.Request.URL)
			}
		case *network.EventResponseReceived:
			if e.Response.Status >= 400 && !p.isExpected(e.Response.URL) {
				p.report("%d for %s", e.Response.Status, e.Response.URL)
			}
		}
	}))
	link, err := s.Server.Link(t.Context())
	require.NoError(t, err)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link), Visible(".list"))
	return p
}

func (p *Page) report(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wrong = append(p.wrong, fmt.Sprintf(format, args...))
}

// Do takes steps in the tab, and fails the test where one fails.
func (p *Page) Do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.Ctx, steps...))
}

// Text is the text of what a selector finds first.
func (p *Page) Text(selector string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.Ctx, chromedp.Text(chromedp.CSS(selector)))
	require.NoError(p.t, err)
	return text
}

// Says waits until a part of the page has a text: answers of before stand until
// new ones come, and parts are drawn anew meanwhile.
func (p *Page) Says(selector, text string) {
	p.t.Helper()
	look := fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`, selector)
	require.Eventually(p.t, func() bool { return strings.Contains(p.Eval(look), text) }, 10*time.Minute, 20*time.Millisecond, text)
}

// Eval gives what an expression of JavaScript is worth, waited for where it is a promise.
func (p *Page) Eval(expression string) string {
	p.t.Helper()
	value, err := chromedp.Run(p.Ctx, chromedp.Evaluate[string](expression, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	return value
}

// Visible waits until what a selector finds is seen and stays where it is.
func Visible(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.WaitVisible(chromedp.CSS(selector))
}

// stands is a promise kept once the element of a selector has stood still for
// ten frames: windows that open and answers that come move what is below.
const stands = `(selector => new Promise(resolve => {
	let before = "", still = 0;
	const look = () => {
		const element = document.querySelector(selector);
		element?.scrollIntoView({ block: "nearest", behavior: "instant" });
		const now = JSON.stringify(element?.getBoundingClientRect() ?? "");
		still = element && now === before ? still + 1 : 0;
		before = now;
		still === 10 ? resolve("") : requestAnimationFrame(look);
	};
	look();
}))(%q)`

// Click clicks on an element that stands still.
func Click(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(stands, selector), chromedp.EvalAwaitPromise)); err != nil {
			return err
		}
		return chromedp.Do(ctx, chromedp.Click(chromedp.CSS(selector)))
	})
}

// tag marks the element that a name was found for, or the label that it is seen as, so that a
// selector leads there.
const tag = `function () {
	document.querySelectorAll("[data-test-found]").forEach((e) => delete e.dataset.testFound);
	(this.closest("label") ?? this).dataset.testFound = "";
}`

// Press clicks on the control of a role and an accessible name, as assistive programs see them, on
// the page or within what a selector finds. It waits until there is exactly one that is not hidden,
// and it stands still.
func Press(within, role, name string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		for {
			found, err := tagNamed(ctx, within, role, name)
			if err != nil {
				return err
			}
			if found {
				return chromedp.Do(ctx, Click("[data-test-found]"))
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("no one %s %q: %w", role, name, ctx.Err())
			case <-time.After(20 * time.Millisecond):
			}
		}
	})
}

// tagNamed says whether exactly one element has a role and a name, and tags it.
func tagNamed(ctx context.Context, within, role, name string) (bool, error) {
	root := "document"
	if within != "" {
		root = fmt.Sprintf("document.querySelector(%q)", within)
	}
	part, err := chromedp.Call(ctx, runtime.Evaluate, runtime.EvaluateParams{Expression: root})
	if err != nil || part.Result.ObjectID == "" {
		return false, err
	}
	tree, err := chromedp.Call(ctx, accessibility.QueryAXTree, accessibility.QueryAXTreeParams{ObjectID: part.Result.ObjectID, Role: role})
	if err != nil {
		return false, nil // the part is gone again
	}
	seen := slices.DeleteFunc(tree.Nodes, func(n *accessibility.Node) bool {
		var is string
		return n.Ignored || n.Name == nil || json.Unmarshal(n.Name.Value, &is) != nil || strings.TrimSpace(is) != name
	})
	if len(seen) != 1 {
		return false, nil
	}
	element, err := chromedp.Call(ctx, dom.ResolveNode, dom.ResolveNodeParams{BackendNodeID: seen[0].BackendDOMNodeID})
	if err != nil {
		return false, nil // so is it
	}
	_, err = chromedp.Call(ctx, runtime.CallFunctionOn, runtime.CallFunctionOnParams{FunctionDeclaration: tag, ObjectID: element.Object.ObjectID})
	return err == nil, err
}

// NothingWrong fails the test where the page complained of anything so far.
func (p *Page) NothingWrong() {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	assert.Empty(p.t, p.wrong)
}

// OpenTab opens a browser tab that takes note of violations of policies and of errors.
func OpenTab(t *testing.T) *Page {
	t.Helper()
	tab, closeTab, err := browser.Tab()
	require.NoError(t, err)
	return watch(t, tab, closeTab)
}

// OpenTabWith is [OpenTab] of a browser of its own, with more options.
func OpenTabWith(t *testing.T, more ...chromedp.ExecAllocatorOption) *Page {
	t.Helper()
	tab, stop, err := browser.Start(context.Background(), more...)
	require.NoError(t, err)
	return watch(t, tab, stop)
}

// hangs bounds the work of one tab: only one that hangs meets it.
const hangs = 10 * time.Minute

func watch(t *testing.T, tab context.Context, closeTab func()) *Page {
	t.Helper()
	t.Cleanup(closeTab)
	ctx, cancel := context.WithTimeout(tab, hangs)
	t.Cleanup(cancel)
	p := &Page{t: t, Ctx: ctx}
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			p.report("exception: %+v", e.ExceptionDetails)
		case *cdplog.EventEntryAdded:
			if e.Entry.Source == "security" || strings.Contains(e.Entry.Text, "Content Security Policy") {
				p.report("policy: %s", e.Entry.Text)
			}
		}
	}))
	return p
}

// State is how the page script says that an element stands.
func (p *Page) State(id string) string {
	p.t.Helper()
	return p.Eval(fmt.Sprintf(`document.querySelector(%q).dataset.porchState || ""`, id))
}

// Until waits for an expression to be true.
func (p *Page) Until(expression string) {
	p.t.Helper()
	require.Eventually(p.t, func() bool { return p.Eval("String("+expression+")") == "true" }, 10*time.Minute, 20*time.Millisecond, expression)
}
