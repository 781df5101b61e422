package page

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheScriptIsSmall(t *testing.T) {
	assert.Less(t, len(Zipped(Script)), 4096, "porch.js is promised to be under 4 KB compressed")
	assert.NotContains(t, string(Script), "eval(")
	assert.NotContains(t, string(Script), "innerHTML", "answers are texts, never markup")
	assert.NotContains(t, string(Script), ".style", "no inline style: a strict policy forbids them")
}
