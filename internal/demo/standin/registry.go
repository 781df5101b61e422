package standin

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"eastporch/internal/core/mrt"
)

// A Registry stands for the publishers of open range data: a registry's statistics and its database
// in RPSL, a dump of a routing table, and the geofeeds that networks publish, good ones and bad. It
// is safe for concurrent use.
type Registry struct{}

// RegistryFiles are what it serves beside feeds.
var RegistryFiles = []string{"/open-sources.csv", "/delegated-lake-extended-latest", "/lake.db.inetnum.gz", "/lake.db.inet6num.gz", "/lake.db.aut-num.gz", "/rib.lake.gz"}

// ServeHTTP answers. Feeds are named by the address under which the registry was asked.
func (Registry) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	base := "http://" + r.Host
	var text []byte
	switch path := r.URL.Path; {
	case path == "/":
		text = []byte(strings.Join(RegistryFiles, "\n") + "\n")
	case path == "/open-sources.csv":
		text = []byte(strings.ReplaceAll(lakeSources, "BASE", base))
	case path == "/delegated-lake-extended-latest":
		text = []byte(lakeStatistics)
	case path == "/lake.db.inetnum.gz":
		text = packed(strings.ReplaceAll(lakeNetworks, "BASE", base))
	case path == "/lake.db.inet6num.gz":
		text = packed(strings.ReplaceAll(lakeNetworks6, "BASE", base))
	case path == "/lake.db.aut-num.gz":
		text = packed(lakeNumbers)
	case path == "/rib.lake.gz":
		text = packed(string(lakeRoutes()))
	case strings.HasPrefix(path, "/feeds/"):
		lakeFeed(w, r, strings.TrimPrefix(path, "/feeds/"))
		return
	default:
		http.NotFound(w, r)
		return
	}
	http.ServeContent(w, r, r.URL.Path, time.Date(2026, 11, 27, 4, 0, 0, 0, time.UTC), bytes.NewReader(text))
}

func packed(text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = io.WriteString(z, text) // to memory
	_ = z.Close()
	return b.Bytes()
}

const lakeSources = `what,registry,region,url,compressed,about_megabytes,note
statistics,Lake Registry (invented),Heron Lake,BASE/delegated-lake-extended-latest,,1,"delegated-extended, daily"
rpsl,Lake Registry (invented),Heron Lake,BASE/lake.db.inetnum.gz,gzip,1,
rpsl,Lake Registry (invented),Heron Lake,BASE/lake.db.inet6num.gz,gzip,1,
rpsl,Lake Registry (invented),Heron Lake,BASE/lake.db.aut-num.gz,gzip,1,names of AS
mrt,Lake Exchange (invented),Heron Lake,BASE/rib.lake.gz,gzip,1,a routing table
`

const lakeStatistics = `2|lakereg|20261127|9|20000101|20261127|+0000
lakereg|*|ipv4|*|6|summary
lakereg|*|ipv6|*|1|summary
lakereg|ES|ipv4|198.18.0.0|32768|20000101|allocated|a1
lakereg|EG|ipv4|198.18.128.0|32768|20000101|allocated|a2
lakereg|BR|ipv4|198.19.0.0|32768|20000101|allocated|a3
lakereg|JP|ipv4|198.19.128.0|32768|20000101|allocated|a4
lakereg|GR|ipv4|198.51.100.0|256|20000101|assigned|a5
lakereg|CH|ipv4|203.0.113.128|128|20000101|assigned|a6
lakereg|DE|ipv6|2001:db8::|33|20000101|allocated|a8
`

const lakeNetworks = `# Lake Registry (invented): its database of networks

inetnum:        198.18.0.0 - 198.18.31.255
netname:        HARBOUR-NET
descr:          Harbour Net (invented)
country:        PT
status:         ALLOCATED PA
geofeed:        BASE/feeds/harbour.csv

inetnum:        198.18.32.0 - 198.18.63.255
netname:        REED-CABLE
country:        DE
remarks:        Geofeed BASE/feeds/reed.csv

inetnum:        198.18.64.0 - 198.18.127.255
netname:        ALDER-FIBRE
descr:          F` + "\xf6" + `hrenweg 1
country:        IT
geofeed:        BASE/feeds/gone.csv

inetnum:        198.18.128.0 - 198.18.255.255
netname:        NILE-DELTA-LINE
country:        EG
geofeed:        BASE/feeds/page.csv

inetnum:        198.19.0.0 - 198.19.127.255
netname:        SERRA-TELECOM
country:        BR
geofeed:        BASE/feeds/greedy.csv

inetnum:        198.19.128.0 - 198.19.255.255
netname:        PINE-ISLAND
country:        JP
geofeed:        BASE/feeds/round.csv

inetnum:        198.51.100.0 - 198.51.100.255
netname:        ATTIC-WAVE
country:        GR
country:        CY

inetnum:        203.0.113.128 - 203.0.113.255
netname:        LAKE-COMMUNE
country:        CH
status:         ASSIGNED PI
`

const lakeNetworks6 = `inet6num:       2001:db8::/34
netname:        FJORD-OPTICS
country:        NO
geofeed:        BASE/feeds/fjord.csv
`

const lakeNumbers = `aut-num:        AS64500
as-name:        HARBOUR-NET
descr:          Harbour Net (invented)

aut-num:        AS64501
as-name:        REED-CABLE
descr:          Reed Cable (invented)

aut-num:        AS64504
as-name:        SERRA-TELECOM
descr:          Serra Telecom (invented)

aut-num:        AS65536
as-name:        FJORD-OPTICS
descr:          Fjord Optics (invented)
`

// lakeFeeds are what networks publish, by name; others answer 404.
var lakeFeeds = map[string]string{
	"harbour.csv": "# Harbour Net (invented)\n198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.3.64/26,PT,PT-13,Porto,\n198.18.7.0/24,ES,ES-VC,Valencia,\n198.18.16.0/22,GB,GB-ENG,London,\n198.18.30.0/24,,,,\n198.18.40.0/24,PT,PT-11,Lisbon,\n",
	"reed.csv":    "198.18.32.0/23,DE,DE-BE,Berlin,\n198.18.34.0/24,DE,DE-HH,Hamburg,\n198.18.36.0/24,UK,,London,\n",
	"page.csv":    "<!doctype html>\n<title>Nile Delta Line (invented)</title>\n<p>Welcome.\n",
	"greedy.csv":  "198.19.0.0/24,BR,BR-SP,São Paulo,\n198.18.3.0/26,BR,BR-RJ,Rio de Janeiro,\n0.0.0.0/1,BR,,,\n",
	"fjord.csv":   "2001:db8:10::/44,NO,NO-46,Bergen,\n2001:db8:20::/44,NO,NO-03,Oslo,\n",
}

func lakeFeed(w http.ResponseWriter, r *http.Request, name string) {
	if name == "round.csv" { // without end
		http.Redirect(w, r, "/feeds/round.csv", http.StatusFound)
		return
	}
	text, ok := lakeFeeds[name]
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	w.Header().Set("Cache-Control", "max-age=86400")
	http.ServeContent(w, r, name, time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC), strings.NewReader(text))
}

// lakeRoutes is the table of a router with three peers. One of them lies.
func lakeRoutes() []byte {
	w := &mrt.Writer{}
	w.Peers(3)
	route := func(prefix string, origins ...uint32) {
		var paths []mrt.Path
		for peer, as := range origins {
			paths = append(paths, mrt.Path{Peer: uint16(peer), AS: []uint32{64496, as}})
		}
		w.Route(netip.MustParsePrefix(prefix), false, paths...)
	}
	route("0.0.0.0/0", 64511)
	route("198.18.0.0/19", 64500, 64500, 64512)
	route("198.18.32.0/19", 64501, 64501, 64501)
	route("198.18.64.0/18", 64502, 64502)
	route("198.18.128.0/17", 64503)
	route("198.19.0.0/17", 64504, 64504, 64500)
	route("198.19.128.0/17", 64512)
	route("198.51.100.0/24", 64506)
	route("203.0.113.128/25", 64507)
	route("2001:db8::/34", 65536, 65536)
	return w.Buffer
}
