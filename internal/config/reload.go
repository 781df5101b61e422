package config

import (
	"reflect"
	"slices"
)

// live are the keys that a running service takes anew.
var live = []string{"sites", "proxies", "labels", "policy", "nat64", "atlas", "groups", "areas", "marks", "map_link", "resolve_names"}

// Drops lists the sites and trusted proxies that c has and next has no more: whoever cuts a file short by accident
// loses these, and nobody is told otherwise.
func (c *Config) Drops(next *Config) (list []string) {
	for _, site := range c.Sites {
		if !slices.ContainsFunc(next.Sites, func(s Site) bool { return s.Host == site.Host }) {
			list = append(list, "the site "+site.Host)
		}
	}
	for _, proxy := range c.Proxies.Trusted {
		if !slices.Contains(next.Proxies.Trusted, proxy) {
			list = append(list, "the proxy "+proxy)
		}
	}
	return list
}

// Reloaded is a configuration that takes from another what a running service can: changed are the
// keys of it that differ, and restart those that differ and only count after a restart.
func (c *Config) Reloaded(next *Config) (merged *Config, changed, restart []string) {
	all := *c
	merged = &all
	from, to, now := reflect.ValueOf(next).Elem(), reflect.ValueOf(merged).Elem(), reflect.ValueOf(c).Elem()
	for i := range from.NumField() {
		key := from.Type().Field(i).Tag.Get("koanf")
		switch {
		case reflect.DeepEqual(from.Field(i).Interface(), now.Field(i).Interface()):
		case slices.Contains(live, key):
			to.Field(i).Set(from.Field(i))
			changed = append(changed, key)
		default:
			restart = append(restart, key)
		}
	}
	if merged.Atlas.FetchInside != c.Atlas.FetchInside {
		merged.Atlas.FetchInside = c.Atlas.FetchInside
		restart = append(restart, "atlas.fetch_inside")
	}
	return merged, changed, restart
}
