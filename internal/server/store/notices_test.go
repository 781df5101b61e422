package store

import (
	crypto "crypto/rand"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
)

// saved keeps a notice with a trigger.
func saved(t *testing.T, s *Store, name string, trigger notice.Trigger) {
	t.Helper()
	body, err := json.Marshal(notice.Said{Title: name, Enabled: true, Trigger: trigger, Channel: "mail"})
	require.NoError(t, err)
	_, err = s.Documents().Save(t.Context(), document.Document{Key: document.Key{Site: site, Kind: document.Notice, Name: name}, Body: body, MadeBy: "a test", MadeAt: time.Now()}, nil, 0)
	require.NoError(t, err)
}

// of is a visit of a moment, from a country.
func of(t *testing.T, at time.Time, country string) visit.Visit {
	t.Helper()
	v := made(t, 0, "Somewhere")
	v.Time = at.Truncate(time.Millisecond)
	var err error
	v.ID, err = visit.NewID(v.Time, crypto.Reader)
	require.NoError(t, err)
	if v.Card.Location.CountryCode = &country; country == "" {
		v.Card.Location.CountryCode = nil
	}
	return v
}

// TestFirstVisitsAgainstAList holds what meets notices, as visits of many moments arrive in batches, against a list of
// all of them.
func TestFirstVisitsAgainstAList(t *testing.T) {
	t.Parallel()
	s, now := open(t), time.Now().UTC()
	saved(t, s, "long", notice.Trigger{Kind: notice.OnCountry, Days: 90})
	saved(t, s, "short", notice.Trigger{Kind: notice.OnCountry, Days: 2})
	saved(t, s, "office", notice.Trigger{Kind: notice.OnLabel, Labels: []string{"office", "attic"}})
	random := rand.New(rand.NewPCG(21, 2))
	countries := []string{"PT", "JP", "KE", "IS", "CA", ""}
	ages := []time.Duration{time.Minute, 5 * time.Hour, 20 * time.Hour, 23 * time.Hour, 30 * time.Hour, 3 * 24 * time.Hour, 80 * 24 * time.Hour, 100 * 24 * time.Hour}
	type counted struct {
		day     time.Time
		country string
	}
	var all []counted
	day := func(at time.Time) time.Time { return at.UTC().Truncate(24 * time.Hour) }
	found, labelled := 0, 0
	for range 60 {
		var batch []visit.Visit
		for range 1 + random.IntN(4) {
			v := of(t, now.Add(-ages[random.IntN(len(ages))]-time.Duration(random.IntN(3600))*time.Second), countries[random.IntN(len(countries))])
			if random.IntN(4) == 0 {
				v.Marks = []string{visit.MarkBot}
			}
			if random.IntN(3) == 0 {
				v.Card.Labels = []string{[]string{"office", "garden"}[random.IntN(2)]}
			}
			batch = append(batch, v)
		}
		want := map[string]uuid.UUID{}
		times := map[string]int64{}
		slices.SortFunc(batch, func(a, b visit.Visit) int { return slices.Compare(a.ID[:], b.ID[:]) })
		for _, v := range batch {
			if len(v.Marks) > 0 || now.Sub(v.Time) > 24*time.Hour {
				continue
			}
			for name, days := range map[string]int{"long": 90, "short": 2} {
				country := v.Card.Location.CountryCode
				if country == nil {
					continue
				}
				from := day(v.Time).AddDate(0, 0, -days)
				seen := slices.ContainsFunc(all, func(c counted) bool { return c.country == *country && !c.day.Before(from) })
				if key := name + " " + *country; !seen && want[key] == uuid.Nil {
					want[key], times[key] = v.ID, 1
				}
			}
			if slices.Contains(v.Card.Labels, "office") {
				if times["office office"]++; want["office office"] == uuid.Nil {
					want["office office"] = v.ID
				}
			}
		}
		add(t, s, batch...)
		for _, v := range batch {
			if len(v.Marks) == 0 && v.Card.Location.CountryCode != nil {
				all = append(all, counted{day(v.Time), *v.Card.Location.CountryCode})
			}
		}
		list, err := s.Notices().Triggered(t.Context(), nil)
		require.NoError(t, err)
		got := map[string]uuid.UUID{}
		var ids []int64
		for _, met := range list {
			key := met.Notice + " " + met.Key
			got[key] = *met.Visit
			require.Equal(t, times[key], met.Times, key)
			ids = append(ids, met.ID)
		}
		require.Equal(t, want, got)
		found += len(want)
		labelled += int(times["office office"])
		if len(ids) > 0 {
			require.NoError(t, s.Notices().Write(t.Context(), notice.Written{Site: site, Triggers: ids}, now))
		}
	}
	assert.Greater(t, found, 10)
	assert.Greater(t, labelled, 5)
}

// TestRefusalsThatJump counts, hour against hour, and meets a notice once.
func TestRefusalsThatJump(t *testing.T) {
	t.Parallel()
	s := open(t)
	saved(t, s, "jump", notice.Trigger{Kind: notice.OnRefusals, Times: 3, Least: 30})
	slot := func(ago time.Duration) time.Time { return time.Now().UTC().Add(-ago).Truncate(15 * time.Minute) }
	count := func(at time.Time, outcome string, n int64) {
		t.Helper()
		require.NoError(t, s.Gates().AddCounts(t.Context(), map[gate.CountKey]int64{{Site: site, Slot: at, Asked: "request", Gate: "g", By: "country", Outcome: outcome}: n}, nil))
	}
	met := func() []notice.Triggered {
		t.Helper()
		list, err := s.Notices().Triggered(t.Context(), nil)
		require.NoError(t, err)
		return list
	}
	count(slot(90*time.Minute), "refuse", 20)
	count(slot(0), "refuse", 29)
	count(slot(0), "admit", 5000)
	assert.Empty(t, met(), "fewer than thirty")
	count(slot(0), "refuse", 30)
	assert.Empty(t, met(), "59 are not three times 20")
	count(slot(0), "refuse", 1)
	list := met()
	require.Len(t, list, 1)
	assert.Equal(t, map[string]string{"last": "60", "before": "20"}, list[0].Facts)
	count(slot(0), "refuse", 500)
	assert.Len(t, met(), 1, "once an hour")
}

// TestErasedVisitsLeaveMessages: what messages say of a visit goes with it.
func TestErasedVisitsLeaveMessages(t *testing.T) {
	t.Parallel()
	s, now := open(t), time.Now().UTC().Truncate(time.Millisecond)
	saved(t, s, "first", notice.Trigger{Kind: notice.OnCountry, Days: 90})
	one, two := of(t, now.Add(-time.Minute), "PT"), of(t, now.Add(-time.Minute), "JP")
	add(t, s, one, two)
	rows := s.Notices()
	list, err := rows.Triggered(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, list, 2)
	letter := func(id uuid.UUID) notice.Letter {
		made, err := visit.NewID(now, crypto.Reader)
		require.NoError(t, err)
		return notice.Letter{ID: made, Site: site, Notice: "first", Channel: "mail", Kind: notice.Mail, Keys: []string{"=PT"}, Visits: []uuid.UUID{id}, Created: now, Subject: "secret", Text: "secret", HTML: "secret", Facts: map[string]string{"city": "secret"}, Recipients: []notice.Recipient{{Address: "a@b.example", State: notice.Waiting}}, State: notice.Waiting, NextTry: now}
	}
	waits, sent := letter(one.ID), letter(one.ID)
	require.NoError(t, rows.Write(t.Context(), notice.Written{Site: site, Notice: "first", Letters: []notice.Letter{waits, sent}}, now))
	sent.State, sent.Finished = notice.Delivered, &now
	require.NoError(t, rows.Record(t.Context(), &sent, []string{"a@b.example"}, now))
	_, err = s.Erase(t.Context(), visit.Erasure{ID: one.ID}, now)
	require.NoError(t, err)
	left, err := rows.Triggered(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "JP", left[0].Key)
	for id, state := range map[uuid.UUID]notice.MessageState{waits.ID: notice.Dropped, sent.ID: notice.Delivered} {
		l, err := rows.Message(t.Context(), site, id)
		require.NoError(t, err)
		assert.Equal(t, state, l.State)
		assert.NotContains(t, fmt.Sprint(l), "secret")
	}
	// A week later nothing is left but what waits.
	_, err = s.Maintain(t.Context(), now.Add(8*24*time.Hour))
	require.NoError(t, err)
	messages, err := rows.Messages(t.Context(), site, "", uuid.Nil, 10)
	require.NoError(t, err)
	assert.Empty(t, messages)
}
