package agent

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A session is found by the word that was said last, whenever that was, and not after its person is gone.
func TestWhichSessionAWordNames(t *testing.T) {
	over, cancel := context.WithCancel(t.Context())
	cancel()
	var l holdings
	h := &holding{gone: make(chan struct{})}
	found := make(chan *holding)
	go func() { found <- l.find(t.Context(), "ebb") }()
	l.offer("ebb", h)
	assert.Same(t, h, <-found)
	l.offer("flood", h)
	assert.Same(t, h, l.find(over, "flood"))
	assert.Nil(t, l.find(over, "ebb"))
	l.forget(h)
	assert.Nil(t, l.find(over, "flood"))
	l.offer("late", h)
	assert.Nil(t, l.find(over, "late"))
	assert.Empty(t, l.by)
}
