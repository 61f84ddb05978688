package wire

import "time"

// Publisher is a publisher.
type Publisher struct {
	Slug    string    `json:"slug"`
	Name    string    `json:"name"`
	Contact string    `json:"contact"`
	Scope   []string  `json:"scope"`
	Created time.Time `json:"created"`
	By      string    `json:"by"`
	Version string    `json:"version" doc:"Another with every change; also the ETag."`
}

// Tag is the version, for a header.
func (p Publisher) Tag() string { return p.Version }

// AddPublisherRequest carries a new publisher.
type AddPublisherRequest struct{ Body NewPublisher }

// NewPublisher is a publisher to be added.
type NewPublisher struct {
	Slug    string   `json:"slug" maxLength:"64"`
	Name    string   `json:"name" maxLength:"200"`
	Contact string   `json:"contact,omitempty" maxLength:"2000"`
	Scope   []string `json:"scope,omitempty" maxItems:"100" doc:"Patterns of the file names that this publisher may sign."`
}

// PublisherAt names a publisher.
type PublisherAt struct {
	Slug string `path:"slug"`
}

// SetPublisherRequest changes a publisher.
type SetPublisherRequest struct {
	Slug    string `path:"slug"`
	IfMatch string `header:"If-Match" maxLength:"100" doc:"The version that you saw, in quotes: nothing is changed when there is another."`
	Body    PublisherChange
}

// PublisherChange holds what is to change about a publisher; what is left out
// stays.
type PublisherChange struct {
	Name    *string  `json:"name,omitempty" maxLength:"200"`
	Contact *string  `json:"contact,omitempty" maxLength:"2000"`
	Scope   []string `json:"scope,omitempty" maxItems:"100" doc:"In place of the patterns there are."`
}
