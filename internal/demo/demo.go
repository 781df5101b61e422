// Package demo is the Heron Lake Regatta, an invented rowing regatta with an
// international crowd: its configuration, the range data of invented networks,
// and visits. Addresses come only from blocks that are reserved for
// documentation and benchmarking.
package demo

import (
	"context"
	"embed"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/core/gate"
	"eastporch/internal/demo/standin"
)

// Site is the regatta's host.
const Site = "heronlake.example"

//go:embed files
var files embed.FS

// Write writes the configuration and the range data into dir, over what an
// earlier demo wrote there, and gives the configuration's path.
func Write(dir string) (config string, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", fmt.Errorf("directory of the demo: %w", err)
	}
	for _, name := range []string{"lakeside-exchange.csv", "alder-networks.csv", "registry-statistics.txt", "areas.geojson", "gates.yaml", "eastporch.yaml"} {
		text, err := files.ReadFile("files/" + name)
		if err != nil {
			return "", err
		}
		config = filepath.Join(dir, name)
		if err := os.WriteFile(config, text, 0o644); err != nil {
			return "", fmt.Errorf("directory of the demo: %w", err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "test-points.csv"), testPoints(), 0o644); err != nil {
		return "", fmt.Errorf("directory of the demo: %w", err)
	}
	rates, err := os.Create(filepath.Join(dir, "rates.csv"))
	if err != nil {
		return "", fmt.Errorf("directory of the demo: %w", err)
	}
	standin.WriteRates(rates, time.Now())
	if err := rates.Close(); err != nil {
		return "", fmt.Errorf("directory of the demo: %w", err)
	}
	if _, err := WeatherKey(dir); err != nil {
		return "", err
	}
	return config, writeFeed(dir, "harbour-net.csv", time.Date(2026, 10, 28, 5, 0, 0, 0, time.UTC))
}

// Gates puts the regatta's gates in force, where there are none yet.
func Gates(ctx context.Context, c *client.Client) error {
	state, err := c.Gate(ctx, Site)
	if err != nil || state.Live.Revision > 0 {
		return err
	}
	text, err := files.ReadFile("files/gates.yaml")
	if err != nil {
		return err
	}
	rules, err := gate.ReadRules(text)
	if err != nil {
		return err
	}
	_, err = c.SaveGate(ctx, Site, api.GateSave{Rules: rules})
	return err
}

// Links makes the regatta's links, those that are not there yet.
func Links(ctx context.Context, c *client.Client) error {
	for _, l := range links {
		if _, err := c.Link(ctx, l.Code); err == nil {
			continue
		}
		if _, err := c.CreateLink(ctx, l); err != nil {
			return fmt.Errorf("link %s: %w", l.Code, err)
		}
	}
	return nil
}

// SendClicks stores clicks of the week before, unless there are some already.
func SendClicks(ctx context.Context, c *client.Client, clicks []api.NewVisit, progress func(done, all int)) error {
	page, err := c.Visits(ctx, url.Values{"site": {Site}, "link": {links[0].Code}}, "", 1)
	if err != nil || page.Count.Matching > 0 {
		return err
	}
	return send(ctx, c, clicks, progress)
}

// WriteNext writes the geofeed that Harbour Net publishes two weeks later in
// place of the one before.
func WriteNext(dir string) error {
	return writeFeed(dir, "harbour-net-next.csv", time.Date(2026, 11, 14, 5, 0, 0, 0, time.UTC))
}

func writeFeed(dir, name string, dated time.Time) error {
	text, err := files.ReadFile("files/" + name)
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "harbour-net.csv")
	if err := os.WriteFile(file, text, 0o644); err != nil {
		return fmt.Errorf("directory of the demo: %w", err)
	}
	return os.Chtimes(file, dated, dated)
}

// sentAtOnce is how many visits are sent in one request.
const sentAtOnce = 200

// Until gives the time that the visits of the demo in dir end at: now at its
// first start, and the same ever after, so that visits that were not all sent
// are sent again as they were.
func Until(dir string, now time.Time) (time.Time, error) {
	file := filepath.Join(dir, "visits-until")
	text, err := os.ReadFile(file)
	if err == nil {
		if at, err := time.Parse(time.RFC3339, strings.TrimSpace(string(text))); err == nil {
			return at, nil
		}
	}
	now = now.UTC().Truncate(time.Second)
	if err := os.WriteFile(file, []byte(now.Format(time.RFC3339)+"\n"), 0o644); err != nil {
		return now, fmt.Errorf("directory of the demo: %w", err)
	}
	return now, nil
}

// Send stores visits through the HTTP interface, unless the regatta has as many
// already; one that was stored before is not stored twice. progress is called
// now and then.
func Send(ctx context.Context, c *client.Client, visits []api.NewVisit, progress func(done, all int)) error {
	page, err := c.Visits(ctx, url.Values{"site": {Site}}, "", 1)
	if err != nil || page.Count.All >= int64(len(visits)) {
		return err
	}
	return send(ctx, c, visits, progress)
}

func send(ctx context.Context, c *client.Client, visits []api.NewVisit, progress func(done, all int)) error {
	for done := 0; done < len(visits); {
		part := visits[done:min(done+sentAtOnce, len(visits))]
		taken, err := c.AddVisits(ctx, part)
		if err != nil {
			return fmt.Errorf("sending visits: %w", err)
		}
		for _, t := range taken {
			if t.Problem != nil {
				return fmt.Errorf("sending visits: %w", (*client.Problem)(t.Problem))
			}
		}
		done += len(part)
		progress(done, len(visits))
	}
	return nil
}

// between are the shortest and longest times between two visits that arrive
// while the demo runs.
const between, betweenMost = 2 * time.Second, 8 * time.Second

// SendVisits sends a visit now and then, and follows a link of the public listener at visitors, until ctx
// ends, so that there is something to see. What cannot be sent is left out.
func SendVisits(ctx context.Context, c *client.Client, visitors string, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 1))
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(between + time.Duration(r.Int64N(int64(betweenMost-between)))):
			v := Visits(r.Uint64(), 1, time.Now())[0]
			v.ID = nil // its time is now
			_, _ = c.AddVisit(ctx, v)
			if r.IntN(4) == 0 {
				follow(ctx, visitors, Clicks(r.Uint64(), 1, time.Now())[0])
			}
		}
	}
}
