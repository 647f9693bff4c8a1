package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func addJob(t *testing.T, s *Store, j Job, at time.Time, parts ...JobPart) (id int64) {
	t.Helper()
	write(t, s, func(tx *Tx) (err error) {
		id, err = tx.AddJob(j, at, parts...)
		return err
	})
	return id
}

// TestAJobWaitsOncePerSubject: asked for again it begins anew, with the new arguments and no later than it would have.
func TestAJobWaitsOncePerSubject(t *testing.T) {
	s := open(t)
	id := addJob(t, s, Job{Kind: "serve", Subject: "item 1", Args: `{"a":1}`, Who: "Edda"}, now)
	write(t, s, func(tx *Tx) error {
		j, err := tx.Job(id)
		require.NoError(t, err)
		j.Mark, j.Attempts, j.Error = 40, 3, "the file was busy"
		return tx.PutJob(j)
	})
	again := addJob(t, s, Job{Kind: "serve", Subject: "item 1", Args: `{"a":2}`}, now.Add(time.Hour))
	assert.Equal(t, id, again)
	j, err := s.Job(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, `{"a":2} 0 0  2`, fmt.Sprint(j.Args, " ", j.Mark, " ", j.Attempts, " ", j.Error, " ", j.Asked))
	assert.Equal(t, micros(now), j.NextAt)

	other := addJob(t, s, Job{Kind: "serve", Subject: "item 2"}, now.Add(time.Minute))
	assert.NotEqual(t, id, other)
	write(t, s, func(tx *Tx) error {
		there, err := tx.HasJob("serve", "item 2")
		assert.True(t, there)
		if err == nil {
			there, err = tx.HasJob("tidy", "item 2")
			assert.False(t, there)
		}
		return err
	})

	j.State, j.EndedAt = JobDone, micros(now)
	write(t, s, func(tx *Tx) error { return tx.PutJob(j) })
	assert.NotEqual(t, id, addJob(t, s, Job{Kind: "serve", Subject: "item 1"}, now), "what is done is not begun again")
	list, err := s.OpenJobs(t.Context(), 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
}

// TestJobsComeWhenTheyAreDue: of a kind the one that waits longest, and none before its time.
func TestJobsComeWhenTheyAreDue(t *testing.T) {
	s := open(t)
	addJob(t, s, Job{Kind: "ship", Subject: "late"}, now.Add(time.Hour))
	early := addJob(t, s, Job{Kind: "ship", Subject: "early"}, now)
	addJob(t, s, Job{Kind: "rates", Subject: "S1"}, now.Add(time.Minute))
	_, err := s.DueJob(t.Context(), "ship", now.Add(-time.Second))
	require.ErrorIs(t, err, ErrNotFound)
	j, err := s.DueJob(t.Context(), "ship", now.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, early, j.ID)
	next, err := s.NextJobs(t.Context())
	require.NoError(t, err)
	assert.Len(t, next, 2)
	assert.True(t, next["ship"].Equal(now) && next["rates"].Equal(now.Add(time.Minute)), "%v", next)
}

// TestPartsHaveOutcomesOfTheirOwn: one that is refused leaves the others, and each is told.
func TestPartsHaveOutcomesOfTheirOwn(t *testing.T) {
	s := open(t)
	id := addJob(t, s, Job{Kind: "tag", Subject: "batch 1"}, now, JobPart{Subject: "R1", Was: "[]"}, JobPart{Subject: "R2"},
		JobPart{Subject: "R3"})
	write(t, s, func(tx *Tx) error {
		if err := tx.SettleJobPart(id, JobPart{Position: 1, State: JobDone, Text: "tagged", Was: "[]"}); err != nil {
			return err
		}
		if err := tx.SettleJobPart(id, JobPart{Position: 3, State: JobRefused, Text: "has the tag already"}); err != nil {
			return err
		}
		settled, done, err := tx.CountJobDone(id)
		assert.Equal(t, "2 1", fmt.Sprint(settled, done))
		return err
	})
	done, err := s.CountDone(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, int64(1), done)
	for want, states := range map[string][]string{"[1 2 3]": nil, "[2]": {JobWaiting, JobUnderWay}, "[1 3]": {JobDone, JobRefused}} {
		var at []int64
		for after := int64(0); ; {
			page, err := s.JobParts(t.Context(), id, after, 1, states...)
			require.NoError(t, err)
			if len(page) == 0 {
				break
			}
			after = page[0].Position
			at = append(at, after)
		}
		assert.Equal(t, want, fmt.Sprint(at))
	}
	none, err := s.CountDone(t.Context(), 99)
	require.NoError(t, err)
	assert.Zero(t, none)
}
