package manifest

import "strings"

// A place is a name or a value in a row of words.
type place struct {
	// name is empty for a value, which is then the one with the index.
	name  string
	value int
}

// sentence ties the values in a row of words to the names in it: each to the nearest one
// before it, or behind it where the row begins with a value.
func (l *layout) sentence(s *shape) {
	places := l.placesIn(s.r)
	names := 0
	for _, pl := range places {
		if pl.name != "" {
			names++
		}
	}
	if names == 0 || names == len(places) {
		return
	}
	behind := places[0].name == ""
	if behind && names > 1 && !interleaved(places) {
		return
	}
	name := ""
	for i, pl := range places {
		if pl.name != "" {
			if !behind {
				name = pl.name
			}
			continue
		}
		if behind {
			name = nameBehind(places[i+1:])
			if names == 1 {
				name = onlyName(places)
			}
		}
		l.emitValue(s.r, s.r.values[pl.value], name, nil, FreeText)
	}
	s.r.kind = rowDone
}

// placesIn finds the names and values in a row, in their order.
func (l *layout) placesIn(r *laidRow) []place {
	var places []place
	segments := segmentsOf(r.text, r.values)
	for i, v := range r.values {
		// Of the names before a value the nearest one counts.
		if files := l.known.fileWords(segments[i]); len(files) > 0 {
			places = append(places, place{name: wholePath(segments[i], files[len(files)-1])})
		}
		if v.digest != nil || v.wrong != "" {
			places = append(places, place{value: i})
		}
	}
	last := segments[len(segments)-1]
	for _, file := range l.known.fileWords(last) {
		places = append(places, place{name: wholePath(last, file)})
	}
	return places
}

// interleaved reports whether each value has its name right behind it.
func interleaved(places []place) bool {
	for i, pl := range places {
		if (pl.name == "") != (i%2 == 0) {
			return false
		}
	}
	return len(places)%2 == 0
}

func nameBehind(places []place) string {
	if len(places) == 0 {
		return ""
	}
	return places[0].name
}

func onlyName(places []place) string {
	for _, pl := range places {
		if pl.name != "" {
			return pl.name
		}
	}
	return ""
}

// wholePath returns the path that a name is the end of, where that must not be used: the
// file that is meant is not one of that name here.
func wholePath(text, name string) string {
	at := strings.Index(text, name)
	start := at
	for start > 0 && strings.IndexByte(" \t\"'`()[]{}<>,;|=*", text[start-1]) < 0 {
		start--
	}
	if at >= 0 {
		if path := text[start : at+len(name)]; !isAddress(path) {
			if _, _, safe := SafeName(path); !safe {
				return path
			}
		}
	}
	return name
}
