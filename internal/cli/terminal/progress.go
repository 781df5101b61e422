package terminal

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/mattn/go-isatty"
	"github.com/schollz/progressbar/v3"

	"eastporch/internal/editions"
)

// bar shows how far long work is, on a terminal only.
type bar struct {
	lock sync.Mutex
	b    *progressbar.ProgressBar
	read map[string]int64 // bytes, by source
}

// NewBar shows how far work is; most is its end, in bytes or steps.
func (a *App) NewBar(most int64, what string, bytes bool) *bar {
	f, ok := a.Err.(*os.File)
	if !ok || !isatty.IsTerminal(f.Fd()) {
		return &bar{}
	}
	return &bar{read: map[string]int64{}, b: progressbar.NewOptions64(most,
		progressbar.OptionSetWriter(io.Writer(f)), progressbar.OptionSetDescription(what), progressbar.OptionShowBytes(bytes),
		progressbar.OptionSetWidth(28), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))}
}

// BuildBar measures a build by the bytes of its files; what is packed or comes
// from elsewhere has no end that is known.
func (a *App) BuildBar(sources []editions.SourceConfig) *bar {
	most := int64(0)
	for _, s := range sources {
		for _, path := range s.Locations {
			info, err := os.Stat(path)
			if err != nil {
				return a.NewBar(-1, "Reading", true)
			}
			most += info.Size()
		}
		if s.Gather != nil {
			return a.NewBar(-1, "Reading", true)
		}
	}
	return a.NewBar(most, "Reading", true)
}

// Progress is told how far a build is.
func (b *bar) Progress(source, doing string, bytes int64, _ int) {
	if b.b == nil {
		return
	}
	b.lock.Lock()
	defer b.lock.Unlock()
	if source == "" {
		b.b.Describe(fmt.Sprintf("%-24s", doing))
		return
	}
	b.read[source] = max(b.read[source], bytes)
	sum := int64(0)
	for _, n := range b.read {
		sum += n
	}
	b.b.Describe(fmt.Sprintf("%-24s", "Reading "+Cut(source, 16)))
	if most := b.b.GetMax64(); most > 0 {
		sum = min(sum, most-1) // finishing would end the bar
	}
	_ = b.b.Set64(sum)
}

// ShareBar shows a share of work.
func (a *App) ShareBar(what string) *bar { return a.NewBar(1000, what, false) }

// Share is told the share done, 0 to 1.
func (b *bar) Share(share float64) {
	if b.b != nil {
		_ = b.b.Set(int(share * 999))
	}
}

// Done takes the bar away.
func (b *bar) Done() {
	if b.b != nil {
		_ = b.b.Finish()
	}
}

// Write measures what passes.
func (b *bar) Write(p []byte) (int, error) {
	if b.b != nil {
		_ = b.b.Add(len(p))
	}
	return len(p), nil
}

// Step is one more step.
func (b *bar) Step() {
	if b.b != nil {
		_ = b.b.Add(1)
	}
}
