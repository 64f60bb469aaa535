package rows

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
)

// JobState is how far a job is.
type JobState string

// The states of a job.
const (
	JobWaiting   JobState = "waiting"
	JobRunning   JobState = "running"
	JobDone      JobState = "done"
	JobPart      JobState = "part" // done in part
	JobFailed    JobState = "failed"
	JobCancelled JobState = "cancelled"
)

// Ended tells whether nothing more happens.
func (s JobState) Ended() bool { return s != JobWaiting && s != JobRunning }

// Job is a piece of long work. Jobs outlive the process: a restart resumes them.
type Job struct {
	ID        int64
	Kind      string
	State     JobState
	By        string
	Request   json.RawMessage
	Doing     string
	Done      int64
	Total     int64 // 0 while unknown
	Bytes     int64
	CreatedAt time.Time
	EndedAt   time.Time
	Error     string
	Receipt   int64 // 0 where there is none
	Outcomes  []Outcome
	Parts     []Part // of a survey, in the order in which they were asked for
}

// Part is one source of a survey: a piece of the job that goes on, fails and ends by itself.
type Part struct {
	Source  copies.SourceID `json:"source"`
	Machine string          `json:"machine"` // on which its store lies
	State   JobState        `json:"state"`
	Done    int64           `json:"done"`            // copies
	Read    int64           `json:"read,omitempty"`  // of Total, in a measure of the store's own
	Total   int64           `json:"total,omitempty"` // 0 while unknown
	Doing   string          `json:"doing,omitempty"`
}

// Outcome is what a survey of one source came to.
type Outcome struct {
	Source Surveyed `json:"source"`
	Found  int64    `json:"found"`
	Fresh  int64    `json:"fresh"`
	Gone   int64    `json:"gone"`
	Notes  []string `json:"notes"`
	Error  string   `json:"error"`
}

// Surveyed is a source as it was when it was surveyed, as far as that is told of it afterwards.
type Surveyed struct {
	ID      copies.SourceID
	Kind    string
	Machine string
	At      string
	Drive   string `json:",omitempty"`
}

// SurveyedOf is what is told of a source.
func SurveyedOf(s copies.Source) Surveyed {
	return Surveyed{s.ID, s.Kind, s.Machine, s.At, s.Drive}
}

// Jobs are pieces of long work.
type Jobs struct{ f *file.File }

// NewJobs returns those of a file.
func NewJobs(f *file.File) *Jobs { return &Jobs{f} }

// Add adds a waiting job that works on machines; one that has a receipt works on those of that.
func (c *Jobs) Add(ctx context.Context, j Job, machines ...copies.MachineID) (Job, error) {
	j.State = JobWaiting
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		r, err := w.ExecContext(ctx, "INSERT INTO jobs (kind, state, by, request, created_at, total, receipt_id) VALUES (?, ?, ?, ?, ?, ?, ?)",
			j.Kind, string(j.State), j.By, string(j.Request), j.CreatedAt.UnixNano(), j.Total, sql.NullInt64{Int64: j.Receipt, Valid: j.Receipt != 0})
		if err != nil {
			return err
		}
		if j.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return w.Exec(ctx, "INSERT INTO job_machines (job_id, machine_id) SELECT DISTINCT ?, m.id FROM json_each(?) e "+
			"JOIN machines m ON m.id = e.value", j.ID, file.ToJSON(machines))
	})
	return j, err
}

// Save keeps a job's progress.
func (c *Jobs) Save(ctx context.Context, j Job) error {
	return file.Affected(
		c.f.Write.ExecContext(
			ctx,
			`UPDATE jobs SET state = ?, doing = ?, done = ?, total = ?, bytes = ?, ended_at = ?, error = ?, outcomes = ?, parts = ? WHERE id = ?`,
			j.State,
			j.Doing,
			j.Done,
			j.Total,
			j.Bytes,
			file.Nanos(j.EndedAt),
			j.Error,
			file.ToJSON(j.Outcomes),
			file.ToJSON(j.Parts),
			j.ID,
		),
	)
}

// ByID returns a job by its number.
func (c *Jobs) ByID(ctx context.Context, id int64) (Job, error) {
	all, err := c.jobs(ctx, "id = ?", id)
	return oneJob(all, err, id)
}

func oneJob(all []Job, err error, id int64) (Job, error) {
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("job j%d: %w", id, problem.NotKnown)
	}
	if err != nil {
		return Job{}, err
	}
	return all[0], nil
}

func (c *Jobs) before(ctx context.Context, within, kind string, before int64, limit int) ([]Job, error) {
	return c.jobs(ctx, within+" AND (?1 = '' OR kind = ?1) AND (?2 = 0 OR id < ?2) ORDER BY id DESC LIMIT ?3", kind, before, limit)
}

// Unfinished lists what the last stop interrupted, oldest first.
func (c *Jobs) Unfinished(ctx context.Context) ([]Job, error) {
	return c.jobs(ctx, "state IN ('waiting', 'running') ORDER BY id")
}

func (c *Jobs) jobs(ctx context.Context, where string, args ...any) ([]Job, error) {
	rows, err := c.f.Read.QueryContext(ctx, `SELECT id, kind, state, by, request, doing, done, total, bytes, created_at, ended_at, error,
		coalesce(receipt_id, 0), outcomes, parts FROM jobs WHERE `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Job
	for rows.Next() {
		var j Job
		var created, ended sql.NullInt64
		var request, outcomes, parts string
		if err := rows.Scan(&j.ID, &j.Kind, &j.State, &j.By, &request, &j.Doing, &j.Done, &j.Total, &j.Bytes, &created, &ended,
			&j.Error, &j.Receipt, &outcomes, &parts); err != nil {
			return nil, err
		}
		j.Request, j.CreatedAt, j.EndedAt = json.RawMessage(request), file.Moment(created), file.Moment(ended)
		if j.Outcomes, err = file.FromJSON[[]Outcome](outcomes); err != nil {
			return nil, err
		}
		if j.Parts, err = file.FromJSON[[]Part](parts); err != nil {
			return nil, err
		}
		all = append(all, j)
	}
	return all, rows.Err()
}
