package records

import (
	"context"
	"github.com/jackc/pgx/v5"
	"time"
)

// LogLine is a line of a run's log.
type LogLine struct {
	Run    int64
	Number int64 // from 1 in each run
	Step   int
	At     time.Time
	Text   string
}

// AddLog adds lines and tells of it.
func (q Queries) AddLog(ctx context.Context, w Workspace, run int64, lines []LogLine) error {
	number, step, at, text := columns(lines)
	return q.changeAndTell(ctx, nil, Event{Type: "log", Account: w.Account, Workspace: w.Name, Run: run},
		"INSERT INTO log (run, number, step, at, text) SELECT $1, l.* FROM unnest($2::bigint[], $3::integer[], $4::timestamptz[], $5::text[]) AS l", run, number, step, at, text)
}

func columns(lines []LogLine) (number []int64, step []int, at []time.Time, text []string) {
	for _, l := range lines {
		number, step, at, text = append(number, l.Number), append(step, l.Step), append(at, l.At), append(text, l.Text)
	}
	return number, step, at, text
}

// LastLogNumber is the number of a run's last line, 0 where it has none.
func (q Queries) LastLogNumber(ctx context.Context, run int64) (n int64, err error) {
	err = q.db.QueryRow(ctx, "SELECT coalesce(max(number), 0) FROM log WHERE run = $1", run).Scan(&n)
	return n, err
}

// DropLog removes the lines of a step that is come back to; they are read again from the agent.
func (q Queries) DropLog(ctx context.Context, run int64, step int) error {
	_, err := q.db.Exec(ctx, "DELETE FROM log WHERE run = $1 AND step = $2", run, step)
	return err
}

// MaxLogBytes is how much text Log returns at a time, and one line.
const MaxLogBytes = 1 << 20

// Log returns lines after a number, at most limit of them and about MaxLogBytes; step -1 means of all steps. After
// the last line it returns none.
func (q Queries) Log(ctx context.Context, run, after int64, step, limit int) (lines []LogLine, err error) {
	rows, err := q.db.Query(ctx, "SELECT run, number, step, at, text FROM log WHERE run = $1 AND number > $2 AND ($3 < 0 OR step = $3) ORDER BY number LIMIT $4", run, after, step, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for size := 0; size < MaxLogBytes && rows.Next(); {
		line, err := pgx.RowToStructByName[LogLine](rows)
		if err != nil {
			return nil, err
		}
		lines, size = append(lines, line), size+len(line.Text)
	}
	rows.Close()
	return lines, rows.Err()
}
