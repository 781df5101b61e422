package visit

import (
	"slices"
	"strings"
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
	if !isPreview && agent != nil {
		name := strings.ToLower(*agent)
		isPreview = slices.ContainsFunc(m.PreviewAgents, func(p string) bool { return strings.Contains(name, p) })
	}
	marks := m.Marks(agent, labels)
	if isPreview && !slices.Contains(marks, MarkMonitor) {
		return []string{MarkPreview}
	}
	return marks
}

// Marks says what an agent and labels make of a visit. The owner's monitors are
// not bots.
func (m Marker) Marks(agent *string, labels []string) []string {
	name := ""
	if agent != nil {
		name = strings.ToLower(*agent)
	}
	named := func(parts []string) bool {
		return name != "" && slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(name, p) })
	}
	labelled := func(list []string) bool {
		return slices.ContainsFunc(list, func(l string) bool { return slices.Contains(labels, l) })
	}
	switch {
	case named(m.MonitorAgents) || labelled(m.MonitorLabels):
		return []string{MarkMonitor}
	case named(m.BotAgents) || labelled(m.BotLabels):
		return []string{MarkBot}
	}
	return []string{}
}
