package rpsl

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReadAnObject(t *testing.T) {
	text := strings.Join([]string{
		"% a head of the file", "#", "",
		"inetnum:        198.51.100.0 - 198.51.100.255",
		"NetName:        HARBOUR-NET # so they say",
		"descr:          first line",
		"descr:          second line",
		"country:        PT # Portugal",
		"remarks:        Geofeed https://old.example/feed.csv",
		"geofeed:        https://harbour.example/",
		"+feed.csv",
		"mnt-by:         X",
		"                more of X: 1",
		"% in between",
		"status:",
		"    ASSIGNED",
		"\tPA",
		"this is no attribute",
		"   ",
		"aut-num: AS64500",
		"as-name: HARBOUR",
	}, "\n")
	var o Object
	rest := o.Read([]byte(text))
	assert.Equal(t, "198.51.100.0 - 198.51.100.255", string(o.Key))
	assert.True(t, o.IsNetwork())
	assert.Equal(t, []string{"HARBOUR-NET", "first line", "PT", "https://harbour.example/ feed.csv", "ASSIGNED PA"},
		[]string{string(o.Netname), string(o.Descr), string(o.Country), string(o.Geofeed), string(o.Status)})
	assert.False(t, o.ByRemark, "the attribute wins over the remark")
	assert.Equal(t, []int{3, 15, 1}, []int{o.Skipped, o.Lines, o.Countries})
	rest = o.Read(rest)
	assert.True(t, o.IsAS())
	assert.Equal(t, "HARBOUR", string(o.ASName))
	assert.Empty(t, rest)
	assert.Nil(t, o.Netname, "nothing stays of the object before")
	o.Read(nil)
	assert.Nil(t, o.Class)
}

func TestRemarksNameGeofeeds(t *testing.T) {
	for remark, want := range map[string]string{
		"Geofeed https://a.example/g.csv": "https://a.example/g.csv",
		"geofeed  https://a.example/g":    "https://a.example/g",
		"Geofeed: https://a.example/g":    "",
		"our Geofeed https://a.example/g": "",
		"Geofeed is coming":               "",
	} {
		var o Object
		o.Read([]byte("inetnum: 192.0.2.0/24\nremarks: " + remark + "\n"))
		assert.Equal(t, want, string(o.Geofeed), remark)
	}
}

func TestLatin1(t *testing.T) {
	assert.Equal(t, "Zürich", Text([]byte("Z\xfcrich")))
	assert.Equal(t, "Zürich", Text([]byte("Zürich")))
}

// A model that shares no code: lines by strings.Split, attributes as a list.
func modelObjects(text string) (objects [][][2]string) {
	var open [][2]string
	end := func() {
		if len(open) > 0 {
			objects = append(objects, open)
		}
		open = nil
	}
	began := false
	for _, line := range strings.Split(text, "\n") {
		switch {
		case strings.Trim(line, " \t\r") == "":
			if began {
				end()
			}
			began = false
			continue
		case strings.HasPrefix(line, "%"), strings.HasPrefix(line, "#"):
			continue
		}
		fresh := !began
		began = true
		if !fresh && strings.ContainsAny(line[:1], " \t+") {
			if n := len(open); n > 0 && open[n-1][0] != "" {
				value := strings.TrimSpace(strings.Split(line[1:], "#")[0])
				open[n-1][1] = strings.TrimSpace(open[n-1][1] + " " + value)
			}
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			open = append(open, [2]string{})
			continue
		}
		open = append(open, [2]string{strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(strings.Split(value, "#")[0])})
	}
	end()
	return objects
}

func TestObjectsAgreeWithAModel(t *testing.T) {
	pieces := []string{
		"inetnum: 192.0.2.0 - 192.0.2.255\n", "country: PT\n", "country: ES # x\n", "netname: A\n", "descr: one\n", " two\n", "+ three\n", "\tfour # five\n",
		"geofeed: https://a.example/x\n", "remarks: Geofeed https://b.example/y\n", "remarks: hello\n", "\n", "\n", "  \n", "% note\n", "# note\n", "mnt-by: Z\n", "+\n",
		"no attribute\n", "status: OK\r\n", "as-name:X\n", "\r\n",
	}
	r := rand.New(rand.NewPCG(22, 1))
	for n := range 20_000 {
		var text bytes.Buffer
		for range r.IntN(30) {
			text.WriteString(pieces[r.IntN(len(pieces))])
		}
		want := modelObjects(text.String())
		rest, lines := text.Bytes(), 0
		var o Object
		for i := 0; len(rest) > 0; i++ {
			rest = o.Read(rest)
			lines += o.Skipped + o.Lines
			if o.Lines == 0 {
				break
			}
			if !assert.Less(t, i, len(want), "%d: %q", n, text.String()) {
				return
			}
			said := map[string]string{}
			feed, byRemark := "", false
			for j, a := range want[i] {
				if _, ok := said[a[0]]; !ok && j > 0 {
					said[a[0]] = a[1]
				}
				at, isFeed := strings.CutPrefix(a[1], "Geofeed ")
				switch {
				case j == 0:
				case a[0] == "geofeed" && (feed == "" || byRemark):
					feed, byRemark = a[1], false
				case a[0] == "remarks" && isFeed && feed == "":
					feed, byRemark = at, true
				}
			}
			class := want[i][0]
			if class[0] == "" { // what has no first attribute takes the next for it
				continue
			}
			got := fmt.Sprint(strings.ToLower(string(o.Class)), string(o.Key), string(o.Country), string(o.Netname), string(o.Descr), string(o.Status), string(o.Geofeed), o.ByRemark)
			if !assert.Equal(t, fmt.Sprint(class[0], class[1], said["country"], said["netname"], said["descr"], said["status"], feed, byRemark), got, "%d: %q", n, text.String()) {
				return
			}
		}
		assert.Equal(t, bytes.Count(text.Bytes(), []byte("\n")), lines)
	}
}
