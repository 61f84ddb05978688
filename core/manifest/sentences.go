package manifest

import "strings"

// sentence ties the values in a row of words to the names in it: each to the nearest one
// before it, or behind it where the row begins with a value.
func (l *layout) sentence(s *shape) {
	r := s.r
	at := 0
	type place struct {
		name  string
		token int
	}
	var places []place
	names, values := 0, 0
	var order []byte
	for i, t := range r.tokens {
		files := l.p.fileWords(r.text[at:t.from])
		if len(files) > 1 {
			files = files[len(files)-1:]
		}
		for _, f := range files {
			places = append(places, place{name: wholePath(r.text[at:t.from], f)})
			names++
			order = append(order, 'N')
		}
		at = t.to
		if t.value == nil && t.wrong == "" {
			continue
		}
		places = append(places, place{token: i + 1})
		values++
		order = append(order, 'D')
	}
	if files := l.p.fileWords(r.text[at:]); len(files) > 0 {
		for _, f := range files {
			places = append(places, place{name: wholePath(r.text[at:], f)})
			names++
			order = append(order, 'N')
		}
	}
	if names == 0 || values == 0 {
		return
	}
	behind := order[0] == 'D'
	if behind {
		// Each value has its name right behind it, or there is one name for all.
		for i := range order {
			if names > 1 && ((order[i] == 'D') != (i%2 == 0) || len(order)%2 != 0) {
				return
			}
		}
	}
	name := ""
	if behind && names == 1 {
		for _, pl := range places {
			if pl.name != "" {
				name = pl.name
			}
		}
	}
	for i, pl := range places {
		switch {
		case pl.name != "":
			if !behind {
				name = pl.name
			}
		default:
			if behind && names > 1 {
				name = places[i+1].name
			}
			l.emitToken(r, r.tokens[pl.token-1], name, nil, FreeText)
		}
	}
	r.kind = rowDone
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
