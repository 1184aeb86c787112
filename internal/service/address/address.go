// Package address knows the addresses of a service's pages, relative to its own.
package address

import "net/url"

// Of is the address of a page, with values in it, in pairs of a name and a value; values that are empty are left out.
func Of(path string, pairs ...string) string {
	values := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			values.Set(pairs[i], pairs[i+1])
		}
	}
	if len(values) == 0 {
		return path
	}
	return path + "?" + values.Encode()
}

// Record is the address of a verdict's page.
func Record(id string) string { return Of("/record", "id", id) }

// Repository is the address of a repository's page.
func Repository(name string) string { return Of("/repository", "name", name) }
