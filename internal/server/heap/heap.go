// Package heap says how much garbage may stand in memory before it is collected.
//
// A collection takes some milliseconds of every processor, and whoever asks meanwhile waits. How often there
// is one goes, as Go has it, by what is in use: a service that holds little collects many times a second.
package heap

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// Room is how much garbage a service may leave standing, in bytes.
const Room = 64 << 20

// usual is Go's own percentage: as much garbage as what is in use.
const usual = 100

var once sync.Once

// KeepRoom has garbage collected only when there is as much of it as room, or as much as is in use, where
// that is more. Whoever sets GOGC has the last word. What is called after the first time changes nothing.
func KeepRoom(room uint64) {
	if os.Getenv("GOGC") == "" {
		once.Do(func() { (&tuner{room: room, percent: usual}).watch() })
	}
}

// A tuner sets the percentage anew after each collection.
type tuner struct {
	room    uint64
	percent uint64
}

// watch has the tuner called after the next collection, which is when something that nobody holds is found.
func (t *tuner) watch() {
	passing := new([16]byte) // too large to share its memory with others
	runtime.AddCleanup(passing, func(t *tuner) { t.tune(); t.watch() }, t)
}

func (t *tuner) tune() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	percent := percentFor(live[0].Value.Uint64(), t.room)
	if percent > t.percent+t.percent/4 || percent < t.percent-t.percent/4 { // to set it stops everything for a moment
		debug.SetGCPercent(int(percent))
		t.percent = percent
	}
}

// percentFor gives the percentage of what is in use that makes up the room; at least the usual one.
func percentFor(live, room uint64) uint64 {
	const most = 10_000
	if live == 0 {
		return usual
	}
	return min(max(usual, room*100/live), most)
}
