package version

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFull(t *testing.T) {
	revision := debug.BuildSetting{Key: "vcs.revision", Value: "3f2a9c1d04be00112233"}
	assert.Equal(t, Version, full(nil))
	assert.Equal(
		t, Version+"+3f2a9c1d04be", full([]debug.BuildSetting{revision, {Key: "vcs.modified", Value: "false"}}),
	)
	assert.Equal(
		t, Version+"+3f2a9c1d04be.changed", full([]debug.BuildSetting{{Key: "vcs.modified", Value: "true"}, revision}),
	)
	assert.Equal(t, Version, full([]debug.BuildSetting{{Key: "vcs.modified", Value: "true"}}))
}
