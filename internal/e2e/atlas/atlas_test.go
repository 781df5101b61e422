package atlas

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

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

func TestAnEditionWaitsUntilItIsActivated(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 200)
	before, err := s.Client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	assert.Equal(t, "Portland", *before.Location.City)
	name := s.Next(t)
	require.NotEqual(t, before.Edition.Name, name)
	list, _, err := s.Client.Editions(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "ready", list[0].State)

	changes, err := s.Client.Changes(t.Context(), "", name)
	require.NoError(t, err)
	assert.Equal(t, 11, changes.Ranges)
	assert.Equal(t, 3, changes.Counts["country"].Ranges)
	assert.Positive(t, changes.Visits.Differently.Visits)
	assert.Less(t, changes.Visits.Differently.Visits, changes.Visits.Visits)

	used, err := s.Client.ActivateEdition(t.Context(), name)
	require.NoError(t, err)
	assert.Equal(t, name, used)
	after, err := s.Client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	assert.Equal(t, "Seattle", *after.Location.City)
	assert.Equal(t, name, after.Edition.Name)

	// Stored visits are read again, and keep the old reading.
	answer, err := s.Client.Reenrich(t.Context(), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, name, answer.Edition)
	assert.Equal(t, 200, answer.Seen)
	assert.Positive(t, answer.Reenriched)
	page, err := s.Client.Visits(t.Context(), url.Values{"site": {demo.Site}, "city": {"Seattle"}}, "", 5)
	require.NoError(t, err)
	for _, v := range page.Visits {
		require.Len(t, v.Earlier, 1)
		assert.Equal(t, "Portland", *v.Earlier[0].Location.City)
		assert.Equal(t, before.Edition.Name, v.Earlier[0].Edition)
	}
	answer, err = s.Client.Reenrich(t.Context(), time.Time{})
	require.NoError(t, err)
	assert.Zero(t, answer.Reenriched, "once is enough")
	kept := 0
	for why, n := range answer.Kept {
		assert.NotEmpty(t, why)
		kept += n
	}
	assert.Equal(t, 200, kept, "each of them for a reason that is said")
	assert.Positive(t, answer.Kept["read with this edition before"])

	back, err := s.Client.ActivateEdition(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before.Edition.Name, back)
	for _, name := range []string{"nope", "../state", ""} {
		got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/atlas/activate", fmt.Sprintf(`{"edition":%q}`, name))
		assert.Equal(t, []any{http.StatusNotFound, "/problems/no-such-edition"}, []any{got.Status, got.At(t, "type")}, name)
	}
}

// The same by the command line.
func TestTheCommandLineRefreshesAndActivates(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	before, err := s.Client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	require.NoError(t, demo.WriteNext(s.Dir))
	built := live.RunCLI(t, s, "atlas", "refresh")
	require.Equal(t, 0, built.Code, built.Err)
	assert.Regexp(t, `^Edition \S+ is built; it is ready\.\n$`, built.Out)
	name := strings.Fields(built.Out)[1]
	assert.Equal(t, "Edition "+name+" is in use.\n", live.RunCLI(t, s, "atlas", "activate", name).Out)
	assert.Equal(t, "Edition "+before.Edition.Name+" is in use.\n", live.RunCLI(t, s, "atlas", "back").Out)
	assert.Contains(t, live.RunCLI(t, s, "atlas", "activate", "none").Err, "No such edition")
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "harbour-net.csv"), []byte("<html>Sorry\n<html>Sorry\n"), 0o600))
	broken := live.RunCLI(t, s, "atlas", "refresh")
	assert.Equal(t, 1, broken.Code)
	assert.Contains(t, broken.Err, "no edition was built: ")
	assert.Contains(t, broken.Err, "Harbour Net geofeed: more than half")

	other := filepath.Join(s.Dir, "lakeside-exchange.csv")
	text, err := os.ReadFile(other)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(text), "\n")
	require.NoError(t, os.WriteFile(other, []byte(strings.Join(lines[:len(lines)-2], "")), 0o600))
	partly := live.RunCLI(t, s, "atlas", "refresh")
	assert.Equal(t, 1, partly.Code, "an edition that is not of all sources as they are now")
	assert.Regexp(t, `^Edition \S+ is built; it is ready\.\n$`, partly.Out)
	assert.Contains(t, partly.Err, "Harbour Net geofeed: more than half")
}

func TestASourceThatShrankOrIsDamagedChangesNothing(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	feed := filepath.Join(s.Dir, "harbour-net.csv")
	before, err := s.Client.Address(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	for name, text := range map[string]string{
		"shrunk":    "198.18.3.0/26,ES,,,\n",
		"nonsense":  "<html>Sorry\n<html>Sorry\n",
		"long line": strings.Repeat("x", 100_000),
	} {
		require.NoError(t, os.WriteFile(feed, []byte(text), 0o600))
		require.NoError(t, s.Client.BuildEdition(t.Context()))
		require.Eventually(t, func() bool {
			_, job, err := s.Client.Editions(t.Context())
			return err == nil && !job.Running && job.Failed != ""
		}, 10*time.Minute, 20*time.Millisecond, name)
		after, err := s.Client.Address(t.Context(), "198.18.3.40")
		require.NoError(t, err)
		assert.Equal(t, before.Edition.Name, after.Edition.Name, name)
	}
	// What a killed build leaves behind is removed at the next start, and an edition
	// that was damaged is not used.
	files, err := filepath.Glob(filepath.Join(s.Data, "atlas", "*.edition"))
	require.NoError(t, err)
	for _, f := range files {
		if !strings.Contains(f, before.Edition.Name) {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			text[len(text)/2] ^= 0xff
			require.NoError(t, os.WriteFile(f+".new", text, 0o600))
			require.NoError(t, os.Rename(f+".new", f))
			name := strings.TrimSuffix(filepath.Base(f), ".edition")
			got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/atlas/activate", fmt.Sprintf(`{"edition":%q}`, name))
			assert.Equal(t, http.StatusConflict, got.Status)
			assert.Contains(t, got.At(t, "detail"), "is damaged")
		}
	}
}

// 100,000 requests while editions are activated ten times: none fails, and none
// mixes two editions.
//
// It is alone, so that it does not take the processors from browsers.
func TestActivatingWhileRequestsRun(t *testing.T) {
	s := live.Start(t, map[string]any{"limits.key_per_second": 1_000_000})
	first, err := s.Client.Address(t.Context(), "198.18.45.9")
	require.NoError(t, err)
	name := s.Next(t)
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
				req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.AdminURL+"/v1/addresses/198.18.45.9", nil)
				if err != nil {
					failed.Add(1)
					continue
				}
				req.Header.Set("Authorization", "Bearer "+s.Admin)
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
		_, err := s.Client.ActivateEdition(t.Context(), to)
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
	s := live.Start(t, nil)
	where := func() string {
		card, err := s.Client.Address(t.Context(), "198.18.7.114")
		require.NoError(t, err)
		if card.Location.City == nil {
			return string(card.Location.Level)
		}
		return *card.Location.City
	}
	assert.Equal(t, "Valencia", where())
	made, err := s.Client.Correct(t.Context(), map[string]any{"range": "198.18.7.0-198.18.7.255", "country_code": "pt", "city": "Faro", "note": "moved"})
	require.NoError(t, err)
	assert.Equal(t, "198.18.7.0/24", made.Range)
	assert.Equal(t, "Faro", where())
	again, err := s.Client.Correct(t.Context(), map[string]any{"range": "198.18.7.0/24", "do_not_locate": true})
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID, "of the same range there is one")
	assert.Equal(t, "none", where())

	feed := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/corrections?format=geofeed", "")
	assert.Contains(t, feed.Body, "\n198.18.7.0/24,,,,\n")
	check := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/corrections/check", feed.Body, "Content-Type: text/csv")
	assert.Equal(t, true, check.At(t, "valid"))
	check = s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/corrections/check", "198.18.7.1/24,PT,,,\n198.18.8.0/24,UK,,,\n198.18.9.0/24,PT,,,\n", "Content-Type: text/csv")
	assert.Contains(t, check.At(t, "rejects.1.reason"), "did you mean GB?")

	require.NoError(t, s.Client.DropCorrection(t.Context(), made.ID.String()))
	assert.Equal(t, "Valencia", where())
	require.Error(t, s.Client.DropCorrection(t.Context(), made.ID.String()))
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
		got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/corrections", body)
		assert.Equal(t, http.StatusUnprocessableEntity, got.Status, body)
		assert.Contains(t, got.Said(t), field, body)
	}
}

func TestRangesTownsAreasAndMany(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	get := func(path string, header ...string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+path, "", header...)
	}
	r, err := s.Client.Range(t.Context(), "198.18.0.0/17")
	require.NoError(t, err)
	assert.True(t, r.Complete)
	assert.Equal(t, "ES", r.Shares[0].CountryCode)
	sum := 0.0
	for _, share := range r.Shares {
		sum += share.Share.Share
	}
	assert.InDelta(t, 1, sum, 1e-9)
	assert.Contains(t, get("/v1/ranges?range=198.18.9.1/24").At(t, "detail"), "host bits")

	assert.Equal(t, "Lisbon", get("/v1/towns/near?at=geo:38.72,-9.14&count=1").At(t, "towns.0.city"))
	assert.Contains(t, get("/v1/towns/near?latitude=139&longitude=35").At(t, "hint"), "swapped?")
	assert.Contains(t, get("/v1/towns/near").At(t, "detail"), "missing")
	areas, err := s.Client.Areas(t.Context(), "geo:38.72,-9.14")
	require.NoError(t, err)
	assert.Equal(t, []string{"Iberia"}, areas)
	samples, err := s.Client.Samples(t.Context(), "PT", "Lisbon", 5, 1)
	require.NoError(t, err)
	require.Len(t, samples, 5)
	for _, ip := range samples {
		card, err := s.Client.Address(t.Context(), ip)
		require.NoError(t, err)
		assert.Equal(t, "Lisbon", *card.Location.City)
	}

	// Host names are resolved only where the owner allows it.
	named := get("/v1/addresses/localhost.")
	assert.Equal(t, http.StatusUnprocessableEntity, named.Status)
	assert.Contains(t, named.Said(t), "resolve_names")

	// One address in every format, and with the fields that are wanted.
	assert.Equal(t, "Lisbon\n", get("/v1/addresses/198.18.3.40?fields=location.city&format=text").Body)
	assert.Equal(t, []any{-9.133, 38.717}, get("/v1/addresses/198.18.3.40", "Accept: application/geo+json").At(t, "geometry.coordinates"))
	assert.Contains(t, get("/v1/addresses/198.18.3.40?format=yaml").Body, "city: Lisbon\n")
	assert.Contains(t, get("/v1/addresses/198.18.3.40?format=xml").Body, "<city>Lisbon</city>")
	csv := get("/v1/addresses/198.18.3.40?format=csv&fields=location.city,network.as_number")
	assert.Equal(t, "location.city,network.as_number\nLisbon,64500\n", csv.Body)
	assert.Contains(t, csv.Header.Values("Vary"), "Accept")
	assert.Equal(t, http.StatusUnprocessableEntity, get("/v1/addresses/198.18.3.40?fields=location.town").Status)
	assert.Equal(t, http.StatusUnprocessableEntity, get("/v1/addresses/198.18.3.40?format=docx").Status)
	assert.Equal(t, http.StatusNotAcceptable, get("/v1/addresses/198.18.3.40", "Accept: image/png").Status)

	// Why lists ranges that did not decide, too.
	why, err := s.Client.Why(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	plain, err := s.Client.Address(t.Context(), "198.18.3.40")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(why.Evidence), len(plain.Evidence))

	many := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/addresses?format=ndjson", "198.18.3.40\n300.1.1.1\n\n10.1.2.3\n", "Content-Type: text/plain")
	lines := strings.Split(strings.TrimSpace(many.Body), "\n")
	require.Len(t, lines, 3)
	line := func(i int, path string) any { return live.Answer{Body: lines[i]}.At(t, path) }
	assert.Equal(t, []any{"Lisbon", nil, true}, []any{line(0, "card.location.city"), line(1, "card"), line(2, "card.address.skipped")})
	many = s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/addresses?fields=input,spelling,card.location.city", `{"addresses":["3323069224","198.18.7.1"]}`)
	assert.Equal(t, []any{"an integer", "Valencia"}, []any{many.At(t, "addresses.0.spelling"), many.At(t, "addresses.1.card.location.city")})
	for _, body := range []string{`{"addresses":[]}`, `{}`, `{"addresses":[` + strings.Repeat(`"1.1.1.1",`, 10_000) + `"1.1.1.1"]}`} {
		assert.Equal(t, http.StatusUnprocessableEntity, s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/addresses", body).Status)
	}
}

func TestAccuracyDescribeCoverageAndExport(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	accuracy, err := s.Client.Accuracy(t.Context(), "", nil)
	require.NoError(t, err)
	assert.Greater(t, accuracy.All.Points, 500)
	assert.Greater(t, *accuracy.All.CountryRight, 0.9)
	last := 0.0
	for _, c := range accuracy.Curve {
		assert.GreaterOrEqual(t, c.Share, last, "it never falls")
		last = c.Share
	}
	better, err := s.Client.Accuracy(t.Context(), s.Next(t), nil)
	require.NoError(t, err)
	assert.Greater(t, *better.All.Within50Km, *accuracy.All.Within50Km)
	own, err := s.Client.Accuracy(t.Context(), "", strings.NewReader("address,country_code\n198.18.3.40,PT\n198.18.7.9,PT\nx,PT\n"))
	require.NoError(t, err)
	assert.InDelta(t, 0.5, *own.All.CountryRight, 1e-9)

	d := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/atlas/describe", "net,cc\n198.18.0.0/16,PT\n", "Content-Type: application/octet-stream")
	assert.Equal(t, map[string]any{"country_code": "cc", "range": "net"}, d.At(t, "mapping"))
	d = s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/atlas/describe", strings.Repeat("x", 70_000), "Content-Type: application/octet-stream")
	assert.Equal(t, http.StatusUnprocessableEntity, d.Status)
	coverage := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/atlas/coverage?format=csv&fields=country_code,ipv4_addresses", "")
	assert.Contains(t, coverage.Body, "PT,")
	export := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/atlas/export?format=geofeed", "")
	assert.Contains(t, export.Body, "\n198.18.3.0/26,PT,PT-11,Lisbon,\n")
}

func TestHostNamesWhereTheOwnerAllowsIt(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"resolve_names": true, "map_link": "https://map.example/{latitude}/{longitude}"})
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/localhost.", "")
	assert.Equal(t, http.StatusOK, got.Status, got.Body)
	assert.Equal(t, "loopback", got.At(t, "address.kind"))
	assert.Equal(t, "https://map.example/{latitude}/{longitude}", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/sites", "").At(t, "map_link"))
}

// What is corrected at one service is corrected at all of one database.
func TestCorrectionsReachOtherInstances(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	one, two := live.Start(t, map[string]any{"database.url": database}), live.Start(t, map[string]any{"database.url": database})
	one.Admin = two.Admin // the second start made it anew
	require.Eventually(t, func() bool {
		return one.Call(t, "127.0.0.1", http.MethodGet, one.AdminURL+"/v1/keys", "").Status == http.StatusOK
	}, 10*time.Minute, 50*time.Millisecond)
	city := func(s *live.Service) any {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/198.18.3.40?fields=location.city", "").At(t, "location.city")
	}
	made := one.Call(t, "127.0.0.1", http.MethodPost, one.AdminURL+"/v1/corrections", `{"range":"198.18.3.40/32","country_code":"PT","region_code":"PT-13","city":"Porto"}`)
	require.Equal(t, http.StatusCreated, made.Status, made.Body)
	assert.Equal(t, "Porto", city(one), "here at once")
	assert.Eventually(t, func() bool { return city(two) == "Porto" }, 10*time.Minute, 50*time.Millisecond, "there within a second or two")
	id := live.Parse[struct{ ID string }](t, made).ID
	require.Equal(t, http.StatusNoContent, two.Call(t, "127.0.0.1", http.MethodDelete, two.AdminURL+"/v1/corrections/"+id, "").Status)
	assert.Eventually(t, func() bool { return city(one) == "Lisbon" }, 10*time.Minute, 50*time.Millisecond)
}
