// Package registry lists the clouds that there are. It is the only place that
// knows all adapters; everything above it opens a cloud by its name.
package registry

import (
	"fmt"
	"net/http"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/cloud/larch"
	"undersail/internal/cloud/openstack"
)

type entry struct {
	cloud.Kind
	// open makes the adapter of an account. Credentials are the fields that the cloud asks
	// for, by name; the error says which are missing.
	open func(endpoint string, credentials map[string]string, client *http.Client) (cloud.Adapter, error)
	// read takes endpoint and credentials from a form that the trade has, where it has one.
	read func(from cloud.Source) (endpoint string, credentials map[string]string, err error)
}

// clouds are those that there are; the first is meant where none is named.
var clouds = []entry{
	{larch.Kind, larch.Open, nil},
	{openstack.Kind, openstack.Open, openstack.Read},
}

// Kinds tells what is to be known of each cloud.
func Kinds() []cloud.Kind {
	out := make([]cloud.Kind, len(clouds))
	for i, c := range clouds {
		out[i] = c.Kind
	}
	return out
}

// Names lists the clouds.
func Names() []string {
	out := make([]string, len(clouds))
	for i, c := range clouds {
		out[i] = c.Name
	}
	return out
}

// Find tells what is to be known of a cloud. The error says which there are.
func Find(name string) (cloud.Kind, error) {
	c, err := find(name)
	return c.Kind, err
}

func find(name string) (entry, error) {
	for _, c := range clouds {
		if c.Name == name {
			return c, nil
		}
	}
	return entry{}, fmt.Errorf("there is no cloud %q; the clouds are: %s", name, strings.Join(Names(), ", "))
}

// Open makes the adapter of an account. It calls nothing. The error says which
// clouds there are, or which credentials are missing.
func Open(name, endpoint string, credentials map[string]string, client *http.Client) (cloud.Adapter, error) {
	c, err := find(name)
	if err != nil {
		return nil, err
	}
	return c.open(endpoint, credentials, client)
}

// Read takes endpoint and credentials from a source. Only clouds that have such forms do.
func Read(name string, from cloud.Source) (endpoint string, credentials map[string]string, err error) {
	c, err := find(name)
	switch {
	case err != nil:
		return "", nil, err
	case c.read == nil:
		return "", nil, fmt.Errorf("credentials of %s stand in no file that is read here; give them one by one",
			c.Title)
	}
	return c.read(from)
}
