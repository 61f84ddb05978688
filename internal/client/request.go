package client

import (
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
)

// A request is what an operation sends.
type request struct {
	path    string
	query   url.Values
	headers http.Header
	// body is sent as JSON, unless it is nil.
	body any
	// raw is a body that is sent as it is.
	raw []byte
}

// requestOf fills in the path of an operation and gathers what else it sends, by
// the tags of the fields of in. Fields of the query and the headers that have
// their zero value are left out.
func requestOf(path string, in any) request {
	r := request{path: path, query: url.Values{}, headers: http.Header{}}
	v := reflect.ValueOf(in)
	for i := range v.NumField() {
		field, value := v.Type().Field(i), v.Field(i)
		if field.Name == "Body" {
			r.body = value.Interface()
			continue
		}
		if field.Name == "RawBody" {
			r.raw = value.Bytes()
			continue
		}
		if name, ok := field.Tag.Lookup("path"); ok {
			r.path = strings.ReplaceAll(r.path, "{"+name+"}", url.PathEscape(fmt.Sprint(value)))
		} else if value.IsZero() {
			continue
		} else if name, ok := field.Tag.Lookup("query"); ok {
			r.query.Set(name, fmt.Sprint(value))
		} else if name, ok := field.Tag.Lookup("header"); ok {
			r.headers.Set(name, fmt.Sprint(value))
		}
	}
	return r
}
