package visit

import (
	"strings"

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
	read := useragent.Parse(*agent)
	switch {
	case read.Desktop || read.Mobile || read.Tablet:
		if name := strings.TrimSpace(read.Name); name != "" && len(name) <= maxFamily && families[name] {
			return name
		}
	case read.Bot:
		return "bot"
	}
	return "other"
}

// families are the names that are counted; whatever visitors make up is not among them.
var families = map[string]bool{
	useragent.Chrome: true, useragent.HeadlessChrome: true, useragent.Edge: true, useragent.Firefox: true, useragent.InternetExplorer: true, useragent.Opera: true,
	useragent.OperaMini: true, useragent.OperaTouch: true, useragent.Safari: true, useragent.Vivaldi: true, useragent.SamsungBrowser: true,
	"Chromium": true, "Brave": true, "DuckDuckGo": true,
}
