//go:build linux && !client

package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAccountsOfTheStandIn(t *testing.T) {
	data := filepath.Join(t.TempDir(), "standin")
	list, err := standinAccounts(data, []string{"skerry", "harbour"}, []string{"north", "south"})
	require.NoError(t, err)
	require.Len(t, list, 4)
	assert.Equal(t, data, list[0].folder, "where one account in one region always was")
	assert.Equal(t, filepath.Join(data, "key"), list[0].keyFile)
	folders, sites := map[string]bool{}, map[string]bool{}
	for i, v := range list {
		folders[v.folder], sites[v.site] = true, true
		assert.Equal(t, []string{"north", "south"}[i%2], v.region)
		assert.Equal(t, list[i/2*2].key, v.key, "an account has one key in all regions")
		info, err := os.Stat(v.keyFile)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
	assert.Len(t, folders, 4)
	assert.Len(t, sites, 4, "each line can be followed")
	assert.NotEqual(t, list[0].key, list[2].key)
	again, err := standinAccounts(data, []string{"skerry", "harbour"}, []string{"north", "south"})
	require.NoError(t, err)
	assert.Equal(t, list, again)

	for _, c := range []struct {
		accounts, regions []string
		says              string
	}{
		{nil, []string{"north"}, "-account needs a name"},
		{[]string{"skerry"}, []string{"north", "north"}, `-region: "north" is no name, or is there twice`},
		{[]string{"../skerry"}, []string{"north"}, `-account: "../skerry" is no name`},
		{[]string{"skerry"}, []string{"North"}, `-region: "North" is no name`},
	} {
		_, err := standinAccounts(data, c.accounts, c.regions)
		assert.ErrorContains(t, err, c.says)
	}
}
