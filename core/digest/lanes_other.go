//go:build !amd64 || !gc

package digest

// sixteenAtOnce returns nil: nothing here hashes sixteen lanes at once.
func sixteenAtOnce() func(*laneState, *[laneCount][]byte, int) { return nil }
