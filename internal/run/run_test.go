package run

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/source"
)

func TestNames(t *testing.T) {
	for _, good := range []string{"a", "timetable", "tide-2", "a1-b2-c3", strings.Repeat("a", 40)} {
		assert.NoError(t, CheckName(good), good)
	}
	for _, bad := range []string{"", "A", "1a", "-a", "a-", "a--b", "a_b", "a.b", "a b", "über", "../x", strings.Repeat("a", 41)} {
		err := CheckName(bad)
		assert.Equal(t, "bad-name", fault.Code(err), bad)
		assert.NotEmpty(t, fault.Remedy(err))
	}
	for address, want := range map[string]string{"https://h/Quay_Board.git": "quay-board", "https://h/x/--Tide--": "tide", "https://h/" + strings.Repeat("a-", 30): strings.TrimSuffix(strings.Repeat("a-", 20), "-")} {
		a, err := source.Parse(address)
		require.NoError(t, err)
		assert.Equal(t, want, suggestName(a))
		assert.NoError(t, CheckName(suggestName(a)))
	}
}

// written is what a sink would write to the records.
func written(s *logSink) (lines []string) {
	for _, l := range s.pending {
		lines = append(lines, l.Text)
	}
	return lines
}

func TestLinesOfAnOutput(t *testing.T) {
	s := &logSink{}
	w := s.writer("tests: ")
	for _, part := range []string{"one\ntw", "o\r\n", "10%\r50%\r100%\n", "bad \xff\x00 bytes\n", strings.Repeat("x", maxLine+1), "\nno end"} {
		n, err := w.Write([]byte(part))
		require.NoError(t, err)
		assert.Equal(t, len(part), n)
	}
	require.NoError(t, w.(*lineWriter).Close())
	assert.Equal(t, []string{"tests: one", "tests: two", "tests: 100%", "tests: bad \uFFFD bytes", "tests: " + strings.Repeat("x", maxLine), "tests: x", "tests: no end"}, written(s))
}

func TestOfALongOutputTheBeginningAndTheEndAreKept(t *testing.T) {
	s := &logSink{}
	s.begin(3)
	for range keepFirst + keepLast + 100 {
		s.say("middle")
	}
	s.say("end")
	assert.Len(t, s.pending, keepFirst)
	assert.Equal(t, 101, s.dropped)
	assert.Equal(t, "end", s.last[len(s.last)-1].Text)
}

// A command that prints without end fills neither memory nor the records, with lines or without.
func TestAnOutputWithoutEnd(t *testing.T) {
	for what, piece := range map[string]string{"no line": strings.Repeat("x", 64<<10), "long lines": strings.Repeat(strings.Repeat("y", 4000)+"\n", 16)} {
		s := &logSink{}
		s.begin(1)
		w := s.writer("")
		for range 500 {
			n, err := w.Write([]byte(piece))
			require.NoError(t, err)
			require.Equal(t, len(piece), n)
		}
		s.finish()
		total := 0
		for _, l := range s.pending {
			total += len(l.Text)
		}
		assert.Less(t, total, keepFirstBytes+keepLastBytes+2*maxLine, what)
		assert.Greater(t, total, keepFirstBytes, what)
		assert.Contains(t, strings.Join(written(s), "\n"), "lines left out", what)
	}
}

// Whoever prints a log is not steered by it.
func TestALogHasNoEscapeSequences(t *testing.T) {
	s := &logSink{}
	_, err := s.writer("").Write([]byte("\x1b[31mred\x1b[0m \x1b]0;title\x07 \x1b[8mhidden\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"red ␛]0;title␇ hidden"}, written(s))
}

func TestTheReasonOfAFailureCarriesItsRemedy(t *testing.T) {
	err := fault.Wrap(errors.New("exit status 3"), "command-failed", "correct it", "postCreateCommand failed: make")
	assert.Equal(t, "postCreateCommand failed: make: exit status 3. What to do: correct it.", reasonOf(err))
	assert.Equal(t, "plain", reasonOf(errors.New("plain")))
}
