package config

import (
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatARunningServiceTakesAnew(t *testing.T) {
	now := &Config{DataDir: "/a", MapLink: "m", Sites: []Site{{Host: "heronlake.example"}}, ShutdownGrace: time.Second}
	next := &Config{DataDir: "/b", MapLink: "n", Sites: []Site{{Host: "heronlake.example"}, {Host: "harbour.example"}}, ShutdownGrace: time.Minute}
	next.Atlas.FetchInside = true
	next.Atlas.Activate = "auto"
	merged, changed, restart := now.Reloaded(next)
	assert.Equal(t, []string{"sites", "atlas", "map_link"}, changed)
	assert.Equal(t, []string{"data_dir", "shutdown_grace", "atlas.fetch_inside"}, restart)
	assert.Equal(t, []any{"/a", "n", 2, time.Second, false, "auto"}, []any{merged.DataDir, merged.MapLink, len(merged.Sites), merged.ShutdownGrace, merged.Atlas.FetchInside, merged.Atlas.Activate})
	assert.Equal(t, "m", now.MapLink, "what runs is not touched")

	_, changed, restart = now.Reloaded(now)
	assert.Empty(t, append(changed, restart...))
}

// Every key is either taken anew or wants a restart, by its name.
func TestEveryKeyHasItsName(t *testing.T) {
	names := map[string]bool{}
	for _, field := range reflect.VisibleFields(reflect.TypeFor[Config]()) {
		names[field.Tag.Get("koanf")] = true
	}
	assert.NotContains(t, names, "")
	for _, key := range live {
		assert.Contains(t, names, key)
	}
}
