package survey

import (
	"path"
	"slices"
	"strings"
)

// A place is a folder, or one inside a container, and a role of the files in it.
type place struct {
	folder string
	role   Role
}

// neighbours are the items with one role in one folder, in the order of their paths.
type neighbours struct {
	items []int
	// stems holds them by their paths without the last ending.
	stems map[string][]int
}

// stemOf returns a path without its last ending.
func stemOf(p string) string { return strings.TrimSuffix(p, path.Ext(p)) }

// nearby returns the items with a role in the same folder as a file. They are looked up,
// for a folder of n files may hold as many that leave open which of the others they are
// about.
func (s *planner) nearby(file string, role Role) *neighbours {
	if s.places == nil {
		s.places = map[place]*neighbours{}
		for i := range s.out.Items {
			it := &s.out.Items[i]
			at := place{path.Dir(it.Path), it.Role}
			n := s.places[at]
			if n == nil {
				n = &neighbours{stems: map[string][]int{}}
				s.places[at] = n
			}
			n.items = append(n.items, i)
			stem := stemOf(it.Path)
			n.stems[stem] = append(n.stems[stem], i)
		}
		for _, n := range s.places {
			slices.SortFunc(
				n.items, func(a, b int) int { return strings.Compare(s.out.Items[a].Path, s.out.Items[b].Path) },
			)
		}
	}
	if n := s.places[place{path.Dir(file), role}]; n != nil {
		return n
	}
	return &neighbours{}
}

// beginning returns those of the neighbours whose paths begin with prefix, but no more
// than most.
func (s *planner) beginning(n *neighbours, prefix string, most int) []int {
	from, _ := slices.BinarySearchFunc(
		n.items, prefix, func(i int, prefix string) int { return strings.Compare(s.out.Items[i].Path, prefix) },
	)
	to := from
	for to < len(n.items) && to-from < most && strings.HasPrefix(s.out.Items[n.items[to]].Path, prefix) {
		to++
	}
	return n.items[from:to]
}
