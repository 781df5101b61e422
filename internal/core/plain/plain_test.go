package plain

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestCheck(t *testing.T) {
	assert.NoError(t, Check("/programme/é", 64))
	assert.ErrorContains(t, Check("12345", 4), "5 bytes, 4 are allowed")
	assert.ErrorContains(t, Check("a\x00b", 9), "control")
	assert.ErrorContains(t, Check("a\xff", 9), "UTF-8")
}

func FuzzClean(f *testing.F) {
	f.Add("plain", 10)
	f.Add("a\x00\xff\x1b[31m", 6)
	f.Add("éééé", 4)
	f.Fuzz(func(t *testing.T, s string, most int) {
		most = 3 + most&0xff
		got := Clean(s, most)
		if err := Check(got, most); err != nil || !utf8.ValidString(got) {
			t.Errorf("Clean(%q, %d) = %q: %v", s, most, got, err)
		}
		if Check(s, most) == nil && got != s {
			t.Errorf("Clean(%q) changed what was clean to %q", s, got)
		}
	})
}

func TestGuard(t *testing.T) {
	for _, bad := range []string{"=1+1", "+1+1", "-1-1", "@SUM(1)", "＝1", "＋1", "－1", "＠x", "\t=1", "\r=1", "+", "-", "+1|cmd", "-12:30:00", "+05:45 x", "--1", "-1.", "+1e5"} {
		assert.Equal(t, "'"+bad, Guard(bad))
	}
	for _, good := range []string{"", "1", "-10", "+5", "-9.14", "+05:45", "-03:00", "Lisbon", "1=1", " =1", "'=1", "−5", "a@b", "é"} {
		assert.Equal(t, good, Guard(good))
	}
}
