package wire

import (
	"fmt"
	"strconv"
)

// The levels of the API. Within a level operations keep their path, their meaning and their
// members; a new member may come, an old one stays. Requests and answers name theirs in
// [LevelHeader]; one that names none is of level 1.
const (
	Level = 2
	// OldestLevel is the oldest that is served beside it.
	OldestLevel = max(1, Level-1)

	LevelHeader = "Endeixis-Level"
	// VersionHeader names the program that asks or answers, for people.
	VersionHeader = "Endeixis-Version"
)

// LevelOf reads the level that a request or an answer names: 1 where it names none, and -1 where
// that is no level.
func LevelOf(header string) int {
	if header == "" {
		return 1
	}
	level, err := strconv.Atoi(header)
	if err != nil || level < 1 || level > 1<<20 {
		return -1
	}
	return level
}

// Levels says what levels of the API are served, for people.
func Levels() string {
	if OldestLevel == Level {
		return fmt.Sprintf("level %d", Level)
	}
	return fmt.Sprintf("levels %d to %d", OldestLevel, Level)
}
