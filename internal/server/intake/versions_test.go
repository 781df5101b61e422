package intake

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
)

var writeQueue = flag.String("write-queue", "", "write testdata/NAME, a queue as it is written now; NAME must be new")

// A queue may wait while its service is replaced by a newer one: every queue that was ever
// written so is read, with all its visits as they were.
func TestQueuesThatWereWrittenLongAgo(t *testing.T) {
	if *writeQueue != "" {
		write(t, filepath.Join("testdata", *writeQueue))
	}
	queues, err := filepath.Glob("testdata/queue-*.json")
	require.NoError(t, err)
	require.NotEmpty(t, queues, "the format of the queue has one: run this test with -write-queue queue-1")
	for _, file := range queues {
		dir := t.TempDir() // which is used up
		require.NoError(t, os.CopyFS(dir, os.DirFS(file[:len(file)-len(".json")])))
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		var want []visit.Row
		require.NoError(t, json.Unmarshal(text, &want))
		sink := newTable()
		in, _ := running(t, dir, sink, 1<<30)
		index, err := in.Accept(t.Context(), some(5, 1))
		require.NoError(t, err)
		require.NoError(t, in.Wait(t.Context(), index))
		sink.mu.Lock()
		require.Len(t, sink.rows, len(want)+1)
		assert.Empty(t, sink.apart)
		for i, row := range want {
			assert.Equal(t, row.ID, sink.order[i])
			there, err := json.Marshal(sink.rows[row.ID])
			require.NoError(t, err)
			expected, err := json.Marshal(row)
			require.NoError(t, err)
			assert.JSONEq(t, string(expected), string(there), file)
		}
		sink.mu.Unlock()
	}
}

// write writes a queue that waits, and beside it what is in it.
func write(t *testing.T, path string) {
	t.Helper()
	require.NoFileExists(t, path+".json", "what was written is not written anew")
	sink := newTable()
	sink.away = true
	in, stop := running(t, path, sink, 1<<30)
	list := some(7, 30)
	rows := make([]visit.Row, len(list))
	for i, q := range list {
		rows[i] = q.Row
	}
	for _, group := range [][]visit.QueuedVisit{list[:1], list[1:9], list[9:]} {
		_, err := in.Accept(t.Context(), group)
		require.NoError(t, err)
	}
	stop()
	require.NoError(t, os.Remove(filepath.Join(path, "lock")))
	text, err := json.MarshalIndent(rows, "", " ")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path+".json", append(text, '\n'), 0o644))
}
