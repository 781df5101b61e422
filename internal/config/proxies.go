package config

import (
	"bufio"
	"fmt"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/files/whole"
)

// Proxies says which proxies are trusted, and what they write.
type Proxies struct {
	Trusted []string `koanf:"trusted"` // prefixes, label:NAME, or unix
	Header  string   `koanf:"header"`
	Hops    int      `koanf:"hops"`
}

// unixPeer stands for peers that connect through a Unix socket.
const unixPeer = "unix"

// LabelSets reads the labels: prefixes as they stand, and files of prefixes,
// one a line, "#" before a comment. The error names the label or the line.
func (c *Config) LabelSets(in Input) (map[string][]netip.Prefix, error) {
	sets := map[string][]netip.Prefix{}
	for name, entries := range c.Labels {
		for _, entry := range entries {
			if file, ok := strings.CutPrefix(entry, "file:"); ok {
				prefixes, err := readPrefixes(in.Path(strings.TrimSpace(file)))
				if err != nil {
					return nil, fmt.Errorf("label %s: %w", name, err)
				}
				sets[name] = append(sets[name], prefixes...)
				continue
			}
			p, err := addr.ParsePrefix(entry)
			if err != nil {
				return nil, fmt.Errorf("label %s: %w", name, err)
			}
			sets[name] = append(sets[name], p)
		}
	}
	return sets, nil
}

func readPrefixes(file string) ([]netip.Prefix, error) {
	f, err := whole.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var list []netip.Prefix
	lines := bufio.NewScanner(f)
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("%s line %d: %s", file, n, reasonOf(err))
		}
		list = append(list, p)
	}
	return list, lines.Err()
}

// Finder makes the finder of visitors from the proxies and the labels.
func (c *Config) Finder(labels map[string][]netip.Prefix) (caller.Finder, error) {
	s := caller.Settings{Header: c.Proxies.Header, Hops: c.Proxies.Hops, Labels: addr.NewLabels(labels)}
	for _, text := range c.Proxies.Trusted {
		if text == unixPeer {
			s.Unix = true
			continue
		}
		if name, ok := strings.CutPrefix(text, "label:"); ok {
			for _, p := range labels[name] {
				s.Trusted = append(s.Trusted, caller.TrustedRange{Prefix: p, Label: name})
			}
			continue
		}
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return caller.Finder{}, err
		}
		s.Trusted = append(s.Trusted, caller.TrustedRange{Prefix: p})
	}
	return caller.New(s)
}

// Listed gives what says whether a peer of the listener sends a PROXY protocol
// header; nil where none does.
func (d Listener) Listed() func(netip.Addr) bool {
	if len(d.ProxyProtocol) == 0 {
		return nil
	}
	var prefixes []netip.Prefix
	sockets := false
	for _, text := range d.ProxyProtocol {
		if text == unixPeer {
			sockets = true
		} else if p, err := addr.ParsePrefix(text); err == nil {
			prefixes = append(prefixes, p)
		}
	}
	return func(a netip.Addr) bool {
		if !a.IsValid() {
			return sockets
		}
		for _, p := range prefixes {
			if p.Contains(a) {
				return true
			}
		}
		return false
	}
}

func (l *loader) checkProxies(c *Config) {
	for name, entries := range c.Labels {
		for i, text := range entries {
			if _, err := addr.ParsePrefix(text); err != nil && !strings.HasPrefix(text, "file:") {
				l.problem(fmt.Sprintf("labels.%s.%d", name, i), reasonOf(err), "Give a prefix such as 203.0.113.0/28, or file:office.txt.")
			}
		}
	}
	for i, text := range c.Proxies.Trusted {
		key := fmt.Sprintf("proxies.trusted.%d", i)
		if name, ok := strings.CutPrefix(text, "label:"); ok {
			if _, known := c.Labels[name]; !known {
				l.problem(key, fmt.Sprintf("there is no label %q", name), "Name it under labels.")
			}
			continue
		}
		l.checkPeer(key, text)
	}
	for name, d := range map[string]Listener{"public": c.Public, "admin": c.Admin} {
		for i, text := range d.ProxyProtocol {
			l.checkPeer(fmt.Sprintf("%s.proxy_protocol.%d", name, i), text)
		}
	}
	if len(l.problems) > 0 {
		return
	}
	// Files of labels are read at the start; here their prefixes stand for
	// themselves.
	stand := map[string][]netip.Prefix{}
	for name := range c.Labels {
		stand[name] = []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}
	}
	if _, err := c.Finder(stand); err != nil {
		key := "proxies.header"
		if c.Proxies.Hops != 0 {
			key = "proxies.hops"
		}
		l.problem(key, err.Error(), "See docs/proxies.md.")
	}
}

func (l *loader) checkPeer(key, text string) {
	if _, err := addr.ParsePrefix(text); err != nil && text != unixPeer {
		l.problem(key, reasonOf(err), "Give a prefix such as 203.0.113.0/28, or unix.")
	}
}
