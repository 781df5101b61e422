package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
)

// rebuild asks for an edition and waits until it is built.
func (s *service) rebuild(t *testing.T) (edition string) {
	t.Helper()
	require.NoError(t, s.client.BuildEdition(t.Context()))
	require.Eventually(t, func() bool {
		_, job, err := s.client.Editions(t.Context())
		edition = job.Edition
		return err == nil && !job.Running && job.Edition != ""
	}, 20*time.Second, 20*time.Millisecond)
	return edition
}

// next publishes the later geofeed, and gives the edition that waits.
func (s *service) next(t *testing.T) string {
	t.Helper()
	require.NoError(t, demo.WriteNext(s.dir))
	return s.rebuild(t)
}

func TestAnEditionWaitsUntilItIsActivated(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 200)
	before, err := s.client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	assert.Equal(t, "Portland", *before.Location.City)
	name := s.next(t)
	require.NotEqual(t, before.Edition.Name, name)
	list, _, err := s.client.Editions(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "ready", list[0].State)

	changes, err := s.client.Changes(t.Context(), "", name)
	require.NoError(t, err)
	assert.Equal(t, 11, changes.Ranges)
	assert.Equal(t, 3, changes.Counts["country"].Ranges)
	assert.Positive(t, changes.Visits.Differently.Visits)
	assert.Less(t, changes.Visits.Differently.Visits, changes.Visits.Visits)

	used, err := s.client.ActivateEdition(t.Context(), name)
	require.NoError(t, err)
	assert.Equal(t, name, used)
	after, err := s.client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	assert.Equal(t, "Seattle", *after.Location.City)
	assert.Equal(t, name, after.Edition.Name)

	// Stored visits are read again, and keep the old reading.
	edition, seen, again, err := s.client.Reenrich(t.Context(), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, name, edition)
	assert.Equal(t, 200, seen)
	assert.Positive(t, again)
	page, err := s.client.Visits(t.Context(), url.Values{"site": {demo.Site}, "city": {"Seattle"}}, "", 5)
	require.NoError(t, err)
	for _, v := range page.Visits {
		require.Len(t, v.Earlier, 1)
		assert.Equal(t, "Portland", *v.Earlier[0].Location.City)
		assert.Equal(t, before.Edition.Name, v.Earlier[0].Edition)
	}
	_, _, again, err = s.client.Reenrich(t.Context(), time.Time{})
	require.NoError(t, err)
	assert.Zero(t, again, "once is enough")

	back, err := s.client.ActivateEdition(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before.Edition.Name, back)
	for _, name := range []string{"nope", "../state", ""} {
		got := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/atlas/activate", fmt.Sprintf(`{"edition":%q}`, name))
		assert.Equal(t, []any{http.StatusNotFound, "/problems/no-such-edition"}, []any{got.status, got.at(t, "type")}, name)
	}
}

// The same by the command line.
func TestTheCommandLineRefreshesAndActivates(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	before, err := s.client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	require.NoError(t, demo.WriteNext(s.dir))
	built := runCLI(t, s, "atlas", "refresh")
	require.Equal(t, 0, built.code, built.err)
	assert.Regexp(t, `^Edition \S+ is built; it is ready\.\n$`, built.out)
	name := strings.Fields(built.out)[1]
	assert.Equal(t, "Edition "+name+" is in use.\n", runCLI(t, s, "atlas", "activate", name).out)
	assert.Equal(t, "Edition "+before.Edition.Name+" is in use.\n", runCLI(t, s, "atlas", "back").out)
	assert.Contains(t, runCLI(t, s, "atlas", "activate", "none").err, "No such edition")
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "harbour-net.csv"), []byte("<html>Sorry\n<html>Sorry\n"), 0o600))
	broken := runCLI(t, s, "atlas", "refresh")
	assert.Equal(t, 1, broken.code)
	assert.Contains(t, broken.err, "no edition was built: ")
	assert.Contains(t, broken.err, "Harbour Net geofeed: more than half")

	other := filepath.Join(s.dir, "lakeside-exchange.csv")
	text, err := os.ReadFile(other)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(text), "\n")
	require.NoError(t, os.WriteFile(other, []byte(strings.Join(lines[:len(lines)-2], "")), 0o600))
	partly := runCLI(t, s, "atlas", "refresh")
	assert.Equal(t, 1, partly.code, "an edition that is not of all sources as they are now")
	assert.Regexp(t, `^Edition \S+ is built; it is ready\.\n$`, partly.out)
	assert.Contains(t, partly.err, "Harbour Net geofeed: more than half")
}

func TestASourceThatShrankOrIsDamagedChangesNothing(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	feed := filepath.Join(s.dir, "harbour-net.csv")
	before, err := s.client.Address(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	for name, text := range map[string]string{
		"shrunk":    "198.18.3.0/26,ES,,,\n",
		"nonsense":  "<html>Sorry\n<html>Sorry\n",
		"long line": strings.Repeat("x", 100_000),
	} {
		require.NoError(t, os.WriteFile(feed, []byte(text), 0o600))
		require.NoError(t, s.client.BuildEdition(t.Context()))
		require.Eventually(t, func() bool {
			_, job, err := s.client.Editions(t.Context())
			return err == nil && !job.Running && job.Failed != ""
		}, 20*time.Second, 20*time.Millisecond, name)
		after, err := s.client.Address(t.Context(), "198.18.3.40")
		require.NoError(t, err)
		assert.Equal(t, before.Edition.Name, after.Edition.Name, name)
	}
	// What a killed build leaves behind is removed at the next start, and an edition
	// that was damaged is not used.
	files, err := filepath.Glob(filepath.Join(s.data, "atlas", "*.edition"))
	require.NoError(t, err)
	for _, f := range files {
		if !strings.Contains(f, before.Edition.Name) {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			text[len(text)/2] ^= 0xff
			require.NoError(t, os.WriteFile(f+".new", text, 0o600))
			require.NoError(t, os.Rename(f+".new", f))
			name := strings.TrimSuffix(filepath.Base(f), ".edition")
			got := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/atlas/activate", fmt.Sprintf(`{"edition":%q}`, name))
			assert.Equal(t, http.StatusConflict, got.status)
			assert.Contains(t, got.at(t, "detail"), "is damaged")
		}
	}
}

// 100,000 requests while editions are activated ten times: none fails, and none
// mixes two editions.
//
// It is alone, so that it does not take the processors from browsers.
func TestActivatingWhileRequestsRun(t *testing.T) {
	s := start(t, map[string]any{"limits.key_per_second": 1_000_000})
	first, err := s.client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	name := s.next(t)
	towns := map[string]string{first.Edition.Name: "Portland", name: "Seattle"}
	const requests, workers, activations = 100_000, 8, 10
	var done, failed, mixed atomic.Int64
	saw, due := make([]map[string]int, workers), make(chan struct{}, activations+1)
	var wait sync.WaitGroup
	httpClient := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: workers}}
	for w := range workers {
		saw[w] = map[string]int{}
		wait.Go(func() {
			for n := done.Add(1); n <= requests; n = done.Add(1) {
				if n%(requests/(activations+1)) == 0 {
					due <- struct{}{}
				}
				req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.adminURL+"/v1/addresses/198.18.45.9", nil)
				if err != nil {
					failed.Add(1)
					continue
				}
				req.Header.Set("Authorization", "Bearer "+s.admin)
				res, err := httpClient.Do(req)
				if err != nil {
					failed.Add(1)
					continue
				}
				var card struct {
					Location struct{ City string }
					Edition  struct{ Name string }
				}
				err = json.NewDecoder(res.Body).Decode(&card)
				res.Body.Close()
				if err != nil || res.StatusCode != http.StatusOK {
					failed.Add(1)
				} else if towns[card.Edition.Name] != card.Location.City {
					mixed.Add(1)
				}
				saw[w][card.Edition.Name]++
			}
		})
	}
	for i := range activations {
		<-due
		to := name
		if i%2 == 1 {
			to = first.Edition.Name
		}
		_, err := s.client.ActivateEdition(t.Context(), to)
		require.NoError(t, err)
	}
	wait.Wait()
	assert.Zero(t, failed.Load())
	assert.Zero(t, mixed.Load())
	both := map[string]int{}
	for _, m := range saw {
		for edition, n := range m {
			both[edition] += n
		}
	}
	assert.Len(t, both, 2)
	t.Logf("%d requests, %d activations, answers by edition: %v", requests, activations, both)
}

func TestCorrectionsRankFirstAtOnce(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	where := func() string {
		card, err := s.client.Address(t.Context(), "198.18.7.114")
		require.NoError(t, err)
		if card.Location.City == nil {
			return string(card.Location.Level)
		}
		return *card.Location.City
	}
	assert.Equal(t, "Valencia", where())
	made, err := s.client.Correct(t.Context(), map[string]any{"range": "198.18.7.0-198.18.7.255", "country_code": "pt", "city": "Faro", "note": "moved"})
	require.NoError(t, err)
	assert.Equal(t, "198.18.7.0/24", made.Range)
	assert.Equal(t, "Faro", where())
	again, err := s.client.Correct(t.Context(), map[string]any{"range": "198.18.7.0/24", "do_not_locate": true})
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID, "of the same range there is one")
	assert.Equal(t, "none", where())

	feed := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/corrections?format=geofeed", "")
	assert.Contains(t, feed.body, "\n198.18.7.0/24,,,,\n")
	check := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/corrections/check", feed.body, "Content-Type: text/csv")
	assert.Equal(t, true, check.at(t, "valid"))
	check = s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/corrections/check", "198.18.7.1/24,PT,,,\n198.18.8.0/24,UK,,,\n198.18.9.0/24,PT,,,\n", "Content-Type: text/csv")
	assert.Contains(t, check.at(t, "rejects.1.reason"), "did you mean GB?")

	require.NoError(t, s.client.DropCorrection(t.Context(), made.ID.String()))
	assert.Equal(t, "Valencia", where())
	require.Error(t, s.client.DropCorrection(t.Context(), made.ID.String()))
	for body, field := range map[string]string{
		`{"range":"198.18.7.9/24","country_code":"PT"}`:                                    "range",
		`{"range":"198.18.7.0/24"}`:                                                        "country_code",
		`{"range":"198.18.7.0/24","country_code":"UK"}`:                                    "did you mean GB?",
		`{"range":"198.18.7.0/24","country_code":"PT","region_code":"ES-VC"}`:              "region_code",
		`{"range":"198.18.7.0/24","country_code":"PT","latitude":900,"longitude":1}`:       "latitude",
		`{"range":"198.18.7.0/24","country_code":"PT","latitude":9}`:                       "one stands there",
		`{"range":"198.18.7.0/24","country_code":"PT","time_zone":"Europe/Atlantis"}`:      "time_zone",
		`{"range":"198.18.7.0/24","do_not_locate":true,"city":"Faro","country_code":"PT"}`: "do_not_locate",
		`{"range":"198.18.7.0/24","country_code":"PT","radius_km":-1}`:                     "radius_km",
		`{"range":"198.18.7.0/24","country_code":"PT","town":"Faro"}`:                      "town",
		`{"range":"198.18.7.40-198.18.7.4","country_code":"PT"}`:                           "did you mean",
	} {
		got := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/corrections", body)
		assert.Equal(t, http.StatusUnprocessableEntity, got.status, body)
		assert.Contains(t, got.said(t), field, body)
	}
}

func TestRangesTownsAreasAndMany(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	get := func(path string, header ...string) answer {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+path, "", header...)
	}
	r, err := s.client.Range(t.Context(), "198.18.0.0/17")
	require.NoError(t, err)
	assert.True(t, r.Complete)
	assert.Equal(t, "ES", r.Shares[0].CountryCode)
	sum := 0.0
	for _, share := range r.Shares {
		sum += share.Share.Share
	}
	assert.InDelta(t, 1, sum, 1e-9)
	assert.Contains(t, get("/v1/ranges?range=198.18.9.1/24").at(t, "detail"), "host bits")

	assert.Equal(t, "Lisbon", get("/v1/towns/near?at=geo:38.72,-9.14&count=1").at(t, "towns.0.city"))
	assert.Contains(t, get("/v1/towns/near?latitude=139&longitude=35").at(t, "hint"), "swapped?")
	assert.Contains(t, get("/v1/towns/near").at(t, "detail"), "missing")
	areas, err := s.client.Areas(t.Context(), "geo:38.72,-9.14")
	require.NoError(t, err)
	assert.Equal(t, []string{"Iberia"}, areas)
	samples, err := s.client.Samples(t.Context(), "PT", "Lisbon", 5, 1)
	require.NoError(t, err)
	require.Len(t, samples, 5)
	for _, ip := range samples {
		card, err := s.client.Address(t.Context(), ip)
		require.NoError(t, err)
		assert.Equal(t, "Lisbon", *card.Location.City)
	}

	// Host names are resolved only where the owner allows it.
	assert.Equal(t, http.StatusBadRequest, get("/v1/addresses/localhost.").status)

	// One address in every format, and with the fields that are wanted.
	assert.Equal(t, "Lisbon\n", get("/v1/addresses/198.18.3.40?fields=location.city&format=text").body)
	assert.Equal(t, []any{-9.133, 38.717}, get("/v1/addresses/198.18.3.40", "Accept: application/geo+json").at(t, "geometry.coordinates"))
	assert.Contains(t, get("/v1/addresses/198.18.3.40?format=yaml").body, "city: Lisbon\n")
	assert.Contains(t, get("/v1/addresses/198.18.3.40?format=xml").body, "<city>Lisbon</city>")
	csv := get("/v1/addresses/198.18.3.40?format=csv&fields=location.city,network.as_number")
	assert.Equal(t, "location.city,network.as_number\nLisbon,64500\n", csv.body)
	assert.Contains(t, csv.header.Values("Vary"), "Accept")
	assert.Equal(t, http.StatusUnprocessableEntity, get("/v1/addresses/198.18.3.40?fields=location.town").status)
	assert.Equal(t, http.StatusUnprocessableEntity, get("/v1/addresses/198.18.3.40?format=docx").status)
	assert.Equal(t, http.StatusNotAcceptable, get("/v1/addresses/198.18.3.40", "Accept: image/png").status)

	// Why lists ranges that did not decide, too.
	why, err := s.client.Why(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	plain, err := s.client.Address(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(why.Evidence), len(plain.Evidence))

	many := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/addresses?format=ndjson", "198.18.3.40\n300.1.1.1\n\n10.1.2.3\n", "Content-Type: text/plain")
	lines := strings.Split(strings.TrimSpace(many.body), "\n")
	require.Len(t, lines, 3)
	line := func(i int, path string) any { return answer{body: lines[i]}.at(t, path) }
	assert.Equal(t, []any{"Lisbon", nil, true}, []any{line(0, "card.location.city"), line(1, "card"), line(2, "card.address.skipped")})
	many = s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/addresses?fields=input,spelling,card.location.city", `{"addresses":["3323069224","198.18.7.1"]}`)
	assert.Equal(t, []any{"an integer", "Valencia"}, []any{many.at(t, "addresses.0.spelling"), many.at(t, "addresses.1.card.location.city")})
	for _, body := range []string{`{"addresses":[]}`, `{}`, `{"addresses":[` + strings.Repeat(`"1.1.1.1",`, 10_000) + `"1.1.1.1"]}`} {
		assert.Equal(t, http.StatusUnprocessableEntity, s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/addresses", body).status)
	}
}

func TestAccuracyDescribeCoverageAndExport(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	accuracy, err := s.client.Accuracy(t.Context(), "", nil)
	require.NoError(t, err)
	assert.Greater(t, accuracy.All.Points, 500)
	assert.Greater(t, *accuracy.All.CountryRight, 0.9)
	last := 0.0
	for _, c := range accuracy.Curve {
		assert.GreaterOrEqual(t, c.Share, last, "it never falls")
		last = c.Share
	}
	better, err := s.client.Accuracy(t.Context(), s.next(t), nil)
	require.NoError(t, err)
	assert.Greater(t, *better.All.Within50Km, *accuracy.All.Within50Km)
	own, err := s.client.Accuracy(t.Context(), "", strings.NewReader("address,country_code\n198.18.3.40,PT\n198.18.7.9,PT\nx,PT\n"))
	require.NoError(t, err)
	assert.InDelta(t, 0.5, *own.All.CountryRight, 1e-9)

	d := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/atlas/describe", "net,cc\n198.18.0.0/16,PT\n", "Content-Type: application/octet-stream")
	assert.Equal(t, map[string]any{"country_code": "cc", "range": "net"}, d.at(t, "mapping"))
	d = s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/atlas/describe", strings.Repeat("x", 70_000), "Content-Type: application/octet-stream")
	assert.Equal(t, http.StatusUnprocessableEntity, d.status)
	coverage := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/atlas/coverage?format=csv&fields=country_code,ipv4_addresses", "")
	assert.Contains(t, coverage.body, "PT,")
	export := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/atlas/export?format=geofeed", "")
	assert.Contains(t, export.body, "\n198.18.3.0/26,PT,PT-11,Lisbon,\n")
}

func TestAtlasPageActivatesCorrectsAndDescribes(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 60)
	s.next(t)
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.adminURL+"/atlas"), visible(".activate-sentence"), visible(".accuracy-table tbody tr"))
	assert.Contains(t, p.text(".activate-sentence"), "11 ranges")
	assert.Contains(t, p.text(".sources"), "Harbour Net geofeed")
	assert.Contains(t, p.text(".coverage-countries"), "Portugal")
	p.do(click(".activate-actions button:nth-child(2)"), visible(".ant-modal .changes"))
	assert.Contains(t, p.text(".ant-modal .changes"), "198.18.64.0/24")
	p.do(chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS(".ant-modal .changes"))) // a click could miss a dialog that still moves
	p.do(click(".coverage-head .ant-segmented-item"), visible(".coverage-map circle"))
	p.do(click(".activate-actions .ant-btn-primary"), chromedp.WaitNotPresent(chromedp.CSS(".activate-sentence")))
	assert.Contains(t, p.text(".activate"), "No newer edition")
	assert.Contains(t, p.text(".editions"), "Go back to it")

	_, err := s.client.Correct(t.Context(), map[string]any{"range": "198.18.7.0/24", "country_code": "PT", "city": "Faro"})
	require.NoError(t, err)
	p.do(chromedp.Navigate(s.adminURL+"/atlas"), visible(".sources tbody tr"))
	assert.Contains(t, p.text(".sources"), "Corrections")

	p.do(chromedp.Navigate(s.adminURL+"/lookup/many"), visible(".many-choose textarea"),
		chromedp.SendKeys(chromedp.CSS(".many-choose textarea"), "198.18.3.40\n300.1.1.1\n3fff:1a0:7::9\n3323069224\n"),
		click(".many-choose .ant-btn-primary"), visible(".many-table tr.rejected"))
	answers := p.text(".many-table")
	assert.Contains(t, answers, "Lisbon, Portugal")
	assert.Contains(t, answers, "not an address")
	assert.Contains(t, answers, "skipped")
	assert.Contains(t, answers, "an integer")
	p.do(chromedp.EmulateViewport(390, 844))
	for _, path := range []string{"/atlas", "/lookup/many"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(".tabs"), visible("#content > *"))
		assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= 390)"), "%s scrolls sideways", path)
	}
	p.nothingWrong()
}

func TestHostNamesWhereTheOwnerAllowsIt(t *testing.T) {
	t.Parallel()
	s := start(t, map[string]any{"resolve_names": true, "map_link": "https://map.example/{latitude}/{longitude}"})
	got := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/localhost.", "")
	assert.Equal(t, http.StatusOK, got.status, got.body)
	assert.Equal(t, "loopback", got.at(t, "address.kind"))
	assert.Equal(t, "https://map.example/{latitude}/{longitude}", s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/sites", "").at(t, "map_link"))
}

// What is corrected at one service is corrected at all of one database.
func TestCorrectionsReachOtherInstances(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	one, two := start(t, map[string]any{"database.url": database}), start(t, map[string]any{"database.url": database})
	one.admin = two.admin // the second start made it anew
	require.Eventually(t, func() bool {
		return one.call(t, "127.0.0.1", http.MethodGet, one.adminURL+"/v1/keys", "").status == http.StatusOK
	}, 10*time.Second, 50*time.Millisecond)
	city := func(s *service) any {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/198.18.3.40?fields=location.city", "").at(t, "location.city")
	}
	made := one.call(t, "127.0.0.1", http.MethodPost, one.adminURL+"/v1/corrections", `{"range":"198.18.3.40/32","country_code":"PT","region_code":"PT-13","city":"Porto"}`)
	require.Equal(t, http.StatusCreated, made.status, made.body)
	assert.Equal(t, "Porto", city(one), "here at once")
	assert.Eventually(t, func() bool { return city(two) == "Porto" }, 10*time.Second, 50*time.Millisecond, "there within a second or two")
	id := parse[struct{ ID string }](t, made).ID
	require.Equal(t, http.StatusNoContent, two.call(t, "127.0.0.1", http.MethodDelete, two.adminURL+"/v1/corrections/"+id, "").status)
	assert.Eventually(t, func() bool { return city(one) == "Lisbon" }, 10*time.Second, 50*time.Millisecond)
}
