package httpapi

import (
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

func ptr[T any](v T) *T { return &v }

func TestVisitorsAndHandover(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	public, page := f.serve(t, PublicListener), f.key(t, access.Page)
	whole := ask(public, page, http.MethodGet, "/v1/visitor", "", "X-Forwarded-For", "198.18.3.40", "Accept-Language", "pt")
	c := read[card.Card](t, whole, http.StatusOK)
	assert.Equal(t, "Lisboa", *c.Location.Names.City, "in the visitor's language")
	assert.Equal(t, "private, no-store", whole.header.Get("Cache-Control"))
	assert.JSONEq(t, whole.body, ask(public, page, http.MethodGet, "/v1/visitor?format=json", "", "X-Forwarded-For", "198.18.3.40", "Accept-Language", "pt").body, "both ways of writing agree")
	assert.Equal(t, "198.18.3.40\n", ask(public, page, http.MethodGet, "/v1/visitor/address", "", "X-Forwarded-For", "198.18.3.40").body)
	refusedAs(t, ask(public, page, http.MethodGet, "/v1/visitor/address", "", "X-Forwarded-For", "unknown"), http.StatusNotFound, "visitor-not-found")
	for query, kind := range map[string]string{"fields=odd": "invalid-field", "format=odd": "invalid-field", "latitude=91&longitude=0": "invalid-field", "latitude=1&longitude=1&accuracy_km=-1": "invalid-field", "site=odd": "invalid-field"} {
		refusedAs(t, ask(public, page, http.MethodGet, "/v1/visitor?"+query, ""), http.StatusUnprocessableEntity, kind)
	}
	refusedAs(t, ask(public, page, http.MethodGet, "/v1/visitor", "", "Accept", "image/png"), http.StatusNotAcceptable, "not-acceptable")
	near := read[card.Card](t, ask(public, page, http.MethodGet, "/v1/visitor?at=geo:38.72,-9.14", ""), http.StatusOK)
	assert.Equal(t, "Lisbon", *near.Device.City)

	handed := ask(public, f.key(t, access.Server), http.MethodGet, "/v1/handover?cookie=1", "", "X-Forwarded-For", "198.18.3.40")
	require.Equal(t, http.StatusNoContent, handed.status)
	assert.Equal(t, "PT", handed.header.Get("Porch-Country-Code"))
	assert.Contains(t, handed.header.Get("Set-Cookie"), "porch_facts=")
}

func TestAddressesAndTrails(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, server := f.serve(t, AdminListener), f.key(t, access.Server)
	c := read[card.Card](t, ask(admin, server, http.MethodGet, "/v1/addresses/198.18.3.40?why=all&language=pt", ""), http.StatusOK)
	assert.Equal(t, "Lisboa", *c.Location.Names.City)
	refusedAs(t, ask(admin, server, http.MethodGet, "/v1/addresses/999.1.1.1", ""), http.StatusBadRequest, "invalid-address")
	wrong := refusedAs(t, ask(admin, server, http.MethodPost, "/v1/addresses?fields=location.city", `{"addresses":["nonsense"]}`), http.StatusUnprocessableEntity, "invalid-field")
	assert.Contains(t, wrong.Hint, "card.location.city", "a remedy that works, before anything is looked up")
	list := ask(admin, server, http.MethodPost, "/v1/addresses", `{"addresses":["198.18.3.40","0xC6120328","nonsense"]}`)
	many := read[api.AskedList](t, list, http.StatusOK)
	assert.Equal(t, "PT", *many.Addresses[1].Card.Location.CountryCode)
	assert.NotNil(t, many.Addresses[1].Spelling)
	assert.NotNil(t, many.Addresses[2].Problem)
	lines := ask(admin, server, http.MethodPost, "/v1/addresses?format=ndjson", "198.18.3.40\n\n10.1.2.3\n", "Content-Type", "text/plain")
	assert.Equal(t, 2, strings.Count(lines.body, "\n"))
	refusedAs(t, ask(admin, server, http.MethodPost, "/v1/addresses", `{"addresses":[]}`), http.StatusUnprocessableEntity, "invalid-field")
	span := read[api.RangeAnswer](t, ask(admin, server, http.MethodGet, "/v1/ranges?range=198.18.0.0/16", ""), http.StatusOK)
	assert.True(t, span.Complete)
	assert.Len(t, span.Shares, 3)
	trail := read[caller.Trail](t, ask(admin, server, http.MethodPost, "/v1/trails", `{"peer":"203.0.113.4","headers":{"x-forwarded-for":["198.18.3.40, 203.0.113.10"]}}`), http.StatusOK)
	assert.Equal(t, "198.18.3.40", trail.Visitor.String())
	refusedAs(t, ask(admin, server, http.MethodPost, "/v1/trails", `{"settings":{"trusted":["x"],"header":"","hops":0}}`), http.StatusUnprocessableEntity, "invalid-field")
	refusedAs(t, ask(admin, server, http.MethodPost, "/v1/trails", `{"headers":{}}`), http.StatusUnprocessableEntity, "invalid-field")
}

func TestPlaces(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, server := f.serve(t, AdminListener), f.key(t, access.Server)
	near := read[api.TownsNear](t, ask(admin, server, http.MethodGet, "/v1/towns/near?latitude=38.72&longitude=-9.14&count=2", ""), http.StatusOK)
	assert.Equal(t, []string{"Lisbon", "PT"}, []string{near.Towns[0].City, near.Country.CountryCode})
	refusedAs(t, ask(admin, server, http.MethodGet, "/v1/towns/near", ""), http.StatusUnprocessableEntity, "invalid-field")
	assert.Empty(t, read[api.Areas](t, ask(admin, server, http.MethodGet, "/v1/areas", ""), http.StatusOK).Areas)
}

func TestReportsOverHTTP(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, owner := f.serve(t, AdminListener), f.key(t, access.Admin)
	f.tallies[visit.ByCountry] = visit.Tally{Counted: true, Keys: []visit.KeyCount{{Key: "PT", Visits: 3}, {Key: "", Visits: 1}}}
	f.tallies[visit.ByPlace] = visit.Tally{Keys: []visit.KeyCount{{Place: visit.Place{Level: "city", CountryCode: ptr("PT"), City: ptr("Lisbon"), Latitude: ptr(38.72), Longitude: ptr(-9.14)}, Visits: 3}, {Place: visit.Place{Level: "skipped"}, Visits: 2}}}
	const site = "?site=heronlake.example"
	countries := read[report.Report](t, ask(admin, owner, http.MethodGet, "/v1/reports/countries"+site, ""), http.StatusOK)
	assert.Equal(t, []any{"counts", "PT", 0.75}, []any{countries.Basis, countries.Rows[0].Key, countries.Rows[0].Share})
	assert.EqualValues(t, 4, countries.LeftOut["bot"])
	assert.Contains(t, ask(admin, owner, http.MethodGet, "/v1/reports/countries"+site+"&format=csv&fields=key,visits", "").body, "PT,3")
	grid := read[report.Grid](t, ask(admin, owner, http.MethodGet, "/v1/reports/grid"+site+"&zoom=3", ""), http.StatusOK)
	assert.Equal(t, []int64{3, 2}, []int64{grid.Total, grid.NoPoint.Skipped})
	far := read[report.Distances](t, ask(admin, owner, http.MethodGet, "/v1/reports/distances"+site+"&at=geo:38.72,-9.14", ""), http.StatusOK)
	assert.EqualValues(t, 3, far.Rows[0].Visits)
	time := read[report.Timeline](t, ask(admin, owner, http.MethodGet, "/v1/reports/timeline"+site+"&from=2026-11-13T00:00:00Z&unit=hour", ""), http.StatusOK)
	assert.Equal(t, "Europe/Lisbon", time.Zone, "the site's")
	assert.Len(t, time.Rows, 31)
	read[report.Hours](t, ask(admin, owner, http.MethodGet, "/v1/reports/hours"+site, ""), http.StatusOK)
	read[report.Visitors](t, ask(admin, owner, http.MethodGet, "/v1/reports/visitors"+site, ""), http.StatusOK)
	for _, query := range []string{
		"odd" + site, "countries", "countries" + site + "&limit=x", "countries" + site + "&compare=odd", "countries" + site + "&compare=before", "towns" + site + "&new=true",
		"timeline" + site, "timeline" + site + "&from=2026-11-13T00:00:00Z&unit=odd", "timeline" + site + "&from=2026-11-13T00:00:00Z&zone=odd", "timeline" + site + "&from=1990-01-01T00:00:00Z&unit=hour",
		"grid" + site + "&bbox=1,2,3", "grid" + site + "&zoom=99", "distances" + site, "visitors" + site + "&path=/",
	} {
		refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/reports/"+query, ""), http.StatusUnprocessableEntity, "invalid-field")
	}
}

func TestLocalizationOverHTTP(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	public, admin := f.serve(t, PublicListener), f.serve(t, AdminListener)
	page, owner := f.key(t, access.Page), f.key(t, access.Admin)
	local := read[api.LocaleAnswer](t, ask(admin, owner, http.MethodGet, "/v1/locale?country_code=NO&accept_language=pt&at=2027-06-12T10:00:00%2B02:00", ""), http.StatusOK)
	assert.Equal(t, []string{"pt-PT", "NOK", "Europe/Oslo"}, []string{local.Locale.Language, *local.Money.CurrencyCode, local.At.TimeZone})
	for _, query := range []string{"country_code=XX", "address=198.18.3.40&country_code=PT", "at=x", "time_zone=odd"} {
		refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/locale?"+query, ""), http.StatusUnprocessableEntity, "invalid-field")
	}
	refusedAs(t, ask(public, page, http.MethodGet, "/v1/convert?amount=85", "", "X-Forwarded-For", "198.18.3.40"), http.StatusUnprocessableEntity, "no-rate")
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/convert?amount=85&to=JPY", ""), http.StatusUnprocessableEntity, "no-rate")
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/convert?amount=x&to=EUR", ""), http.StatusUnprocessableEntity, "invalid-field")
	assert.Nil(t, read[api.Rates](t, ask(admin, owner, http.MethodGet, "/v1/rates", ""), http.StatusOK).Base)

	countries := ask(public, "", http.MethodGet, "/v1/countries?language=pt&continent_code=EU", "")
	assert.Contains(t, read[api.CountryChoices](t, countries, http.StatusOK).Countries[0].Name, "A")
	assert.Equal(t, "*", countries.header.Get("Access-Control-Allow-Origin"))
	assert.Contains(t, ask(public, "", http.MethodGet, "/v1/countries/pt", "").body, `"country_code":"PT"`)
	refusedAs(t, ask(public, "", http.MethodGet, "/v1/countries/UK", ""), http.StatusNotFound, "no-such-country")
	assert.Contains(t, ask(public, "", http.MethodGet, "/v1/countries/PT/flag.svg?shape=round", "").body, "<svg")
	refusedAs(t, ask(public, "", http.MethodGet, "/v1/countries/PT/flag.svg?shape=odd", ""), http.StatusUnprocessableEntity, "invalid-field")

	set := `{"name":"offer","default":"open","rules":[{"variant":"early","when":{"countries":["PT"]}}]}`
	require.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodPut, "/v1/variants/offer", set).status)
	assert.Equal(t, "console", read[api.Variants](t, ask(admin, owner, http.MethodGet, "/v1/variants", ""), http.StatusOK).Sets[0].From)
	refusedAs(t, ask(admin, owner, http.MethodPut, "/v1/variants/other", set), http.StatusUnprocessableEntity, "invalid-field")
	require.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodDelete, "/v1/variants/offer", "").status)
	refusedAs(t, ask(admin, owner, http.MethodDelete, "/v1/variants/offer", ""), http.StatusNotFound, "no-such-id")

	assert.NotEmpty(t, read[api.Snippets](t, ask(admin, owner, http.MethodGet, "/v1/snippets", ""), http.StatusOK).Snippets)
	script := ask(public, "", http.MethodGet, "/porch.js", "")
	assert.Equal(t, http.StatusNotModified, ask(public, "", http.MethodGet, "/porch.js", "", "If-None-Match", script.header.Get("ETag")).status)
}

func TestEditionsOverHTTP(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, owner := f.serve(t, AdminListener), f.key(t, access.Admin)
	edition := read[api.AtlasEdition](t, ask(admin, owner, http.MethodGet, "/v1/atlas", ""), http.StatusOK)
	assert.Equal(t, "feed", edition.Sources[0].Name)
	assert.Len(t, read[api.Editions](t, ask(admin, owner, http.MethodGet, "/v1/atlas/editions", ""), http.StatusOK).Editions, 1)
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/atlas/editions", "{}"), http.StatusConflict, "conflict")
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/atlas/back", "{}"), http.StatusConflict, "conflict")
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/atlas/activate", `{"edition":"none"}`), http.StatusNotFound, "no-such-edition")
	assert.Equal(t, edition.Name, read[api.Used](t, ask(admin, owner, http.MethodPost, "/v1/atlas/activate", `{"edition":"`+edition.Name+`"}`), http.StatusOK).Edition)
	assert.Zero(t, read[api.Changes](t, ask(admin, owner, http.MethodGet, "/v1/atlas/changes?then="+edition.Name, ""), http.StatusOK).Ranges)
	assert.InDelta(t, 64, read[api.CoverageAnswer](t, ask(admin, owner, http.MethodGet, "/v1/atlas/coverage", ""), http.StatusOK).Countries[1].IPv4, 0)
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/atlas/accuracy", ""), http.StatusNotFound, "no-test-points")
	points := "address,country_code,city,latitude,longitude\n198.18.3.40,PT,Lisbon,38.72,-9.14\n"
	assert.InDelta(t, 1, *read[api.Accuracy](t, ask(admin, owner, http.MethodPost, "/v1/atlas/accuracy", points), http.StatusOK).All.CountryRight, 0)
	assert.Len(t, read[api.Samples](t, ask(admin, owner, http.MethodGet, "/v1/atlas/samples?country_code=pt&count=3", ""), http.StatusOK).Samples, 3)
	assert.Contains(t, ask(admin, owner, http.MethodGet, "/v1/atlas/export?format=geofeed", "").body, "198.18.3.0/26,PT,PT-11,Lisbon,")
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/atlas/export?format=odd", ""), http.StatusUnprocessableEntity, "invalid-field")
	assert.EqualValues(t, 7, read[api.Published](t, ask(admin, owner, http.MethodPost, "/v1/atlas/publish", "{}"), http.StatusOK).Ranges)
	described := read[source.Description](t, ask(admin, owner, http.MethodPost, "/v1/atlas/describe", "198.18.3.0/26,PT,,,\n198.18.4.0/26,PT,,,\n"), http.StatusOK)
	assert.Equal(t, source.Geofeed, described.Format)

	made := read[source.Correction](t, ask(admin, owner, http.MethodPost, "/v1/corrections", `{"range":"198.18.9.0/24","country_code":"pt","note":"moved"}`), http.StatusCreated)
	assert.Equal(t, "key admin", made.MadeBy)
	assert.Len(t, read[api.Corrections](t, ask(admin, owner, http.MethodGet, "/v1/corrections", ""), http.StatusOK).Corrections, 1)
	assert.Contains(t, ask(admin, owner, http.MethodGet, "/v1/corrections?format=geofeed", "").body, "198.18.9.0/24,PT,,,")
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/corrections", `{"range":"198.18.9.0/24"}`), http.StatusUnprocessableEntity, "invalid-field")
	require.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodDelete, "/v1/corrections/"+made.ID.String(), "").status)
	refusedAs(t, ask(admin, owner, http.MethodDelete, "/v1/corrections/"+made.ID.String(), ""), http.StatusNotFound, "no-such-id")
	checked := read[api.FeedCheck](t, ask(admin, owner, http.MethodPost, "/v1/corrections/check", "198.18.3.0/26,UK,,,\n198.18.4.0/26,PT,,,\n198.18.5.0/26,PT,,,\n"), http.StatusOK)
	assert.Equal(t, []any{false, 2}, []any{checked.Valid, checked.Accepted})
}

func TestKeysOverHTTP(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, public := f.serve(t, AdminListener), f.serve(t, PublicListener)
	owner, page := f.key(t, access.Admin), f.key(t, access.Page)
	created := read[api.Created](t, ask(admin, owner, http.MethodPost, "/v1/keys", `{"name":"the shop","scope":"server"}`), http.StatusCreated)
	assert.True(t, strings.HasPrefix(created.Secret, "porch_server_"))
	assert.Equal(t, "key admin", created.Key.Maker.Name)
	assert.Len(t, read[api.KeyList](t, ask(admin, owner, http.MethodGet, "/v1/keys", ""), http.StatusOK).Keys, 3)
	for body := range map[string]bool{
		`{"name":"","scope":"server"}`: true, `{"name":"x","scope":"god"}`: true, `{"name":"x","scope":"page"}`: true, `{"name":"x","scope":"server","sites":["odd"]}`: true,
		`{"name":"x","scope":"server","origins":["https://a.example"]}`: true, `{"name":"x","scope":"page","sites":["heronlake.example"],"origins":["nonsense"]}`: true,
	} {
		refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/keys", body), http.StatusUnprocessableEntity, "invalid-field")
	}
	id := created.Key.ID.String()
	require.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodPatch, "/v1/keys/"+id, `{"name":"the kiosk"}`).status)
	assert.Len(t, read[api.Revoked](t, ask(admin, owner, http.MethodDelete, "/v1/keys/"+id, ""), http.StatusOK).Revoked, 1)
	refusedAs(t, ask(admin, owner, http.MethodDelete, "/v1/keys/"+id, ""), http.StatusNotFound, "no-such-id")
	refusedAs(t, ask(admin, owner, http.MethodDelete, "/v1/keys/x", ""), http.StatusUnprocessableEntity, "invalid-field")
	assert.Empty(t, read[access.Made](t, ask(admin, owner, http.MethodGet, "/v1/keys/"+uuid.NewString()+"/made", ""), http.StatusOK).Keys)
	read[api.AuditLog](t, ask(admin, owner, http.MethodGet, "/v1/audit-log", ""), http.StatusOK)

	refusedAs(t, ask(admin, "", http.MethodGet, "/v1/keys", ""), http.StatusUnauthorized, "authentication-required")
	refusedAs(t, ask(admin, "porch_admin_forged", http.MethodGet, "/v1/keys", ""), http.StatusUnauthorized, "invalid-key")
	refusedAs(t, ask(admin, page, http.MethodGet, "/v1/keys", ""), http.StatusForbidden, "scope")
	refusedAs(t, ask(public, owner, http.MethodGet, "/v1/keys", ""), http.StatusNotFound, "no-such-endpoint")
	refusedAs(t, ask(admin, owner, http.MethodPut, "/v1/keys", ""), http.StatusMethodNotAllowed, "method-not-allowed")
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/keys?x=%00", ""), http.StatusBadRequest, "invalid-url")
	refusedAs(t, ask(admin, "", http.MethodGet, "/v1/visitor?key="+owner, ""), http.StatusForbidden, "key-in-url")
	refusedAs(t, ask(admin, owner, http.MethodGet, "/v1/keys", "", "Origin", "https://elsewhere.example"), http.StatusForbidden, "origin")
}

func TestTheServiceSaysHowItIs(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	public, admin, owner := f.serve(t, PublicListener), f.serve(t, AdminListener), f.key(t, access.Admin)
	assert.Equal(t, "ready\n", ask(public, "", http.MethodGet, "/readyz", "").body)
	assert.Equal(t, "answers", read[api.Health](t, ask(admin, "", http.MethodGet, "/readyz", ""), http.StatusOK).Database)
	assert.Equal(t, "alive", read[api.Health](t, ask(admin, "", http.MethodGet, "/livez", ""), http.StatusOK).Status)
	assert.Equal(t, "unknown", string(read[api.Checkup](t, ask(admin, owner, http.MethodGet, "/v1/checkup", ""), http.StatusOK).State))
	assert.Contains(t, ask(admin, owner, http.MethodGet, "/metrics", "").body, "eastporch_build_info")
	assert.Equal(t, testSite, read[api.Sites](t, ask(admin, owner, http.MethodGet, "/v1/sites", ""), http.StatusOK).Sites[0].Host)
	assert.Contains(t, ask(admin, "", http.MethodGet, "/openapi.json", "").body, `"openapi":"3.0.3"`)
	lacking := f.opt
	lacking.Public.Sites = nil
	_, err := New(PublicListener, lacking)
	require.ErrorContains(t, err, "sites")
}
