package cli

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

func (a *app) newBar(most int64, what string, bytes bool) *bar {
	f, ok := a.Err.(*os.File)
	if !ok || !isatty.IsTerminal(f.Fd()) {
		return &bar{}
	}
	return &bar{read: map[string]int64{}, b: progressbar.NewOptions64(most,
		progressbar.OptionSetWriter(io.Writer(f)), progressbar.OptionSetDescription(what), progressbar.OptionShowBytes(bytes),
		progressbar.OptionSetWidth(28), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))}
}

// buildBar measures a build by the bytes of its files; what is packed or comes
// from elsewhere has no end that is known.
func (a *app) buildBar(sources []editions.SourceConfig) *bar {
	most := int64(0)
	for _, s := range sources {
		info, err := os.Stat(s.Location)
		if err != nil {
			most = -1
			break
		}
		most += info.Size()
	}
	return a.newBar(most, "Reading", true)
}

func (b *bar) progress(source, doing string, bytes int64, _ int) {
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
	b.b.Describe(fmt.Sprintf("%-24s", "Reading "+cut(source, 16)))
	if most := b.b.GetMax64(); most > 0 {
		sum = min(sum, most-1) // finishing would end the bar
	}
	_ = b.b.Set64(sum)
}

func (a *app) shareBar(what string) *bar { return a.newBar(1000, what, false) }

func (b *bar) share(share float64) {
	if b.b != nil {
		_ = b.b.Set(int(share * 999))
	}
}

func (b *bar) done() {
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

func (b *bar) step() {
	if b.b != nil {
		_ = b.b.Add(1)
	}
}
