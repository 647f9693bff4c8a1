package store

import (
	"context"
	"fmt"
	"time"
)

// Job is work that waits for the outside, or walks through a long list. It goes on where it was when the process ends.
type Job struct {
	ID        int64  `db:"id"`
	Kind      string `db:"kind"`
	Subject   string `db:"subject"` // at most one job of a kind waits for a subject
	Args      string `db:"args"`    // JSON, as its kind says
	State     string `db:"state"`   // waiting or done
	Who       string `db:"who"`
	Total     int64  `db:"total"` // parts, where it has some
	Done      int64  `db:"done"`
	Mark      int64  `db:"mark"` // how far it came in a list
	Error     string `db:"error"`
	Attempts  int64  `db:"attempts"` // failures in a row
	Asked     int64  `db:"asked"`    // how often it was asked for; it begins anew each time
	CreatedAt int64  `db:"created_at"`
	NextAt    int64  `db:"next_at"`
	EndedAt   int64  `db:"ended_at"`
	UndoneAt  int64  `db:"undone_at"`
}

// JobPart is one part of a job with an outcome of its own.
type JobPart struct {
	Position int64  `db:"position"`
	Subject  string `db:"subject"`
	State    string `db:"state"` // waiting, under way, done or refused
	Text     string `db:"text"`
	Was      string `db:"was"` // what undoing brings back, or what is waited for
}

// The states of jobs and their parts.
const (
	JobWaiting  = "waiting"
	JobUnderWay = "under way" // of a part: asked for at the outside
	JobDone     = "done"
	JobRefused  = "refused" // of a part
)

const jobCols = "id, kind, subject, args, state, who, total, done, mark, error, attempts, asked, created_at, next_at, ended_at, undone_at"

// AddJob queues a job with its parts and returns its id. A job of this kind that waits for the same subject begins
// anew instead, with the new arguments.
func (t *Tx) AddJob(j Job, now time.Time, parts ...JobPart) (int64, error) {
	id, err := t.id("job")
	if err != nil {
		return 0, err
	}
	if j.Args == "" {
		j.Args = "{}"
	}
	if j.NextAt == 0 {
		j.NextAt = micros(now)
	}
	fresh := id
	if err := t.get(&id, `INSERT INTO job (id, kind, subject, args, who, total, created_at, next_at) VALUES (?,?,?,?,?,?,?,?)
		ON CONFLICT (kind, subject) WHERE state = 'waiting' DO UPDATE SET asked=job.asked+1, args=excluded.args, mark=0,
		attempts=0, error='', next_at=min(job.next_at, excluded.next_at) RETURNING id`,
		id, j.Kind, j.Subject, j.Args, j.Who, len(parts), micros(now), j.NextAt); err != nil {
		return 0, fmt.Errorf("queue job %s %s: %w", j.Kind, j.Subject, err)
	}
	if id != fresh {
		return id, nil
	}
	rows := make([][]any, len(parts))
	for i, p := range parts {
		rows[i] = []any{id, i + 1, p.Subject, JobWaiting, p.Was}
	}
	_, err = t.insertMany("INSERT INTO job_part (job_id, position, subject, state, was)", 5, rows)
	return id, err
}

// DueJob is the next job of a kind whose time has come.
func (s *Store) DueJob(ctx context.Context, kind string, now time.Time) (Job, error) {
	var j Job
	err := s.read.GetContext(ctx, &j, "SELECT "+jobCols+` FROM job WHERE state='waiting' AND kind=? AND next_at<=?
		ORDER BY next_at, id LIMIT 1`, kind, micros(now))
	return j, found(err)
}

// NextJobs tells when the next job of each kind is due.
func (s *Store) NextJobs(ctx context.Context) (map[string]time.Time, error) {
	var rows []struct {
		Kind string `db:"kind"`
		At   int64  `db:"at"`
	}
	err := s.read.SelectContext(ctx, &rows, "SELECT kind, min(next_at) AS at FROM job WHERE state='waiting' GROUP BY kind")
	out := map[string]time.Time{}
	for _, r := range rows {
		out[r.Kind] = Time(r.At)
	}
	return out, err
}

// Job loads a job.
func (s *Store) Job(ctx context.Context, id int64) (Job, error) {
	var j Job
	err := s.read.GetContext(ctx, &j, "SELECT "+jobCols+" FROM job WHERE id=?", id)
	return j, found(err)
}

// Job loads a job.
func (t *Tx) Job(id int64) (Job, error) {
	var j Job
	err := t.get(&j, "SELECT "+jobCols+" FROM job WHERE id=?", id)
	return j, err
}

// JobsOf lists the jobs of a kind, those that wait first, then the newest.
func (s *Store) JobsOf(ctx context.Context, kind string, limit int) (out []Job, err error) {
	return out, s.read.SelectContext(ctx, &out, "SELECT "+jobCols+` FROM job WHERE kind=? ORDER BY state<>'waiting', id DESC LIMIT ?`,
		kind, limit)
}

// EndJob ends a job of a kind that waits, and says why.
func (t *Tx) EndJob(id int64, kind, why string) error {
	return t.touch("UPDATE job SET state='done', error=?, ended_at=next_at WHERE id=? AND kind=? AND state='waiting'", why, id, kind)
}

// HasJob tells whether a job of a kind waits for a subject.
func (t *Tx) HasJob(kind, subject string) (bool, error) {
	var n int64
	err := t.get(&n, "SELECT count(*) FROM job WHERE state='waiting' AND kind=? AND subject=?", kind, subject)
	return n > 0, err
}

// PutJob writes how far a job has come.
func (t *Tx) PutJob(j Job) error {
	_, err := t.exec("UPDATE job SET args=?, state=?, done=?, mark=?, error=?, attempts=?, next_at=?, ended_at=?, undone_at=? WHERE id=?",
		j.Args, j.State, j.Done, j.Mark, j.Error, j.Attempts, j.NextAt, j.EndedAt, j.UndoneAt, j.ID)
	return err
}

// JobParts lists parts of a job in some states (none: all), in their order, after a position.
func (s *Store) JobParts(ctx context.Context, job, after int64, limit int, states ...string) ([]JobPart, error) {
	q, args := "SELECT position, subject, state, text, was FROM job_part WHERE job_id=? AND position>? ", []any{job, after}
	if len(states) > 0 {
		in, a := list(states)
		q += "AND state IN (" + in + ") "
		args = append(args, a...)
	}
	out := []JobPart{}
	err := s.read.SelectContext(ctx, &out, q+"ORDER BY position LIMIT ?", append(args, limit)...)
	return out, err
}

// SettleJobPart writes what became of a part.
func (t *Tx) SettleJobPart(job int64, p JobPart) error {
	_, err := t.exec("UPDATE job_part SET state=?, text=?, was=? WHERE job_id=? AND position=?", p.State, p.Text, p.Was, job, p.Position)
	return err
}

// CountJobDone counts the parts of a job that have their outcome, and those of them that were done.
func (t *Tx) CountJobDone(job int64) (settled, done int64, err error) {
	var row struct {
		Settled int64 `db:"settled"`
		Done    int64 `db:"done"`
	}
	err = t.get(&row, `SELECT coalesce(sum(state IN ('done','refused')),0) AS settled, coalesce(sum(state='done'),0) AS done
		FROM job_part WHERE job_id=?`, job)
	return row.Settled, row.Done, err
}

// CountDone counts the parts of a job that were done.
func (s *Store) CountDone(ctx context.Context, job int64) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, "SELECT count(*) FROM job_part WHERE job_id=? AND state='done'", job)
	return n, err
}

// OpenJobs lists the jobs that wait, oldest first.
func (s *Store) OpenJobs(ctx context.Context, limit int) ([]Job, error) {
	out := []Job{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+jobCols+" FROM job WHERE state='waiting' ORDER BY id LIMIT ?", limit)
	return out, err
}
