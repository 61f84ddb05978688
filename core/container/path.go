package container

import "strings"

// Separator stands between a container's path and the name of a member. It
// cannot be part of a file's own path.
const Separator = "//"

// Within splits the path of a file inside another at the innermost container.
// For a file of the folder, container is empty.
func Within(p string) (container, name string) {
	if i := strings.LastIndex(p, Separator); i >= 0 {
		return p[:i], p[i+len(Separator):]
	}
	return "", p
}

// Outermost returns the file of the folder that a path leads to or into.
func Outermost(p string) string {
	outer, _, _ := strings.Cut(p, Separator)
	return outer
}
