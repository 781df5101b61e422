package checkup

import (
	"fmt"
	"net/netip"
	"strings"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/plain"
)

func visitorWords(n int) string {
	if n >= maxVisitors {
		return fmt.Sprintf("%d visitors and more", maxVisitors)
	}
	return plain.Count(n, "visitor")
}

// trust gives the lines that trust an address and believe a header. An address that may be
// a stranger's is not in them: whoever sends a header often does not write our
// configuration.
func (w *Watch) trust(a netip.Addr, header string) []string {
	lines := []string{"proxies:"}
	if header != w.finder.Header() {
		lines = append(lines, "  header: "+spelled(header))
	}
	if near(a) {
		return append(lines, "  trusted:", fmt.Sprintf("    - %q", entry(a)))
	}
	return append([]string{"# Only if it is a proxy of yours, which the address alone does not say:"}, commented(append(lines, "  trusted:", `    - "ITS ADDRESS"`))...)
}

// entry is how an address stands in the configuration.
func entry(a netip.Addr) string {
	if !a.IsValid() {
		return "unix"
	}
	return netip.PrefixFrom(a, a.BitLen()).String()
}

// spelled writes the name of a header as its inventors do.
func spelled(header string) string {
	if header == "X-Real-Ip" {
		return "X-Real-IP"
	}
	return header
}

func commented(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		if !strings.HasPrefix(l, "#") {
			l = "# " + l
		}
		out[i] = l
	}
	return out
}

// proxyLines have a proxy write a header.
func proxyLines(header string) []string {
	switch header {
	case caller.ForwardedFor:
		return []string{"# nginx, in every location that passes requests on:", "proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;", "# HAProxy, in the frontend:", "option forwardfor"}
	case caller.Forwarded:
		return []string{"# HAProxy, in the frontend:", `http-request add-header Forwarded "for=\"[%[src]]\"" if { src -m ip ::/0 }`, `http-request add-header Forwarded for=%[src] unless { src -m ip ::/0 }`}
	}
	return []string{
		"# nginx, in every location that passes requests on:", "proxy_set_header " + spelled(header) + " $remote_addr;",
		"# HAProxy, in the frontend:", "http-request set-header " + spelled(header) + " %[src]",
	}
}

// removingLines have a proxy remove the forwarding headers that are not believed.
func removingLines(believed string, sent map[string]int) []string {
	nginx, haproxy := []string{"# nginx, in every location that passes requests on:"}, []string{"# HAProxy, in the frontend:"}
	for _, name := range forwarding {
		if name != believed && sent[name] > 0 {
			nginx = append(nginx, "proxy_set_header "+spelled(name)+` "";`)
			haproxy = append(haproxy, "http-request del-header "+spelled(name))
		}
	}
	return append(nginx, haproxy...)
}
