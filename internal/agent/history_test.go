package agent

import (
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAReaderThatComesLateGetsWhatIsKept(t *testing.T) {
	h := newHistory(8)
	_, err := h.Write([]byte("0123456789abcdef"))
	require.NoError(t, err)
	h.Close()
	b, err := io.ReadAll(h.follow())
	require.NoError(t, err)
	assert.Equal(t, "89abcdef", string(b))
}

func TestReadersWhoKeepUpMissNothing(t *testing.T) {
	h := newHistory(64)
	readers := []*historyReader{h.follow(), h.follow()}
	got := make(chan string, len(readers))
	for _, r := range readers {
		go func() {
			b, _ := io.ReadAll(r)
			got <- string(b)
		}()
	}
	text := strings.Repeat("the tide comes in and goes out again; ", 1000)
	_, err := h.Write([]byte(text))
	require.NoError(t, err)
	h.Close()
	for range readers {
		assert.Equal(t, text, <-got)
	}
}

func TestAReaderThatStallsHoldsNobodyUpForLong(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHistory(64)
		stalled := h.follow()
		begun := time.Now()
		_, err := h.Write([]byte(strings.Repeat("x", 1000) + "end"))
		require.NoError(t, err)
		assert.Equal(t, stallAfter, time.Since(begun), "it waited, and then no more")
		h.Close()
		b, err := io.ReadAll(stalled)
		require.NoError(t, err)
		assert.Len(t, b, 64)
		assert.True(t, strings.HasSuffix(string(b), "end"))
	})
}

func TestWhoOverhearsHoldsNobodyUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHistory(64)
		r := h.overhear()
		begun := time.Now()
		_, err := h.Write([]byte(strings.Repeat("x", 1000) + "end"))
		require.NoError(t, err)
		assert.Equal(t, time.Duration(0), time.Since(begun))
		b := make([]byte, 100)
		n, err := r.Read(b)
		require.NoError(t, err)
		assert.True(t, strings.HasSuffix(string(b[:n]), "end"))
		_, err = h.Write([]byte(strings.Repeat("y", 200)))
		require.NoError(t, err)
		assert.Equal(t, time.Duration(0), time.Since(begun), "nor one that had kept up")
	})
}

func TestAClosedReaderEndsAndHoldsNobodyUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHistory(16)
		r := h.follow()
		ended := make(chan error)
		go func() {
			_, err := io.ReadAll(r)
			ended <- err
		}()
		synctest.Wait()
		r.Close()
		require.NoError(t, <-ended)
		begun := time.Now()
		_, err := h.Write(make([]byte, 1000))
		require.NoError(t, err)
		assert.Zero(t, time.Since(begun))
	})
}
