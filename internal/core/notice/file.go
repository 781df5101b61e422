package notice

import (
	"encoding/json"
	"fmt"

	"eastporch/internal/core/written"
)

// Fresh is what a notice begins with.
func Fresh() Said {
	return Said{Enabled: true, Trigger: Trigger{Kind: OnCountry, Days: 90}, Channel: Mail, To: []string{}, Limit: Limit{Most: 1, Every: "day", Each: true}}
}

// FreshChannel is what a channel of mails begins with.
func FreshChannel() ChannelSaid {
	return ChannelSaid{Kind: Mail, Security: "starttls", ADay: 200, RecipientAnHour: 5}
}

// ReadFile reads what is said of a notice from YAML or JSON, with the names of the contract; what is left out
// is as in [Fresh], but for the limit of one that answers whoever asks: 100 an hour. The error wraps
// [written.ErrFile]; what is said is for [Compile].
func ReadFile(text []byte) (Said, error) {
	read := func(limit Limit) (Said, error) {
		s := Fresh()
		s.Trigger = Trigger{} // else a file of another kind would have the days of this one
		s.Limit = limit
		return s, written.Read(text, &s)
	}
	s, err := read(Fresh().Limit)
	if s.Trigger.Kind == OnAsk { // which serves a form, and not one person a day
		s, err = read(Limit{Most: 100, Every: "hour"})
	}
	if s.Trigger.Kind == "" {
		s.Trigger = Fresh().Trigger
	}
	return s, err
}

// ReadChannelFile is [ReadFile] for a channel.
func ReadChannelFile(text []byte) (ChannelSaid, error) {
	s := FreshChannel()
	return s, written.Read(text, &s)
}

// A Set is the notices and channels of a file, by their names.
type Set struct {
	Channels map[string]ChannelSaid
	Notices  map[string]Said
}

// ReadSet reads several.
func ReadSet(text []byte) (out Set, err error) {
	out = Set{map[string]ChannelSaid{}, map[string]Said{}}
	var raw struct {
		Channels map[string]json.RawMessage `json:"channels"`
		Notices  map[string]json.RawMessage `json:"notices"`
	}
	if err := written.Read(text, &raw); err != nil {
		return out, err
	}
	for name, one := range raw.Channels {
		if out.Channels[name], err = ReadChannelFile(one); err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
	}
	for name, one := range raw.Notices {
		if out.Notices[name], err = ReadFile(one); err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
	}
	return out, nil
}
