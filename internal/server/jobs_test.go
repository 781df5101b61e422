package server

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestJobsAreWaitedFor(t *testing.T) {
	var j jobs
	require.NoError(t, j.wait(t.Context()), "none runs")
	first, second := make(chan struct{}), make(chan struct{})
	j.start("the first", func() { <-first })
	j.start("the second", func() { <-second })
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorContains(t, j.wait(ended), "did not stop in time: the first, the second")
	close(first)
	done := make(chan error)
	go func() { done <- j.wait(context.Background()) }()
	close(second)
	require.NoError(t, <-done)
	assert.Empty(t, j.running)
}
