package survey

import (
	"iter"
	"slices"

	"endeixis/core/container"
)

// PageLimits bound a page of findings. Of a zero value, [Findings.Pages] takes the limits that
// a service takes pages by.
type PageLimits struct {
	// Entries is how many files and containers are in a page at most, 2,000 if 0.
	Entries int
	// Bytes is how much content is in a page at most, before it is encoded, 8 MiB if 0. Names
	// and layouts count by an estimate.
	Bytes int
}

// layoutMember is what a member of a layout counts for, and layoutPart how many members are
// in one part of a layout at most.
const (
	layoutMember = 200
	layoutPart   = 20_000
)

// Pages cuts findings into pages that can be sent one by one: at least one, in the order of
// the findings. Content and layouts that do not fit in a page go on in the next, where their
// file or container is named again and Continued is set.
func (f *Findings) Pages(limits PageLimits) iter.Seq[Findings] {
	if limits.Entries == 0 {
		limits.Entries = 2000
	}
	if limits.Bytes == 0 {
		limits.Bytes = 8 << 20
	}
	return func(yield func(Findings) bool) {
		p := pager{limits: limits, yield: yield}
		p.begin()
		for _, file := range f.Files {
			if !p.file(file) {
				return
			}
		}
		for _, c := range f.Containers {
			if !p.container(c) {
				return
			}
		}
		yield(p.page)
	}
}

// A pager fills pages.
type pager struct {
	limits PageLimits
	yield  func(Findings) bool
	page   Findings
	weight int
}

func (p *pager) begin() {
	p.page, p.weight = Findings{Files: []Found{}, Containers: []Looked{}}, 0
}

// room makes room for an entry of some bytes, in another page where this one is full. It
// reports whether more is wanted.
func (p *pager) room(bytes int) bool {
	full := len(p.page.Files)+len(p.page.Containers) >= p.limits.Entries
	if full || p.weight > 0 && p.weight+bytes > p.limits.Bytes {
		if !p.yield(p.page) {
			return false
		}
		p.begin()
	}
	p.weight += bytes
	return true
}

func (p *pager) file(f Found) bool {
	if f.Content == nil {
		if !p.room(len(f.Path)) {
			return false
		}
		p.page.Files = append(p.page.Files, f)
		return true
	}
	for part := range parts(f.Content, p.limits.Bytes) {
		if !p.room(len(part)) {
			return false
		}
		f.Content = part
		p.page.Files = append(p.page.Files, f)
		f.Continued = true
	}
	return true
}

func (p *pager) container(c Looked) bool {
	part := Looked{Path: c.Path, Trouble: c.Trouble}
	whole := container.Layout{}
	if c.Layout != nil {
		whole = *c.Layout
	}
	for members := range parts(whole.Members, layoutPart) {
		if !p.room(layoutMember * len(members)) {
			return false
		}
		layout := whole
		layout.Members = members
		part.Layout = &layout
		p.page.Containers = append(p.page.Containers, part)
		part.Continued = true
		whole = container.Layout{Format: whole.Format, Compression: whole.Compression}
	}
	for name, content := range c.Contents {
		for bytes := range parts(content, p.limits.Bytes) {
			if !p.room(len(bytes)) {
				return false
			}
			p.page.Containers = append(
				p.page.Containers, Looked{Path: c.Path, Contents: map[string][]byte{name: bytes}, Continued: true},
			)
		}
	}
	return true
}

// parts cuts a list into parts of at most so many, one of them at least.
func parts[T any](list []T, most int) iter.Seq[[]T] {
	if len(list) == 0 {
		return slices.Values([][]T{list})
	}
	return slices.Chunk(list, most)
}
