package visit

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Marker marks the visits of programs. Agents are parts of what programs call
// themselves, without regard to case; labels are those of their ranges.
type Marker struct {
	BotAgents, PreviewAgents, MonitorAgents []string
	BotLabels, MonitorLabels                []string
}

// Lower gives the marker with its agents in lower case, as Marks wants them.
func (m Marker) Lower() Marker {
	m.BotAgents, m.PreviewAgents, m.MonitorAgents = lower(m.BotAgents), lower(m.PreviewAgents), lower(m.MonitorAgents)
	return m
}

func lower(list []string) []string {
	low := make([]string, len(list))
	for i, s := range list {
		low[i] = strings.ToLower(s)
	}
	return low
}

// OfClick is [Marker.Marks] for a click on a link, where what shows others what a link leads to counts as a
// preview; isPreview says that the request does.
func (m Marker) OfClick(isPreview bool, agent *string, labels []string) []string {
	name := appendLower(make([]byte, 0, MaxAgent), agent)
	marks := m.marks(name, labels)
	if isPreview = isPreview || contains(name, m.PreviewAgents); isPreview && !slices.Contains(marks, MarkMonitor) {
		return []string{MarkPreview}
	}
	return marks
}

// Marks says what an agent and labels make of a visit. The owner's monitors are
// not bots.
func (m Marker) Marks(agent *string, labels []string) []string {
	return m.marks(appendLower(make([]byte, 0, MaxAgent), agent), labels)
}

// appendLower appends a text in lower case; nil is none.
func appendLower(b []byte, text *string) []byte {
	if text == nil {
		return b
	}
	for i := range len(*text) {
		c := (*text)[i]
		if c >= utf8.RuneSelf {
			return append(b[:0], strings.ToLower(*text)...)
		}
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		b = append(b, c)
	}
	return b
}

func contains(name []byte, parts []string) bool {
	if len(name) == 0 {
		return false
	}
	for _, p := range parts {
		if bytes.Contains(name, []byte(p)) {
			return true
		}
	}
	return false
}

func (m Marker) marks(name []byte, labels []string) []string {
	labelled := func(list []string) bool {
		return slices.ContainsFunc(list, func(l string) bool { return slices.Contains(labels, l) })
	}
	switch {
	case contains(name, m.MonitorAgents) || labelled(m.MonitorLabels):
		return []string{MarkMonitor}
	case contains(name, m.BotAgents) || labelled(m.BotLabels):
		return []string{MarkBot}
	}
	return []string{}
}
