// Package browser starts a headless Chromium for tests and screenshots.
package browser

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"sync"
	"syscall"

	"github.com/chromedp/chromedp"
)

// ErrNoBrowser means that Chromium is not installed.
var ErrNoBrowser = errors.New("no Chromium is installed: run apt-get install chromium")

// Start starts a browser with an empty profile. The context is for chromedp;
// stop ends the browser and removes the profile.
func Start(ctx context.Context, more ...chromedp.ExecAllocatorOption) (browser context.Context, stop func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrNoBrowser
	}
	profile, err := os.MkdirTemp("", "eastporch-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("font-render-hinting", "none"),
	)
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, append(options, more...)...)
	browser, endBrowser := chromedp.NewContext(allocator)
	stop = func() {
		endBrowser()
		endAllocator()
		_ = os.RemoveAll(profile) // a leftover in the temporary folder harms nobody
	}
	if err := chromedp.Do(browser); err != nil { // starts it, without a time limit
		stop()
		return nil, nil, err
	}
	return browser, stop, nil
}

var (
	sharing sync.Mutex
	shared  context.Context // the browser of [Tab], nil before the first
	endAll  = func() {}
)

// Tab opens a tab of one browser that all tests of a binary share, with a profile of its own: no
// cookie, storage or cache of another tab is in it. closeTab closes it. The browser runs until [End].
func Tab() (tab context.Context, closeTab func(), err error) {
	sharing.Lock()
	defer sharing.Unlock()
	if shared == nil {
		browser, stop, err := Start(context.Background())
		if err != nil {
			return nil, nil, err
		}
		shared, endAll = browser, stop
	}
	tab, closeTab = chromedp.NewContext(shared, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(tab); err != nil {
		closeTab()
		return nil, nil, err
	}
	return tab, closeTab, nil
}

// End ends the browser of [Tab], for TestMain.
func End() {
	sharing.Lock()
	defer sharing.Unlock()
	endAll()
	shared, endAll = nil, func() {}
}

// Unwatched opens a page in a browser that nobody debugs, since some of what browsers do they do
// not do then; what is given names it. stop ends it.
func Unwatched(address string) (name string, stop func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return "", nil, ErrNoBrowser
	}
	profile, err := os.MkdirTemp("", "eastporch-browser-")
	if err != nil {
		return "", nil, err
	}
	args := []string{"--headless=new", "--disable-gpu", "--no-first-run", "--disable-component-update", "--disable-sync", "--user-data-dir=" + profile}
	if os.Geteuid() == 0 {
		args = append(args, "--no-sandbox")
	}
	cmd := exec.Command(path, append(args, address)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	return path + " at " + address, func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
		_ = os.RemoveAll(profile) // a leftover in the temporary folder harms nobody
	}, nil
}
