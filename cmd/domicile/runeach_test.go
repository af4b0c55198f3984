package main

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVersionsAreAllCombinations(t *testing.T) {
	list, err := variants([]string{"image=12, 13,,12", "build.args.LINE=a,b"}, "https://git.skerry.test/skerry/Tide-Tables 2.git/")
	require.NoError(t, err)
	var names []string
	taken := map[string]bool{}
	for _, v := range list {
		names = append(names, v.name())
		assert.Regexp(t, `^tide-tables-v[0-9a-f]{3,4}-[1-4]$`, v.Workspace)
		taken[v.Workspace] = true
	}
	assert.ElementsMatch(t, []string{"image=12 build.args.LINE=a", "image=12 build.args.LINE=b", "image=13 build.args.LINE=a", "image=13 build.args.LINE=b"}, names)
	assert.Len(t, taken, 4)
	_, err = variants([]string{"image=,"}, "x")
	assert.ErrorContains(t, err, "names no value")
	_, err = variants([]string{"image=1,2,3,4,5", "build.args.A=1,2,3,4"}, "x")
	assert.ErrorContains(t, err, "more than 16")
	assert.Equal(t, "version", versionsName("/123"))
}

func TestTheTableOfVersions(t *testing.T) {
	zero, three := 0, 3
	list := []*variant{{Vary: []string{"image=12"}, Status: &zero, ReadyMillis: 2300, Millis: 40, Output: "begun\nfine\n"}, {Vary: []string{"image=13"}, Status: &three, Output: "begun\nno such harbour\n"},
		{Vary: []string{"image=14"}, Status: &zero, Output: "begun\nfine\n"}, {Vary: []string{"image=15"}, Problem: "there is no image"}}
	var out bytes.Buffer
	printVersions(&terminal{out: &out}, list)
	lines := strings.Split(out.String(), "\n")
	assert.Regexp(t, `^VERSION +STATUS +READY AFTER +RAN +LAST LINE$`, lines[0])
	assert.Regexp(t, `^image=12 +0 +2\.3 s +0\.0 s +fine$`, lines[1])
	assert.Regexp(t, `^image=13 +3 .*no such harbour$`, lines[2])
	assert.Regexp(t, `^image=15 +- .*could not be tried$`, lines[4])
	assert.Contains(t, out.String(), "\n== image=12, image=14\nbegun\nfine\n\n== image=13\nbegun\nno such harbour\n", "what is the same is printed once")
	assert.Contains(t, out.String(), "\n== image=15\nthere is no image\n")
	assert.Equal(t, exitStatus(3), statusOf(list))
	assert.Equal(t, exitStatus(1), statusOf(list[3:]))
	assert.NoError(t, statusOf(list[:1]))
}

func TestOnlyTheBeginningOfEndlessOutputIsKept(t *testing.T) {
	b := &beginning{}
	for range 20 {
		n, err := b.Write(bytes.Repeat([]byte("x"), 100<<10))
		assert.NoError(t, err)
		assert.Equal(t, 100<<10, n)
	}
	assert.Len(t, b.String(), mostKept)
	assert.True(t, b.more)
}
