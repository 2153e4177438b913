//go:build !pantrydebug

package debugview_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/debugview"
)

func TestTwinDoesNothing(t *testing.T) {
	t.Parallel()
	ns, err := pantry.Open(t.TempDir(), "plotbook")
	require.NoError(t, err)
	defer func() { assert.NoError(t, ns.Close()) }()
	v, err := debugview.Open(ns, debugview.LAN(), debugview.Listen("no address"))
	require.NoError(t, err)
	assert.Empty(t, v.Link())
	assert.NoError(t, v.Close())
}
