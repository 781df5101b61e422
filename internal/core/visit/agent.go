package visit

import (
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/mileusna/useragent"
)

// maxFamily bounds the name of a family, in bytes.
const maxFamily = 32

// AgentFamily gives the family of a user agent, without its version: the browser, or what a program calls
// itself; "" where there is none. Programs that name themselves as nobody else does are "other".
func AgentFamily(agent *string) string {
	if agent == nil || *agent == "" {
		return ""
	}
	if family, ok := families.Get(*agent); ok {
		return family
	}
	family := familyOf(*agent)
	families.Add(*agent, family)
	return family
}

// families remembers those of agents, of which most visits have one of few.
var families, _ = lru.New[string, string](4096) // which fails for no size above 0

func familyOf(agent string) string {
	read := useragent.Parse(agent)
	switch {
	case read.Desktop || read.Mobile || read.Tablet:
		if name := strings.TrimSpace(read.Name); name != "" && len(name) <= maxFamily && counted[name] {
			return name
		}
	case read.Bot:
		return "bot"
	}
	return "other"
}

// counted are the names that are counted; whatever visitors make up is not among them.
var counted = map[string]bool{
	useragent.Chrome: true, useragent.HeadlessChrome: true, useragent.Edge: true, useragent.Firefox: true, useragent.InternetExplorer: true, useragent.Opera: true,
	useragent.OperaMini: true, useragent.OperaTouch: true, useragent.Safari: true, useragent.Vivaldi: true, useragent.SamsungBrowser: true,
	"Chromium": true, "Brave": true, "DuckDuckGo": true,
}
