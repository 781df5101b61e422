package demo

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"eastporch/internal/client"
	"eastporch/internal/core/companion"
	"eastporch/internal/demo/standin"
)

// WeatherAddress is where the demo serves the invented weather, where that is free.
const WeatherAddress = "127.0.0.1:8091"

// WeatherKey gives the key that the invented weather wants, which it makes up where there is none yet in the
// directory of secrets.
func WeatherKey(dir string) (string, error) {
	file := filepath.Join(dir, "secrets", "weather.key")
	if text, err := os.ReadFile(file); err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	key := "made-up-" + rand.Text()
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", fmt.Errorf("directory of the demo: %w", err)
	}
	return key, os.WriteFile(file, []byte(key+"\n"), 0o600)
}

// StartWeather serves the invented weather at an address, or at a free port where that is taken, until ctx
// ends.
func StartWeather(ctx context.Context, address, key string) (at string, weather *standin.Weather, err error) {
	l, err := listen(address)
	if err != nil {
		return "", nil, fmt.Errorf("the invented weather: %w", err)
	}
	weather = &standin.Weather{Key: key, Now: time.Now}
	server := &http.Server{Handler: weather, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // it ends when the server is closed
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	return l.Addr().String(), weather, nil
}

// Companions makes the regatta's companions, those that are not there yet, and has them ask the weather at an
// address.
func Companions(ctx context.Context, c *client.Client, weather string) error {
	text, err := files.ReadFile("files/companions.yaml")
	if err != nil {
		return err
	}
	all, err := companion.ReadAll([]byte(strings.ReplaceAll(string(text), WeatherAddress, weather)))
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		said := all[name]
		if there, err := c.Companion(ctx, Site, name); err == nil {
			own, path := there.Said, said.URL[len("http://"+weather):]
			if own.URL == said.URL || !strings.HasPrefix(own.URL, "http://127.0.0.1:") || !strings.HasSuffix(own.URL, path) {
				continue
			}
			own.URL = said.URL // the port was another at the last start
			said = own
		}
		if _, err := c.SaveCompanion(ctx, Site, name, companion.Save{Said: said}); err != nil {
			return fmt.Errorf("companion %s: %w", name, err)
		}
	}
	return nil
}
