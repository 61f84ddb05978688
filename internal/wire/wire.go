// Package wire holds the shapes that travel between the service and its
// clients, as JSON. The API fills them, the client reads them, and the OpenAPI
// document and the console's types are made from them.
package wire

import "endeixis/internal/fault"

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Give this as cursor to get the next page."`
	// Count is nil where nothing was counted.
	Count   *int `json:"count,omitempty" doc:"On the first page of a search: how many there are in all; up to 10,000 are counted."`
	AtLeast bool `json:"at_least,omitempty" doc:"There may be more than count says."`
}

// Problem is an error for people and programs (RFC 9457), with our own members
// code, advice, field and facts.
type Problem struct {
	Type   string     `json:"type"`
	Title  string     `json:"title"`
	Status int        `json:"status"`
	Detail string     `json:"detail"`
	Code   fault.Code `json:"code"`
	Advice string     `json:"advice,omitempty"`
	Field  string     `json:"field,omitempty"`
	Facts  []string   `json:"facts,omitempty"`
}

// Tagged is an answer that has a version, which is sent as its ETag (RFC 9110,
// section 8.8.3).
type Tagged interface{ Tag() string }
